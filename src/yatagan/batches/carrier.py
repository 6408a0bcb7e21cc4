"""The carrier moves the bytes of one file: read, hash, write, sync. One carrier for every pair of stores.

Blocks are read ahead and hashed in the order of the file; each is written as soon as it is hashed, and
writes are answered in whatever order. What is in flight over all files is bounded in bytes: so many
that answers take no longer than half a second, since a server that is sent more than it can take slows
down, and a sync waits behind whatever was sent before it. The carrier ends, whether well or not,
only when every write that it began has been answered or the line is gone.
"""

from __future__ import annotations

import asyncio
from collections import deque
from collections.abc import Awaitable, Callable
from dataclasses import dataclass, replace
from typing import Any, Protocol

from yatagan.batches.extents import Extents
from yatagan.errors import Fault, StoreError
from yatagan.stores.interface import Reader, Writer


class Stopped(Exception):
    """A stop was asked for; what could be synced is."""


class Hash(Protocol):
    """A digest in the making."""

    def update(self, data: bytes, /) -> None:
        """Take in more."""

    def hexdigest(self) -> str:
        """The value."""


async def _in_thread(function: Callable[..., Any], *args: object) -> Any:
    return await asyncio.to_thread(function, *args)


@dataclass(frozen=True, slots=True)
class Tuning:
    """Sizes in bytes, times in seconds.

    What is read and not yet acknowledged, over all files, stays between `in_flight_least` and `in_flight`: less
    while answers take longer than `answer_seconds`, more while they take less than half of that. A part file is
    synced every `sync_bytes` or `sync_seconds`, whichever comes first. Blocks of `hash_apart` and more are hashed
    by `apart`, in a thread.
    """

    in_flight: int = 8 << 20
    in_flight_least: int = 1 << 20
    answer_seconds: float = 0.5
    sync_bytes: int = 64 << 20
    sync_seconds: float = 1.0
    hash_apart: int = 64 << 10
    drain_seconds: float = 2.0
    apart: Callable[..., Awaitable[Any]] = _in_thread


#: A line that has lasted for so many seconds is a good one.
_LASTING = 60.0
#: Bytes after which a part file is synced on the worst of lines.
_SYNC_LEAST = 1 << 20


class Budget:
    """Bytes in flight, handed out in the order of asking. The limit follows how fast they are answered."""

    def __init__(self, tuning: Tuning) -> None:
        self._tuning = tuning
        self._limit = min(2 * tuning.in_flight_least, tuning.in_flight)
        self._used = 0
        self._waiting: deque[tuple[int, asyncio.Future[None]]] = deque()

    def answered(self, count: int, seconds: float) -> None:
        """A write of `count` bytes was answered after so long."""
        tuning = self._tuning
        if seconds > tuning.answer_seconds:
            self._limit = max(self._limit - count, min(tuning.in_flight_least, tuning.in_flight))
        elif seconds < tuning.answer_seconds / 2:
            self._limit = min(self._limit + count, tuning.in_flight)

    def try_take(self, count: int) -> bool:
        """Take at once or not at all. A single piece larger than the limit passes when nothing else is out."""
        if self._waiting or (self._used and self._used + count > self._limit):
            return False
        self._used += count
        return True

    async def take(self, count: int) -> None:
        """Wait for room."""
        if self.try_take(count):
            return
        future: asyncio.Future[None] = asyncio.get_running_loop().create_future()
        self._waiting.append((count, future))
        try:
            await future
        except asyncio.CancelledError:
            if future.done() and not future.cancelled():
                self.give(count)
            raise

    def give(self, count: int) -> None:
        """Give back."""
        self._used -= count
        while self._waiting:
            wanted, future = self._waiting[0]
            if future.cancelled():
                self._waiting.popleft()
                continue
            if self._used and self._used + wanted > self._limit:
                return
            self._waiting.popleft()
            self._used += wanted
            future.set_result(None)


@dataclass(slots=True)
class Carriage:
    """One file's way.

    `size` bytes are read from `source` and written to `part`, but for what is already `durable` there:
    that is read from `prefix` (whichever end needs no line) for the digest alone. Without `sync_last` the end
    is not synced: for when what comes next syncs the file itself.
    """

    source: Reader
    part: Writer
    prefix: Reader
    size: int
    block: int
    durable: Extents
    sync_last: bool
    hash: Hash
    moved: Callable[[int], None]
    synced: Callable[[Extents], None]
    stop: asyncio.Event


class Carrier:
    """Carries files, one call a file, with a shared budget."""

    def __init__(self, tuning: Tuning, clock: Callable[[], float]) -> None:
        self._given = self._tuning = tuning
        self._clock = clock
        self._budget = Budget(tuning)

    def line_lost(self, lasted: float) -> None:
        """A line was lost that had lasted so many seconds: sync more often after a short one.

        What is not synced is sent again, and a line that never lasts would never bring a large file home.
        """
        tuning = self._tuning
        self._tuning = (
            self._given
            if lasted > _LASTING
            else replace(
                tuning,
                sync_bytes=max(tuning.sync_bytes // 4, min(_SYNC_LEAST, tuning.sync_bytes)),
                sync_seconds=max(tuning.sync_seconds / 2, min(0.1, tuning.sync_seconds)),
            )
        )

    async def carry(self, way: Carriage) -> bool:
        """Carry one file; whether its last byte is known to be on the far disk.

        Raises StoreError (SOURCE_CHANGED when the source is shorter than it was), or Stopped after syncing
        what could be synced.
        """
        return await _Passage(self._tuning, self._budget, self._clock, way).run()


class _Passage:
    """The state of one file on its way."""

    def __init__(self, tuning: Tuning, budget: Budget, clock: Callable[[], float], way: Carriage) -> None:
        self._tuning = tuning
        self._budget = budget
        self._clock = clock
        self._way = way
        self._acknowledged = way.durable.copy()
        self._reads: deque[tuple[int, int, bool, asyncio.Task[bytes]]] = deque()
        self._writes: dict[asyncio.Task[None], None] = {}  # in the order of issue, so that a run replays
        self._syncing: asyncio.Task[bool] | None = None
        self._unsynced = 0
        self._synced_at = clock()

    async def run(self) -> bool:
        try:
            await self._pass_blocks()
            while self._writes:
                await self._one_write()
            return await self._sync()
        except Stopped:
            await self._drain(sync=True)
            raise
        except BaseException:
            await self._drain(sync=False)
            raise

    async def _pass_blocks(self) -> None:
        way, next_read = self._way, 0
        while next_read < way.size or self._reads:
            while next_read < way.size:
                count = min(way.block, way.size - next_read)
                # With blocks of our own in hand we must not wait: they hold what others wait for.
                if not self._budget.try_take(count):
                    if self._reads or self._writes:
                        break
                    await self._budget.take(count)
                self._read(next_read, count)
                next_read += count
            if self._reads:
                await self._hash_and_write()
            else:
                await self._one_write()

    def _read(self, offset: int, count: int) -> None:
        known = self._way.durable.covers(offset, offset + count)
        reader = self._way.prefix if known else self._way.source
        self._reads.append((offset, count, known, asyncio.ensure_future(reader.read(offset, count))))

    async def _hash_and_write(self) -> None:
        way = self._way
        offset, count, known, task = self._reads[0]
        data = await task
        if len(data) != count:
            raise StoreError(Fault.SOURCE_CHANGED)
        if count >= self._tuning.hash_apart:
            await self._tuning.apart(way.hash.update, data)
        else:
            way.hash.update(data)
        if way.stop.is_set():
            raise Stopped
        self._reads.popleft()
        if known:
            self._budget.give(count)
            return
        self._writes[asyncio.ensure_future(self._write(offset, data))] = None
        self._take_answers()

    async def _write(self, offset: int, data: bytes) -> None:
        began = self._clock()
        try:
            await self._way.part.write(offset, data)
            self._budget.answered(len(data), self._clock() - began)
            self._acknowledged.add(offset, offset + len(data))
            self._unsynced += len(data)
            self._way.moved(len(data))
        finally:
            self._budget.give(len(data))

    async def _one_write(self) -> None:
        await asyncio.wait(self._writes, return_when=asyncio.FIRST_COMPLETED)
        self._take_answers()

    def _take_answers(self) -> None:
        for task in [task for task in self._writes if task.done()]:
            del self._writes[task]
            task.result()
        self._start_sync_if_due()

    def _start_sync_if_due(self) -> None:
        if self._syncing is not None:
            if not self._syncing.done():
                return
            self._syncing.result()
            self._syncing = None
        due = self._unsynced >= self._tuning.sync_bytes
        late = self._unsynced and self._clock() - self._synced_at >= self._tuning.sync_seconds
        if due or late:
            self._syncing = asyncio.ensure_future(self._sync_now())

    async def _sync_now(self) -> bool:
        """One sync. It covers what was acknowledged before it was asked for, and nothing later."""
        covered = self._acknowledged.copy()
        self._unsynced = 0
        self._synced_at = self._clock()
        durable = await self._way.part.sync()
        if durable:
            self._way.synced(covered)
        return durable

    async def _sync(self) -> bool:
        if self._syncing is not None:
            await self._syncing
        return await self._sync_now() if self._way.sync_last else False

    async def _drain(self, *, sync: bool) -> None:
        """Wait for the answers that are still owed, within reason, so that no write of ours comes late."""
        for *_, task in self._reads:
            task.cancel()
        owed: set[asyncio.Task[Any]] = {task for *_, task in self._reads} | set(self._writes)
        if self._syncing is not None:
            owed.add(self._syncing)
        for _, count, _, _ in self._reads:
            self._budget.give(count)
        if owed:
            _, late = await asyncio.wait(owed, timeout=self._tuning.drain_seconds)
            for task in late:
                task.cancel()
            for task in owed - late:
                if not task.cancelled():
                    task.exception()  # seen; the first one is on its way up already
        if sync:
            try:
                async with asyncio.timeout(self._tuning.drain_seconds):
                    await self._sync_now()
            except (StoreError, TimeoutError):
                pass  # the journal keeps what it knew; nothing is claimed
