"""Connecting to a node: the way there, its host key, and what the server asks until it accepts the login.

The server's questions are passed on word for word to the prompter; answers are never kept. Nothing that
the SSH library raises leaves this module.
"""

from __future__ import annotations

import asyncio
import os
import socket
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import asyncssh

from yatagan.config.home import Home
from yatagan.config.nodes import Node
from yatagan.config.settings import ConnectionSettings
from yatagan.errors import CannotReach
from yatagan.nodes.failures import answers_refused, bad_key, explain
from yatagan.nodes.host_keys import HostKeys
from yatagan.nodes.login_events import LoginEvents
from yatagan.nodes.private_keys import NeedsPassPhrase, read_key
from yatagan.nodes.prompts import Prompter, Question
from yatagan.nodes.transport import PacketConnector

#: AES-GCM first: on machines with AES instructions it is twice as fast as the library's default.
_CIPHERS = (
    "aes128-gcm@openssh.com",
    "aes256-gcm@openssh.com",
    "chacha20-poly1305@openssh.com",
    "aes256-ctr",
    "aes192-ctr",
    "aes128-ctr",
)
#: Once the user is let in; a server may refuse it.
_COMPRESSIONS = ("zlib@openssh.com", "none")
#: The receive window of a channel. Refilled when half used, so it bounds the rate of a high-latency connection.
_WINDOW = 8 << 20
#: Tries at a key's pass phrase.
_PHRASES = 3


async def offered_methods(node: Node, home: Home) -> list[str]:
    """The login methods that the server offers this user (RFC 4252); empty when it does not say."""
    options = _base_options(node, home)
    try:
        async with asyncio.timeout(20):
            found = await asyncssh.get_server_auth_methods(node.address, **options)
    except (OSError, asyncssh.Error, ValueError, TimeoutError):
        return []
    return list(found)


def _base_options(node: Node, home: Home) -> dict[str, Any]:
    """Host, port and user from the node's entry and the user's SSH files; the entry wins."""
    options: dict[str, Any] = {
        "config": [str(home.ssh / "config")] if (home.ssh / "config").exists() else None,
    }
    if node.port is not None:
        options["port"] = node.port
    if node.user is not None:
        options["username"] = node.user
    return options


@dataclass(frozen=True, slots=True)
class Route:
    """How the user's SSH files lead to a node, and where its host keys are.

    `alias` replaces the host name when host keys are looked up; `jumps` are machines on the way, as in ProxyJump.
    """

    host: str
    port: int
    alias: str
    jumps: str
    is_direct: bool
    known_hosts: tuple[Path, ...]
    host_key_algorithms: str


def read_route(node: Node, home: Home) -> Route:
    """Read the user's SSH files for a node. Raises ValueError or asyncssh.ConfigParseError."""
    nothing: dict[str, Any] = {"client_keys": None, "agent_path": None, "known_hosts": None}
    found = asyncssh.SSHClientConnectionOptions(host=node.address, **nothing, **_base_options(node, home))
    jumps = found.tunnel if isinstance(found.tunnel, str) else ""
    files = [home.known_hosts]
    for setting, default in (
        ("UserKnownHostsFile", [home.ssh / name for name in _KNOWN_HOSTS_NAMES]),
        ("GlobalKnownHostsFile", [home.system_ssh / f"ssh_{name}" for name in _KNOWN_HOSTS_NAMES]),
    ):
        named: Any = found.config.get(setting)
        files += [_expanded(name, home) for name in named if name != "none"] if named else default
    return Route(
        found.host,
        found.port,
        found.host_key_alias or "",
        jumps,
        not jumps and not found.proxy_command,
        tuple(files),
        str(found.config.get("HostKeyAlgorithms") or ""),
    )


def _expanded(name: str, home: Home) -> Path:
    """A file named in the user's SSH files: `~` and `%d` stand for the home directory."""
    above = str(home.ssh.parent)
    if name == "~" or name.startswith("~/"):
        name = above + name[1:]
    return home.ssh / name.replace("%d", above)


@dataclass(frozen=True, slots=True)
class Way:
    """How a machine is reached and logged in to.

    `pinned` is an address that replaces the one of the node's entry. `through` is a connection to a machine on the
    way, which the new one then owns; without it the user's SSH files decide the way. `depth` counts such machines.
    `lasting`: only by what is on disk, not by what ends with the user's login session here: agent and tickets.
    `compress`: what the connection carries, where the server can.
    """

    pinned: tuple[str, int] | None = None
    through: asyncssh.SSHClientConnection | None = None
    depth: int = 0
    lasting: bool = False
    compress: bool = False


AS_SAVED = Way()


async def connect(
    node: Node, home: Home, settings: ConnectionSettings, client: LoginEvents, way: Way = AS_SAVED
) -> asyncssh.SSHClientConnection:
    """A connection that is logged in. Raises CannotReach."""
    pinned, through = way.pinned, way.through
    options: dict[str, Any] = {
        "client_factory": lambda: client,
        **_base_options(node, home),
        "encryption_algs": _CIPHERS,
        "compression_algs": _COMPRESSIONS if way.compress else None,
        "window": _WINDOW,
        "keepalive_interval": settings.keepalive,
        "keepalive_count_max": 3,
        # Not the library's connect_timeout, which would also count the time that a person takes to answer.
        "login_timeout": 600,
    }
    try:
        if node.key is not None:
            options.update(await _key_options(node, client.answers, lasting=way.lasting))
        if way.lasting:
            options |= {"agent_path": None, "gss_host": None}
        if pinned is not None:
            options.setdefault("port", pinned[1])
        route = read_route(node, home)
        if through is None and pinned is None and route.jumps:
            through = await _jump(node, route, home, settings, client.answers, way)
        if through is not None:
            options["tunnel"] = through
        elif pinned is not None or route.is_direct:
            options["tunnel"] = PacketConnector(pinned)
        connection = await _connect_trusted(node, route, client, options)
    except BaseException as error:
        if through is not None:
            through.abort()
        if isinstance(error, _EXPECTED):
            raise _why(node, client, error) from error
        raise
    if through is not None:
        connection.set_tunnel(through)  # closed with the connection
    return connection


#: What the SSH library raises when there is no connection to be had.
_EXPECTED = (OSError, asyncssh.Error, asyncssh.KeyImportError, ValueError, TimeoutError)


async def _connect_trusted(
    node: Node, route: Route, client: LoginEvents, options: dict[str, Any]
) -> asyncssh.SSHClientConnection:
    """Connect until the server shows an accepted host key; each connection shows one. Raises what connecting raises."""
    keys = HostKeys(node.name, node.trust, route.known_hosts, route.host_key_algorithms)
    keys.look_up([route.alias or route.host], options.get("port", route.port))
    for place in keys.damaged:
        client.answers.note(f"{place} cannot be read and is skipped")

    def known(host: str, address: str, port: int | None) -> tuple[list[asyncssh.SSHKey], ...]:
        """Certificates are the library's to check; each plain key is put to `LoginEvents.validate_host_public_key`."""
        found = keys.look_up([host] if route.alias else [host, address], port or 22)
        authorities = [each.key for each in found.authorities]
        return [], authorities, [each.key for each in found.revoked] if authorities else [], [], [], [], []

    while True:
        client.begin(keys)
        algorithms = keys.algorithms()
        attempt = asyncssh.connect(node.address, known_hosts=known, server_host_key_algs=algorithms, **options)
        try:
            return await client.see_through(asyncio.ensure_future(attempt))
        except asyncssh.HostKeyNotVerifiable:
            if not keys.another():
                raise


#: Names of files with host keys, in the user's directory; the machine's own begin with `ssh_`.
_KNOWN_HOSTS_NAMES = ("known_hosts", "known_hosts2")
#: Machines on the way to a node, at most.
_MOST_JUMPS = 8


async def _jump(
    node: Node,
    route: Route,
    home: Home,
    settings: ConnectionSettings,
    answers: Prompter,
    way: Way,
) -> asyncssh.SSHClientConnection:
    """Connect to the last machine on the way. Raises CannotReach, which names that machine."""
    if way.depth >= _MOST_JUMPS:
        raise ValueError("ProxyJump leads in a circle, or through too many machines")
    last: asyncssh.SSHClientConnection | None = None
    for hop in route.jumps.split(","):
        user, _, host = hop.rpartition("@")
        host, colon, port = host.rpartition(":") if hop.count(":") == 1 else (host, "", "")
        between = replace(node, address=host, port=int(port) if colon else None, user=user or None, key=None, trust=())
        try:
            client = LoginEvents(between, answers)
            last = await connect(between, home, settings, client, Way(None, last, way.depth + 1, way.lasting))
        except CannotReach as error:
            error.detail += f" (at {host}, on the way to {node.address})"
            raise
    assert last is not None
    return last


async def _key_options(node: Node, answers: Prompter, *, lasting: bool) -> dict[str, Any]:
    """Log in with the node's own key and no other: some servers end a login after too many offered keys.

    A key with a pass phrase is used through the agent if that holds it; else the user is asked.
    """
    key = node.key
    assert key is not None
    alone = {"client_keys": [key], "agent_path": None}
    try:
        if os.stat(key).st_mode & 0o077:
            raise bad_key(node, f"others may read {key}", f"chmod 600 {key}")
        read_key(key)
        return alone
    except NeedsPassPhrase:
        pass
    except asyncssh.KeyImportError as error:
        raise bad_key(node, f"{key}: {error}") from error
    except OSError as error:
        raise bad_key(node, f"{key}: {error.strerror}") from error
    public = await _of_the_agent(key) if not lasting else None
    if public is not None:
        return {"client_keys": [], "agent_identities": [public]}
    for tries_left in reversed(range(_PHRASES)):
        phrase = await answers.answer(Question("", f"Pass phrase of the key {key}: "))
        try:
            return {**alone, "client_keys": [asyncssh.read_private_key(key, phrase)]}
        except (asyncssh.KeyImportError, asyncssh.KeyEncryptionError):
            if tries_left:
                answers.refused("", tries_left)
    raise bad_key(node, "the pass phrase is wrong")


async def _of_the_agent(key: str) -> bytes | None:
    """The public half of a key that the user's SSH agent holds."""
    try:
        public = asyncssh.read_public_key(f"{key}.pub").public_data
        async with await asyncssh.connect_agent() as agent:
            held = [pair.public_data for pair in await agent.get_keys()]
    except (OSError, ValueError, asyncssh.Error, asyncssh.KeyImportError):
        return None
    return public if public in held else None


def _why(node: Node, client: LoginEvents, error: Exception) -> CannotReach:
    """Which step of a login failed, from what the library raised and what was seen before."""
    name = node.name
    # The system's own words begin with a number in brackets.
    said = os.strerror(error.errno).lower() if isinstance(error, OSError) and error.errno else str(error)
    if client.stopped is not None:
        return client.stopped
    if client.host_keys is not None and client.host_keys.objection is not None:
        return client.host_keys.objection
    if client.refusals and isinstance(error, asyncssh.PermissionDenied | asyncssh.DisconnectError):
        return answers_refused(node)
    if client.reached and not client.greeted and not isinstance(error, socket.gaierror):
        return CannotReach(
            name,
            "connect",
            f"no SSH server answered there{f' ({said})' if said else ''}",
            remedy="check the port; a busy server may also turn one away for a moment",
        )
    return explain(node, error)
