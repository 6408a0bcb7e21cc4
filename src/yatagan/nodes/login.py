"""Logging in to a node: one SSH connection, its SFTP channel, and the helper where it may run.

The server's questions are passed on word for word to whoever gives the answers; answers are never
kept. Where a batch goes on after a lost line it comes back to the very address it first reached,
because the names of clusters stand for several machines.
"""

from __future__ import annotations

import asyncio
import logging
import os
import secrets
import socket
import time
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, Protocol

import asyncssh

from yatagan.config.home import Home
from yatagan.config.nodes import Node
from yatagan.config.settings import LineSettings
from yatagan.errors import CannotReach, ChangedHostKey, NeedsAnswer, UnknownHostKey
from yatagan.nodes import trust
from yatagan.nodes.answers import Answers, Nobody, Question
from yatagan.nodes.files import Files
from yatagan.nodes.helper.client import Helper, NoHelper
from yatagan.nodes.transport import Connector
from yatagan.nodes.trouble import bad_key, explain, files_refused

# A connection that goes away floods this logger with one line for every write that follows.
logging.getLogger("asyncio").setLevel(logging.CRITICAL)
logging.getLogger("asyncssh").setLevel(logging.CRITICAL)

#: AES-GCM first: on machines with AES instructions it is twice as fast as the library's default.
_CIPHERS = (
    "aes128-gcm@openssh.com",
    "aes256-gcm@openssh.com",
    "chacha20-poly1305@openssh.com",
    "aes256-ctr",
    "aes192-ctr",
    "aes128-ctr",
)
#: The receive window of a channel. Refilled when half used, so it bounds the rate of a long line.
_WINDOW = 8 << 20
#: Rounds of questions before we take it that the answers were wrong (servers end it at six).
_ROUNDS = 6
#: Tries at a key's pass phrase.
_PHRASES = 3
#: Seconds in which a machine must have answered as an SSH server.
_REACH_SECONDS = 20.0
#: Seconds of silence during a login before somebody is told that we wait.
_PATIENT = 2.0


class _Client(asyncssh.SSHClient):
    """What the SSH library asks us on the way."""

    def __init__(self, node: Node, known: trust.KnownHosts, answers: Answers) -> None:
        self._node = node
        self._known = known
        self._answers = answers
        self._rounds = 0
        self._asking = False
        self._began = self._quiet_since = time.monotonic()
        self._asked_seconds = 0.0
        self._connection: asyncssh.SSHClientConnection | None = None
        self.reached_at: float | None = None
        self.let_in_at = 0.0
        self.sight: trust.Sight | None = None
        self.stopped: NeedsAnswer | None = None
        self.lost = asyncio.Event()

    def connection_made(self, conn: asyncssh.SSHClientConnection) -> None:
        self._connection = conn
        self.reached_at = time.monotonic()

    def auth_completed(self) -> None:
        self.let_in_at = time.monotonic()

    def times(self) -> LoginTimes:
        """How long it took, once we are in."""
        reached = self.reached_at if self.reached_at is not None else self.let_in_at
        return LoginTimes(reached - self._began, self.let_in_at - reached - self._asked_seconds, self._rounds)

    def connection_lost(self, exc: Exception | None) -> None:
        self.lost.set()

    def validate_host_public_key(self, host: str, addr: str, port: int, key: asyncssh.SSHKey) -> bool:
        sight = self._known.see(host, addr, port, key)
        if not sight.expected and self._node.trust and self._node.trust.rstrip("=") == sight.fingerprint:
            trust.accept(self._known.file, sight.line)
            return True
        self.sight = sight
        return False

    def auth_banner_received(self, msg: str, lang: str) -> None:
        self._answers.tell(self._node.name, msg)

    async def password_auth_requested(self) -> str | None:
        return await self._ask(Question(self._node.name, "Password: "))

    def kbdint_auth_requested(self) -> str | None:
        return "" if self._rounds < _ROUNDS and self.stopped is None else None

    async def kbdint_challenge_received(
        self, name: str, instructions: str, lang: str, prompts: Sequence[tuple[str, bool]]
    ) -> Sequence[str] | None:
        for words in (name, instructions):
            if words.strip():
                self._answers.tell(self._node.name, words)
        given = []
        for text, shown in prompts:
            answer = await self._ask(Question(self._node.name, text, shown))
            if answer is None:
                return None
            given.append(answer)
        return given  # to a round without prompts the answer is nothing

    async def _ask(self, question: Question) -> str | None:
        self._rounds += 1
        if self._rounds > _ROUNDS or self.stopped is not None:
            return None
        began = time.monotonic()
        try:
            self._asking = True
            return await self._answers.answer(question)
        except NeedsAnswer as error:
            self.stopped = error
            return None
        finally:
            self._asking = False
            self._quiet_since = time.monotonic()
            self._asked_seconds += self._quiet_since - began

    async def see_through(self, attempt: asyncio.Task[asyncssh.SSHClientConnection]) -> asyncssh.SSHClientConnection:
        """Wait for a login, and tell how long it takes: a wait for an approval looks like a hang.

        A machine must answer soon; a person may take their time. Raises TimeoutError, or what the attempt raises.
        """
        told = False
        try:
            while not attempt.done():
                await asyncio.wait({attempt}, timeout=1.0)
                now = time.monotonic()
                if not self.greeted and now - self._began > _REACH_SECONDS:
                    raise TimeoutError
                if not attempt.done() and not self._asking and now - self._quiet_since >= _PATIENT:
                    told = True
                    seconds = now - self._quiet_since
                    self._answers.waiting(self._node.name, seconds, reached=self.reached_at is not None)
            return attempt.result()
        finally:
            if told:
                self._answers.waited()
            attempt.cancel()

    @property
    def greeted(self) -> bool:
        """Whether an SSH server has answered."""
        return self._connection is not None and bool(self._connection.get_extra_info("server_version"))


@dataclass(frozen=True, slots=True)
class LoginTimes:
    """Seconds until the machine was reached, and until it let us in (our own answering left out); questions asked."""

    reaching: float
    letting_in: float
    questions: int


@dataclass(slots=True, eq=False)
class Login:
    """One login: the connection, its file channel, the helper or why there is none."""

    node: Node
    connection: asyncssh.SSHClientConnection
    files: Files
    helper: Helper | None
    no_helper: str
    lost: asyncio.Event
    #: Done when the file channel has ended; the connection may live on.
    channel_ended: asyncio.Future[None]
    address: tuple[str, int] | None
    times: LoginTimes
    #: Names this login, so that a later session on it knows the writers of an earlier one for its own.
    mark: str = field(default_factory=lambda: secrets.token_hex(8))
    #: Whether somebody stopped waiting for the answer to a write: it may yet come to pass.
    abandoned: bool = False

    @property
    def is_whole(self) -> bool:
        """Whether the connection, its file channel and the helper that there was are all there."""
        channels = not self.channel_ended.done() and (self.helper is None or not self.helper.ended)
        return channels and not self.lost.is_set()

    @property
    def server(self) -> str:
        """The server's software, in its own words."""
        return str(self.connection.get_extra_info("server_version", ""))

    @property
    def link(self) -> Link:
        """What more channels come from."""
        return Here(self.connection)

    async def close(self) -> None:
        """Log out. Never raises: there is nothing left to lose."""
        if self.helper is not None:
            await self.helper.close()
        self.files.exit()
        await self.link.hang_up()


class Link(Protocol):
    """A connection, in whatever process: `ours`, where it is this one that encrypts."""

    ours: bool

    async def channel(self, like: Files) -> Files:
        """A further file channel. Raises asyncssh.Error, OSError."""

    def abort(self) -> None:
        """Drop it."""

    async def hang_up(self) -> None:
        """Take leave. Never raises."""


class Here:
    """A connection of this process."""

    ours = True

    def __init__(self, connection: asyncssh.SSHClientConnection) -> None:
        self._connection = connection

    async def channel(self, like: Files) -> Files:
        """See `Link.channel`."""
        return await Files.open(self._connection, like)

    def abort(self) -> None:
        """See `Link.abort`."""
        self._connection.abort()

    async def hang_up(self) -> None:
        """See `Link.hang_up`."""
        self._connection.close()
        try:
            async with asyncio.timeout(2):
                await self._connection.wait_closed()
        except (TimeoutError, OSError, asyncssh.Error):
            self._connection.abort()


async def log_in(
    node: Node,
    home: Home,
    line: LineSettings,
    answers: Answers,
    *,
    pinned: tuple[str, int] | None = None,
    commands: bool = True,
) -> Login:
    """Reach a node and log in. Raises CannotReach or one of its kinds.

    `pinned` is the address and port of an earlier login of the same batch. With `commands` the helper
    is started where the node allows it, after the file channel, so that it can name the file server's process.
    """
    client = _Client(node, trust.KnownHosts(home), answers)
    connection = await _connect(node, home, line, client, pinned)
    peer = connection.get_extra_info("peername")
    # Through another machine there is no address of the node's own, and nothing to hold on to.
    address = (str(peer[0]), int(peer[1])) if peer and peer[0] else None
    return await _begin(node, connection, client.lost, address, client.times(), commands=commands)


@dataclass(frozen=True, slots=True, eq=False)
class Again:
    """Another login to an address at which we are logged in."""

    link: Link
    files: Files
    lost: asyncio.Event

    async def close(self) -> None:
        """Log out. Never raises."""
        self.files.exit()
        await self.link.hang_up()


async def log_in_again(login: Login, home: Home, line: LineSettings) -> Again:
    """Log in to the same address once more, where nobody has to answer. Raises CannotReach."""
    connection, lost = await connect_again(login.node, login.address, home, line)
    try:
        files = await Files.open(connection, login.files)
    except (asyncssh.Error, OSError) as error:
        connection.abort()
        raise files_refused(login.node, error) from error
    except asyncio.CancelledError:
        connection.abort()
        raise
    return Again(Here(connection), files, lost)


async def connect_again(
    node: Node, address: tuple[str, int] | None, home: Home, line: LineSettings
) -> tuple[asyncssh.SSHClientConnection, asyncio.Event]:
    """Another connection, which nobody is asked about, and what is set when it is lost. Raises CannotReach."""
    client = _Client(node, trust.KnownHosts(home), Nobody())
    return await _connect(node, home, line, client, address), client.lost


async def renew(login: Login) -> Login:
    """Another file channel and helper on a connection whose own have ended. Raises CannotReach."""
    if login.helper is not None:
        await login.helper.close()
    login.files.exit()
    commands = login.helper is not None
    new = await _begin(login.node, login.connection, login.lost, login.address, login.times, commands=commands)
    new.no_helper = new.no_helper if commands else login.no_helper
    return new


async def _begin(
    node: Node,
    connection: asyncssh.SSHClientConnection,
    lost: asyncio.Event,
    address: tuple[str, int] | None,
    times: LoginTimes,
    *,
    commands: bool,
) -> Login:
    """What a login is for: the file channel, and then the helper."""
    try:
        files = await Files.open(connection)
    except (asyncssh.Error, OSError) as error:
        connection.abort()
        raise files_refused(node, error) from error
    helper, why = None, "not asked for"
    if commands:
        try:
            helper = await Helper.start(lambda command: connection.create_process(command, encoding=None))
        except (NoHelper, OSError, asyncssh.Error) as error:
            why = str(error)
            if lost.is_set():
                raise CannotReach(node.name, "sftp", "the line was lost while logging in") from error
    channel_ended = asyncio.ensure_future(files.wait_closed())
    return Login(node, connection, files, helper, why, lost, channel_ended, address, times)


async def offered_methods(node: Node, home: Home) -> list[str]:
    """The ways in that the server offers this user, by their names in RFC 4252; [] when it does not tell."""
    options = _base_options(node, home)
    try:
        async with asyncio.timeout(20):
            found = await asyncssh.get_server_auth_methods(node.address, **options)
    except (OSError, asyncssh.Error, ValueError, TimeoutError):
        return []
    return list(found)


def _base_options(node: Node, home: Home) -> dict[str, Any]:
    """What the node's entry and the user's SSH files say of where and as whom; the entry wins."""
    options: dict[str, Any] = {
        "config": [str(home.ssh / "config")] if (home.ssh / "config").exists() else None,
    }
    if node.port is not None:
        options["port"] = node.port
    if node.user is not None:
        options["username"] = node.user
    return options


async def _connect(
    node: Node, home: Home, line: LineSettings, client: _Client, pinned: tuple[str, int] | None
) -> asyncssh.SSHClientConnection:
    options: dict[str, Any] = {
        "client_factory": lambda: client,
        "known_hosts": client._known.entries,
        **_base_options(node, home),
        "encryption_algs": _CIPHERS,
        "compression_algs": None,
        "window": _WINDOW,
        "keepalive_interval": line.keepalive,
        "keepalive_count_max": 3,
        # Not the library's connect_timeout, which would also count the time that a person takes to answer.
        "login_timeout": 600,
    }
    if node.key is not None:
        options.update(await _key_options(node, client._answers))
    try:
        if pinned is not None:
            options.setdefault("port", pinned[1])
        if pinned is not None or _is_direct(node, home):
            options["tunnel"] = Connector(pinned)
        return await client.see_through(asyncio.ensure_future(asyncssh.connect(node.address, **options)))
    except (OSError, asyncssh.Error, asyncssh.KeyImportError, ValueError, TimeoutError) as error:
        raise _why(node, client, error) from error


async def _key_options(node: Node, answers: Answers) -> dict[str, Any]:
    """How to log in with the node's own key and no other: many offered keys end a login at some servers.

    One with a pass phrase is used through the agent, if that holds it; else we ask.
    """
    key = node.key
    assert key is not None
    alone = {"client_keys": [key], "agent_path": None}
    try:
        if os.stat(key).st_mode & 0o077:
            raise bad_key(node, f"others may read {key}", f"chmod 600 {key}")
        asyncssh.read_private_key(key)
        return alone
    except asyncssh.KeyImportError as error:
        if "assphrase" not in str(error):  # the library has no type of its own for a phrase that is missing
            raise bad_key(node, f"{key}: {error}") from error
    except OSError as error:
        raise bad_key(node, f"{key}: {error.strerror}") from error
    public = await _of_the_agent(key)
    if public is not None:
        return {"client_keys": [], "agent_identities": [public]}
    for _ in range(_PHRASES):
        phrase = await answers.answer(Question("", f"Pass phrase of the key {key}: "))
        try:
            return {**alone, "client_keys": [asyncssh.read_private_key(key, phrase)]}
        except (asyncssh.KeyImportError, asyncssh.KeyEncryptionError):
            continue
    raise bad_key(node, "the pass phrase is wrong")


async def _of_the_agent(key: str) -> bytes | None:
    """The public half of a key, when the user's SSH agent holds the key."""
    try:
        public = asyncssh.read_public_key(f"{key}.pub").public_data
        async with await asyncssh.connect_agent() as agent:
            held = [pair.public_data for pair in await agent.get_keys()]
    except (OSError, ValueError, asyncssh.Error, asyncssh.KeyImportError):
        return None
    return public if public in held else None


def _is_direct(node: Node, home: Home) -> bool:
    """Whether the user's SSH files name no machine or command that the connection goes through."""
    options = _base_options(node, home)
    if options["config"] is None:
        return True
    nothing: dict[str, Any] = {"client_keys": None, "agent_path": None, "known_hosts": None}
    found = asyncssh.SSHClientConnectionOptions(host=node.address, **nothing, **options)
    return not found.tunnel and not found.proxy_command


def _why(node: Node, client: _Client, error: Exception) -> CannotReach:
    """Which step failed, from what the library raised and what we saw on the way."""
    name, said = node.name, str(error)
    if client.stopped is not None:
        return client.stopped
    if client.sight is not None:
        sight = client.sight
        host = trust.known_name(sight.host, sight.port)
        if sight.expected:
            return ChangedHostKey(name, host, sight.fingerprint, sight.expected, str(client._known.file))
        return UnknownHostKey(name, host, sight.fingerprint, sight.algorithm, sight.line)
    if client.reached_at is not None and not client.greeted and not isinstance(error, socket.gaierror):
        return CannotReach(
            name,
            "connect",
            f"no SSH server answered there{f' ({said})' if said else ''}",
            remedy="check the port; a busy server may also turn one away for a moment",
        )
    return explain(node, error)
