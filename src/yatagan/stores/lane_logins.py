"""Where the lanes of a session run: on the first login, and on further ones where those need no person."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable
from dataclasses import dataclass

import asyncssh

from yatagan.errors import CannotReach
from yatagan.nodes.login import FurtherLogin, Login
from yatagan.nodes.sftp_client import SftpClient
from yatagan.stores.connection_history import ConnectionHistory

#: Channels on one login at most. Servers take ten sessions as they come, and commands want some too.
_CHANNELS = 8


@dataclass(eq=False, slots=True)
class Lane:
    """One file channel. `ours`: this process encrypts. `load`: bytes in flight over it.

    `process`: the process that serves it on the node, where that can be seen.
    """

    files: SftpClient
    ours: bool
    process: int = 0
    load: int = 0


@dataclass(frozen=True, slots=True)
class Allowed:
    """How many logins a node may get, and how many of them in processes of their own.

    `log_in` makes a further one without questions; None where that is impossible. `history`: the connection as it was
    before; `keep` saves what it is now.
    """

    logins: int = 1
    processes: int = 0
    log_in: Callable[[bool], Awaitable[FurtherLogin]] | None = None
    history: ConnectionHistory = ConnectionHistory()  # noqa: RUF009 it never changes
    keep: Callable[[ConnectionHistory], None] = lambda history: None


class LaneLogins:
    """The logins of one session, and how many lanes each of them has."""

    def __init__(self, first: Login, allowed: Allowed, watch: Callable[[Login | FurtherLogin], None]) -> None:
        self._first = first
        self._allowed = allowed
        self._watch = watch
        self._channels: dict[Login | FurtherLogin, int] = {first: 1}
        #: Those that get no more channels, and the channels besides the first of each.
        self._full: set[Login | FurtherLogin] = set()
        self._extra: list[SftpClient] = []
        #: Logins that there are or will be; those in processes of their own.
        self._places = 1
        self.in_processes = 0
        self._no_logins = allowed.log_in is None

    @property
    def may_log_in(self) -> bool:
        """Whether another login may be had."""
        return not self._no_logins and self._places < self._allowed.logins

    @property
    def may_have_process(self) -> bool:
        """Whether that login may be in a process of its own."""
        return self.may_log_in and self.in_processes < self._allowed.processes

    @property
    def are_full(self) -> bool:
        """Whether every channel of every login is open."""
        return not self.may_log_in and self._free_login() is None

    async def open_lane(self) -> Lane | None:
        """Another lane: by another login where there may be one, else on those that there are. None: there is none."""
        return await (self._by_login() if self.may_log_in else self._by_channel())

    def no_more(self) -> None:
        """Open nothing more."""
        self._no_logins = True
        self._full.update(self._channels)

    async def close(self) -> None:
        """Close all that was opened here; the first login is closed by its owner."""
        for files in self._extra:
            files.exit()
        await asyncio.gather(*(login.close() for login in self._channels if login is not self._first))

    async def _by_login(self) -> Lane | None:
        self._places += 1
        in_process = self.in_processes < self._allowed.processes
        self.in_processes += in_process
        try:
            login, process = await self._log_in(in_process)
        except (CannotReach, ConnectionError):
            self._places -= 1
            self.in_processes -= in_process
            self._no_logins = True
            return await self._by_channel()
        self._channels[login] = 1
        self._watch(login)
        return Lane(login.files, login.link.ours, process)

    async def _log_in(self, in_process: bool) -> tuple[FurtherLogin, int]:
        """Another login to the machine of the first, and what serves it. Raises CannotReach, ConnectionError."""
        assert self._allowed.log_in is not None
        login = await self._allowed.log_in(in_process)
        try:
            boot, process = await self._served_by(login.files)
            helper = self._first.helper
            if helper is not None and not (boot and boot == helper.greeting.boot):
                raise ConnectionError("an address may stand for several machines, whose disks need not agree")
        except BaseException:
            login.link.abort()
            raise
        return login, process

    def _free_login(self) -> Login | FurtherLogin | None:
        """The login with the fewest channels, of those that may have another one."""
        free = [each for each, channels in self._channels.items() if each not in self._full and channels < _CHANNELS]
        return min(free, key=lambda each: self._channels[each], default=None)

    async def _by_channel(self) -> Lane | None:
        login = self._free_login()
        if login is None:
            return None
        self._channels[login] += 1
        try:
            link = login.link
            files = await link.channel(self._first.files)
            self._extra.append(files)
            _, process = await self._served_by(files)
        except (asyncssh.Error, OSError):
            self._full.add(login)
            return await self._by_channel()
        return Lane(files, link.ours, process)

    async def _served_by(self, files: SftpClient) -> tuple[str, int]:
        """("", 0) where there is nothing to compare it with. Raises ConnectionError."""
        return await files.served_by() if self._first.helper is not None else ("", 0)
