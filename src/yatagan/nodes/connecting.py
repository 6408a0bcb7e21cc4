"""Connecting to a node: the way there, its host key, and what the server asks until it accepts the login.

The server's questions are passed on word for word to the prompter; answers are never kept. Nothing that
the SSH library raises leaves this module.
"""

from __future__ import annotations

import asyncio
import os
import socket
import time
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import asyncssh

from yatagan.config.home import Home
from yatagan.config.nodes import Node
from yatagan.config.settings import ConnectionSettings
from yatagan.errors import CannotReach, NeedsAnswer
from yatagan.nodes.failures import answers_refused, bad_key, explain
from yatagan.nodes.host_keys import HostKeys
from yatagan.nodes.private_keys import NeedsPassPhrase, read_key
from yatagan.nodes.prompts import LoginProgress, Prompter, Question
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
#: Rounds of questions before we take it that the answers were wrong (servers end it at six).
_ROUNDS = 6
#: Tries at a key's pass phrase.
_PHRASES = 3
#: Seconds in which a machine must have answered as an SSH server.
_REACH_SECONDS = 20.0
#: Seconds of silence during a login before the user is shown that we wait.
PATIENT = 2.0


@dataclass(frozen=True, slots=True)
class LoginTimes:
    """Seconds to reach the machine and to be let in, without our own answering, and the number of questions asked."""

    reaching: float
    letting_in: float
    questions: int


class LoginEvents(asyncssh.SSHClient):
    """Answers the SSH library during a login, which may take several connections to an accepted host key."""

    def __init__(self, node: Node, answers: Prompter) -> None:
        self.node = node
        self.answers = answers
        self._rounds = 0
        #: Questions of the present try; how many tries were refused.
        self._asked: list[str] = []
        self.refusals = 0
        self._asking = False
        self._began = self._quiet_since = time.monotonic()
        self._asked_seconds = 0.0
        self._connection: asyncssh.SSHClientConnection | None = None
        self.reached_at: float | None = None
        self.let_in_at = 0.0
        self.host_keys: HostKeys | None = None
        self.stopped: NeedsAnswer | None = None
        self.lost = asyncio.Event()

    def begin(self, host_keys: HostKeys) -> None:
        """A connection is about to be opened; these host keys count for it."""
        self.host_keys = host_keys
        self._connection, self.reached_at = None, None
        self._began = self._quiet_since = time.monotonic()

    def connection_made(self, conn: asyncssh.SSHClientConnection) -> None:
        self._connection = conn
        self.reached_at = time.monotonic()

    def auth_completed(self) -> None:
        self.let_in_at = time.monotonic()

    def times(self) -> LoginTimes:
        """How long the login took."""
        reached = self.reached_at if self.reached_at is not None else self.let_in_at
        return LoginTimes(reached - self._began, self.let_in_at - reached - self._asked_seconds, self._rounds)

    def connection_lost(self, exc: Exception | None) -> None:
        if self.let_in_at:  # else it is one that was tried, and perhaps not the last
            self.lost.set()

    def validate_host_public_key(self, host: str, addr: str, port: int, key: asyncssh.SSHKey) -> bool:
        return self.host_keys is not None and self.host_keys.accepts(host, port, key)

    def auth_banner_received(self, msg: str, lang: str) -> None:
        self.answers.tell(self.node.name, msg)

    async def password_auth_requested(self) -> str | None:
        self._try_again()
        return await self._ask(Question(self.node.name, "Password: "))

    def kbdint_auth_requested(self) -> str | None:
        self._try_again()
        return "" if self._rounds < _ROUNDS and self.stopped is None else None

    async def kbdint_challenge_received(
        self, name: str, instructions: str, lang: str, prompts: Sequence[tuple[str, bool]]
    ) -> Sequence[str] | None:
        for words in (name, instructions):
            if words.strip():
                self.answers.tell(self.node.name, words)
        given = []
        for text, shown in prompts:
            answer = await self._ask(Question(self.node.name, text, shown))
            if answer is None:
                return None
            given.append(answer)
        return given  # to a round without prompts the answer is nothing

    def _try_again(self) -> None:
        """The server lets us begin anew: what was answered was wrong. It never says so itself (RFC 4252)."""
        if self._asked and self.stopped is None:
            self.refusals += 1
            self._asked = []

    async def _ask(self, question: Question) -> str | None:
        if question.text in self._asked:  # asked again within one try
            self._try_again()
        if self.refusals and not self._asked and self._rounds < _ROUNDS:
            self.answers.refused(self.node.name, None)
        self._asked.append(question.text)
        self._rounds += 1
        if self._rounds > _ROUNDS or self.stopped is not None:
            return None
        began = time.monotonic()
        try:
            self._asking = True
            return await self.answers.answer(question)
        except NeedsAnswer as error:
            self.stopped = error
            return None
        finally:
            self._asking = False
            self._quiet_since = time.monotonic()
            self._asked_seconds += self._quiet_since - began

    async def see_through(self, attempt: asyncio.Task[asyncssh.SSHClientConnection]) -> asyncssh.SSHClientConnection:
        """Wait for a login and report how long it takes: a wait for an approval looks like a hang.

        A machine must answer soon; a person may take their time. Raises TimeoutError, or what the attempt raises.
        """
        shown = False
        try:
            while not attempt.done():
                await asyncio.wait({attempt}, timeout=1.0)
                now = time.monotonic()
                if not self.greeted and now - self._began > _REACH_SECONDS:
                    raise TimeoutError
                if not attempt.done() and not self._asking and now - self._quiet_since >= PATIENT:
                    shown = True
                    seconds = now - self._quiet_since
                    reached = LoginProgress.NOTHING if self.reached_at is None else LoginProgress.SERVER
                    self.answers.waiting(self.node.name, seconds, reached)
            return attempt.result()
        finally:
            if shown:
                self.answers.waited()
            attempt.cancel()

    @property
    def greeted(self) -> bool:
        """Whether an SSH server has answered."""
        return self._connection is not None and bool(self._connection.get_extra_info("server_version"))


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
    if client.reached_at is not None and not client.greeted and not isinstance(error, socket.gaierror):
        return CannotReach(
            name,
            "connect",
            f"no SSH server answered there{f' ({said})' if said else ''}",
            remedy="check the port; a busy server may also turn one away for a moment",
        )
    return explain(node, error)
