"""Logging in to a node: one SSH connection, its SFTP channel, and the helper where it may run.

Where a batch goes on after a lost connection it comes back to the very address that it first reached, because the
names of clusters stand for several machines.
"""

from __future__ import annotations

import asyncio
import logging
import secrets
import time
from collections.abc import Coroutine
from dataclasses import dataclass, field
from typing import Any, Protocol

import asyncssh

from yatagan.config.home import Home
from yatagan.config.nodes import Node
from yatagan.config.settings import ConnectionSettings
from yatagan.errors import CannotReach
from yatagan.nodes.connecting import Way, connect
from yatagan.nodes.failures import files_refused
from yatagan.nodes.helper import Helper, NoHelper, SlowShell
from yatagan.nodes.login_events import PATIENT, LoginEvents, LoginTimes
from yatagan.nodes.prompts import LoginProgress, NoPrompter, Prompter
from yatagan.nodes.sftp_client import BEGINNING, SftpClient

logging.getLogger("asyncssh").setLevel(logging.CRITICAL)


#: How long a shell may take that was fast enough for the login before.
_SHELL_SECONDS = 60.0


@dataclass(slots=True, eq=False)
class Login:
    """One login: its connection, its file channel, and its helper or why there is none."""

    node: Node
    connection: asyncssh.SSHClientConnection
    files: SftpClient
    helper: Helper | None
    no_helper: str
    #: Seconds for which a shell that has started nothing was waited for; 0 where that is not why there is no helper.
    waited_for_shell: float
    lost: asyncio.Event
    #: Done when the file channel has ended; the connection may live on.
    channel_ended: asyncio.Future[None]
    address: tuple[str, int] | None
    times: LoginTimes
    #: Names this login, so that a later session on it knows the writers of an earlier one for its own.
    mark: str = field(default_factory=lambda: secrets.token_hex(8))
    #: Whether a caller stopped waiting for the answer to a write: it may still be carried out.
    abandoned: bool = False

    @property
    def is_whole(self) -> bool:
        """Whether connection, file channel and helper are all alive."""
        channels = not self.channel_ended.done() and (self.helper is None or not self.helper.ended)
        return channels and not self.lost.is_set()

    @property
    def server(self) -> str:
        """The server's software, as it names itself."""
        return str(self.connection.get_extra_info("server_version", ""))

    @property
    def link(self) -> SSHLink:
        """Where further channels are opened."""
        return OwnLink(self.connection)

    async def close(self) -> None:
        """Log out. Never raises."""
        if self.helper is not None:
            await self.helper.close()
        self.files.exit()
        await self.link.hang_up()


class SSHLink(Protocol):
    """A connection of this or another process; `ours`: this process encrypts."""

    ours: bool

    async def channel(self, like: SftpClient) -> SftpClient:
        """Open a further file channel. Raises asyncssh.Error, OSError."""

    def abort(self) -> None:
        """Drop the connection."""

    async def hang_up(self) -> None:
        """Disconnect. Never raises."""


class OwnLink:
    """A connection of this process."""

    ours = True

    def __init__(self, connection: asyncssh.SSHClientConnection) -> None:
        self._connection = connection

    async def channel(self, like: SftpClient) -> SftpClient:
        return await SftpClient.open(self._connection, like)

    def abort(self) -> None:
        self._connection.abort()

    async def hang_up(self) -> None:
        self._connection.close()
        try:
            async with asyncio.timeout(2):
                await self._connection.wait_closed()
        except (TimeoutError, OSError, asyncssh.Error):
            self._connection.abort()


async def log_in(
    node: Node,
    home: Home,
    settings: ConnectionSettings,
    answers: Prompter,
    *,
    pinned: tuple[str, int] | None = None,
    commands: bool = True,
    compress: bool = False,
) -> Login:
    """Reach a node and log in. Raises CannotReach or one of its kinds.

    `pinned` is the address and port of an earlier login of the same batch. With `commands` the helper
    is started where the node allows it, after the file channel, so that it can name the file server's process.
    `compress`: what the connection carries, where the server can (RFC 4253, section 6.2).
    """
    client = LoginEvents(node, answers)
    connection = await connect(node, home, settings, client, Way(pinned, compress=compress))
    peer = connection.get_extra_info("peername")
    # Through another machine there is no address of the node's own, and nothing to hold on to.
    address = (str(peer[0]), int(peer[1])) if peer and peer[0] else None
    reached = _Reached(node, connection, client.lost, address, client.times())
    beginning = _begin(reached, settings.silence, commands=commands, shell=settings.shell)
    return await _told(node, answers, beginning)


async def _told(node: Node, answers: Prompter, beginning: Coroutine[Any, Any, Login]) -> Login:
    """Wait for what a login starts, and report how long that takes: start-up files may do anything."""
    task, began, shown = asyncio.ensure_future(beginning), time.monotonic(), False
    try:
        while not task.done():
            await asyncio.wait({task}, timeout=1.0)
            seconds = time.monotonic() - began
            if not task.done() and seconds >= PATIENT:
                shown = True
                answers.waiting(node.name, seconds, LoginProgress.ACCOUNT)
        return await task
    except BaseException:
        task.cancel()
        await asyncio.gather(task, return_exceptions=True)
        raise
    finally:
        if shown:
            answers.waited()


@dataclass(frozen=True, slots=True, eq=False)
class FurtherLogin:
    """A further login to a machine that we are logged in to."""

    link: SSHLink
    files: SftpClient
    lost: asyncio.Event

    async def close(self) -> None:
        """Log out. Never raises."""
        self.files.exit()
        await self.link.hang_up()


async def log_in_again(login: Login, home: Home, settings: ConnectionSettings) -> FurtherLogin:
    """Log in to the same address once more, where no person has to answer. Raises CannotReach."""
    connection, lost = await connect_again(login.node, login.address, home, settings)
    try:
        files = await SftpClient.open(connection, login.files, _patience(settings.silence))
    except (asyncssh.Error, OSError) as error:
        connection.abort()
        raise files_refused(login.node, error) from error
    except asyncio.CancelledError:
        connection.abort()
        raise
    return FurtherLogin(OwnLink(connection), files, lost)


async def connect_again(
    node: Node, address: tuple[str, int] | None, home: Home, settings: ConnectionSettings
) -> tuple[asyncssh.SSHClientConnection, asyncio.Event]:
    """Open a further connection without questions, and return what is set when it is lost. Raises CannotReach."""
    client = LoginEvents(node, NoPrompter())
    return await connect(node, home, settings, client, Way(address)), client.lost


async def renew(login: Login) -> Login:
    """Open a new file channel and helper on a connection whose own have ended. Raises CannotReach."""
    if login.helper is not None:
        await login.helper.close()
    login.files.exit()
    commands = login.helper is not None
    reached = _Reached(login.node, login.connection, login.lost, login.address, login.times)
    new = await _begin(reached, BEGINNING, commands=commands)
    new.no_helper = new.no_helper if commands else login.no_helper
    return new


@dataclass(frozen=True, slots=True)
class _Reached:
    """A machine that is logged in to, before anything else is open there."""

    node: Node
    connection: asyncssh.SSHClientConnection
    lost: asyncio.Event
    address: tuple[str, int] | None
    times: LoginTimes


async def _begin(reached: _Reached, silence: float, *, commands: bool, shell: float = _SHELL_SECONDS) -> Login:
    """Open the file channel of a new login, then start its helper."""
    node, connection = reached.node, reached.connection
    try:
        files = await SftpClient.open(connection, patience=_patience(silence))
    except (asyncssh.Error, OSError) as error:
        connection.abort()
        raise files_refused(node, error) from error
    helper, why, waited = None, "not asked for", 0.0
    if commands:
        try:
            helper = await Helper.start(lambda command: connection.create_process(command, encoding=None), shell)
        except (NoHelper, OSError, asyncssh.Error) as error:
            why, waited = str(error), error.seconds if isinstance(error, SlowShell) else 0.0
            if reached.lost.is_set():
                raise CannotReach(node.name, "sftp", "the connection was lost while logging in") from error
    channel_ended = asyncio.ensure_future(files.wait_closed())
    return Login(
        node, connection, files, helper, why, waited, reached.lost, channel_ended, reached.address, reached.times
    )


def _patience(silence: float) -> float:
    """Seconds in which a file server must answer at first, given how long it may be silent later."""
    return min(max(silence, 1.0), BEGINNING)
