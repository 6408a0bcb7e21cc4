"""An open file on a node, over as many lanes as it is worth."""

from __future__ import annotations

import asyncio
import stat
import time
from collections.abc import Coroutine
from typing import Any, Protocol, TypeVar

from yatagan.errors import LineLost, StoreError
from yatagan.faults import Fault
from yatagan.nodes.sftp_client import SftpClient
from yatagan.nodes.sftp_packets import CREATE, EXCLUSIVE, Attributes
from yatagan.stores.interface import STRIPE, Facts, Piece, Reader
from yatagan.stores.lane_logins import Lane
from yatagan.stores.lanes import Lanes
from yatagan.stores.system_errors import kind_of

T = TypeVar("T")

_SECOND = 1_000_000_000
#: Stripes of a file whose lanes are remembered: more than are ever on the way.
_STRIPES = 256
#: Seconds in which a lane has answered that does well: more than what is on the way takes on a busy connection.
_LATE = 0.3


class Ask(Protocol):
    """Sends a request and waits for its answer. Raises StoreError."""

    async def __call__(self, request: Coroutine[Any, Any, T], path: bytes, *, writing: bool = False) -> T:
        """Raises StoreError."""


def facts_from(found: Attributes) -> Facts:
    """Facts from a server's attributes. Version 3 has whole seconds, and neither ctime nor inode."""
    mode = found.mode or 0
    return Facts(kind_of(mode), found.size or 0, (found.mtime or 0) * _SECOND, stat.S_IMODE(mode))


def sftp_times(mtime_ns: int | None) -> tuple[int, int] | None:
    """Access time (now) and modification time for SFTP: unsigned seconds in 32 bits.

    A time outside that range is sent as it will be read back, so that `same_time` recognises it.
    """
    return None if mtime_ns is None else (int(time.time()), mtime_ns // _SECOND & 0xFFFFFFFF)


def is_sayable(mtime_ns: int | None) -> bool:
    """Whether SFTP can carry a time as it is."""
    return mtime_ns is None or 0 <= mtime_ns // _SECOND <= 0xFFFFFFFF


async def _at_once(requests: list[Coroutine[Any, Any, T]]) -> list[T]:
    """Wait for several requests. A single one needs no task, which matters for small files."""
    return [await requests[0]] if len(requests) == 1 else list(await asyncio.gather(*requests))


class SftpFile:
    """An open file on a node; every read or write is one request.

    It is opened on one lane, and on further ones when more is in flight than one should carry. Each stripe goes over
    one lane.
    """

    read_here = write_here = None

    def __init__(self, lanes: Lanes, ask: Ask, lane: Lane, handle: bytes, path: bytes, flags: int) -> None:
        self._lanes = lanes
        self._ask = ask
        self._path = path
        self._flags = flags
        self._handles = {lane: handle}
        self._opening: dict[Lane, asyncio.Task[None]] = {}
        self._stripes: dict[int, Lane] = {}
        self._unsynced: set[Lane] = set()
        self._late: set[asyncio.Task[bytes]] = set()
        self.flow = lanes.flow

    async def facts(self) -> Facts:
        """Should what is open differ from lane to lane, one that is not like the first."""
        found = await _at_once([self._facts_on(lane) for lane in self._handles])
        return next((facts for facts in found if not facts.same_as(found[0])), found[0])

    async def _facts_on(self, lane: Lane) -> Facts:
        return facts_from(await self._ask(lane.files.fstat(self._handles[lane]), self._path))

    async def read(self, offset: int, size: int) -> bytes:
        """What a lane keeps back while another has nothing to do is asked for there as well.

        Of a file that is read in order, all the rest would soon wait for it.
        """
        lane = self._lane_for(offset, size)
        if len(self._handles) == 1:
            try:
                return await self._read_on(lane, offset, size)
            finally:
                lane.load -= size
        asked = [self._begin_read(lane, offset, size)]
        try:
            while True:
                done, _ = await asyncio.wait(asked, timeout=_LATE, return_when=asyncio.FIRST_COMPLETED)
                if done:
                    return done.pop().result()
                if (idle := next((each for each in self._handles if not each.load), None)) is not None:
                    idle.load += size
                    asked.append(self._begin_read(idle, offset, size))
        except asyncio.CancelledError:
            for task in asked:
                task.cancel()
            raise
        finally:
            for task in asked:
                if not task.done():
                    self._late.add(task)
                    task.add_done_callback(self._came)

    def _begin_read(self, lane: Lane, offset: int, size: int) -> asyncio.Task[bytes]:
        """Start a read in a task; its lane's load is released even if it is cancelled before it has begun."""
        task = asyncio.ensure_future(self._read_on(lane, offset, size))

        def relieve(_: asyncio.Task[bytes]) -> None:
            lane.load -= size

        task.add_done_callback(relieve)
        return task

    async def _read_on(self, lane: Lane, offset: int, size: int) -> bytes:
        """Read until all was answered: a server may answer with less than was asked."""
        files, handle = lane.files, self._handles[lane]
        data = await self._ask(files.read(handle, offset, size), self._path)
        while len(data) < size:
            rest = files.read(handle, offset + len(data), size - len(data))
            more = await self._ask(rest, self._path)
            if not more:
                break
            data += more
        return data

    def _came(self, task: asyncio.Task[bytes]) -> None:
        """Release the load of an answer that is no longer waited for."""
        self._late.discard(task)
        if not task.cancelled():
            task.exception()

    async def write(self, offset: int, data: Piece) -> None:
        lane = self._lane_for(offset, len(data))
        self._unsynced.add(lane)
        try:
            await self._ask(lane.files.write(self._handles[lane], offset, data), self._path, writing=True)
        finally:
            lane.load -= len(data)

    def _lane_for(self, offset: int, size: int) -> Lane:
        """The lane for a request, whose load now includes it."""
        stripe = offset // STRIPE
        lane = self._stripes.get(stripe)
        if lane is None:
            lane = min(self._handles, key=self._lanes.burden)
            if lane.load + size > STRIPE // 2:
                self._widen(self._lanes.burden(lane))
            self._stripes[stripe] = lane
            if len(self._stripes) > _STRIPES:
                del self._stripes[next(iter(self._stripes))]
        lane.load += size
        return lane

    def _widen(self, burden: int) -> None:
        """Open the file on a further lane, if one has less to do."""
        free = [each for each in self._lanes if each not in self._handles and each not in self._opening]
        lane = min(free, key=self._lanes.burden, default=None)
        if lane is not None and self._lanes.burden(lane) < burden:
            self._opening[lane] = asyncio.ensure_future(self._open_on(lane))

    async def _open_on(self, lane: Lane) -> None:
        flags = self._flags & ~(CREATE | EXCLUSIVE)
        try:
            self._handles[lane] = await self._ask(lane.files.open_file(self._path, flags), self._path)
        except StoreError as error:
            if not isinstance(error, LineLost):  # as when it sees another disk
                self._lanes.drop(lane)
        finally:
            del self._opening[lane]

    @property
    def only_channel(self) -> SftpClient | None:
        """The channel on which the file is open; None if there are several, or will be."""
        return next(iter(self._handles)).files if len(self._handles) == 1 and not self._opening else None

    async def set_facts(self, mode: int | None, mtime_ns: int | None) -> None:
        """Set mode and modification time of the open file. Raises StoreError."""
        lane, handle = next(iter(self._handles.items()))
        await self._ask(lane.files.fsetstat(handle, mode, sftp_times(mtime_ns)), self._path, writing=True)

    def copy_here(self, source: Reader, offset: int, size: int) -> bool:
        return False

    async def keep_others_out(self) -> None:
        pass

    async def is_untouched(self, size: int) -> bool:
        return False

    async def sync(self) -> bool:
        """Every server that has written is asked: on a shared disk they may be several machines."""
        lanes, self._unsynced = self._unsynced or set(self._handles), set()
        return all(await _at_once([self._sync(lane) for lane in self._handles if lane in lanes]))

    async def _sync(self, lane: Lane) -> bool:
        try:
            await self._ask(lane.files.fsync(self._handles[lane]), self._path, writing=True)
        except StoreError as error:
            if error.fault is not Fault.UNSUPPORTED:
                raise
            return False
        return True

    async def close(self) -> None:
        for task in self._late:
            task.cancel()
        if self._opening:
            await asyncio.wait(self._opening.values())
        closing = [lane.files.close(handle) for lane, handle in self._handles.items()]
        self._handles = {}
        if not closing:
            return
        await _at_once([self._ask(close, self._path, writing=True) for close in closing])
