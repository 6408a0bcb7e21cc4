"""The passage of one file that is more than one piece: blocks are read, hashed and written, all at once.

It ends, whether well or not, only when every write that it began has been answered or the line is gone.
"""

from __future__ import annotations

import asyncio
from bisect import bisect_right
from collections import deque
from collections.abc import Callable, Coroutine
from dataclasses import dataclass
from typing import Any

from yatagan.errors import Fault, StoreError
from yatagan.stores.in_flight import InFlight
from yatagan.stores.interface import STRIPE, Piece, Reader
from yatagan.transfer.rate_limit import RateLimit
from yatagan.transfer.stopping import Stopped
from yatagan.transfer.transfer import BeginningDiffers, Transfer, Tuning

#: Bytes that a thread reads and hashes at a time: it is behind whenever it comes back, so it should not come often.
_AT_A_TIME = 4 * STRIPE
#: Bytes that are read of a near file before they are asked for, or are taken together of what has come.
_AHEAD = 2 * _AT_A_TIME


class _Queue:
    """Blocks that wait their turn."""

    def __init__(self) -> None:
        self._blocks: deque[Block] = deque()
        self._some = asyncio.Event()
        self.size = 0

    def put(self, block: Block) -> None:
        self._blocks.append(block)
        self.size += len(block.data)
        self._some.set()

    async def wait(self) -> None:
        """Until there is one."""
        await self._some.wait()

    def take(self) -> Block:
        block = self._blocks.popleft()
        self.size -= len(block.data)
        if not self._blocks:
            self._some.clear()
        return block

    def take_some(self) -> list[Block]:
        """Not all that there may be: what is to come must not wait for the last of it."""
        blocks, size = [self.take()], self.size
        while self._blocks and size - self.size < _AHEAD:
            blocks.append(self.take())
        return blocks


@dataclass(slots=True)
class Block:
    """What was read at once. It is held until it is hashed and what of it is to be written is acknowledged."""

    offset: int
    data: Piece
    hashed: bool = False
    written: bool = False

    @property
    def end(self) -> int:
        """Where it ends in the file."""
        return self.offset + len(self.data)


def _joined(blocks: list[Block]) -> Piece:
    """Blocks that follow each other, in one piece."""
    return blocks[0].data if len(blocks) == 1 else b"".join(block.data for block in blocks)


_ZEROS = bytes(STRIPE)


def _is_zeros(data: Piece) -> bool:
    """Whether all of a block is zeros. Its ends tell of nearly all others."""
    return not (data[0] or data[-1]) and bytes(data) == (
        _ZEROS[: len(data)] if len(data) <= STRIPE else bytes(len(data))
    )


def _answers(task: asyncio.Task[None], flow: InFlight, count: int) -> None:
    """Give back what a task has taken of a flow when it ends, even if it is cancelled before it has begun."""
    task.add_done_callback(lambda _: flow.answered(count))


def _reach(at: int, size: int, end: int) -> int:
    """Where a request of at most this size that begins here ends: within its stripe, and within the file."""
    return min(at + size, (at // STRIPE + 1) * STRIPE, end)


class Pipeline:
    """The state of one file on its way.

    Blocks come from a far source in requests that are under way at once, or from a near one in a thread, several
    stripes at a time; then they are handed on in the order of the file. Where an end is near, the same thread also
    hashes: what the processor has just had in its hands it has at hand.
    """

    def __init__(
        self, tuning: Tuning, held: InFlight, pace: RateLimit, clock: Callable[[], float], way: Transfer
    ) -> None:
        self._tuning = tuning
        self._held = held
        self._pace = pace
        self._clock = clock
        self._way = way
        self._holding = 0
        self._ahead = InFlight(_AHEAD)
        self._acknowledged = way.durable.copy()
        self._arrived: dict[int, Block] = {}
        self._front = 0  # up to here everything has arrived, and was handed on
        self._to_hash = _Queue()
        self._to_write = _Queue()
        self._work: dict[asyncio.Task[Any], None] = {}  # in the order of issue, so that a run replays
        self._writes: dict[asyncio.Task[Any], None] = {}
        self._end: asyncio.Future[None] = asyncio.get_running_loop().create_future()
        self._syncing: asyncio.Task[Any] | None = None
        self._unsynced = 0
        self._synced_at = clock()
        #: How far this machine's disk was written, in order, and the digest's checkpoint there.
        self._hashed = 0, ""
        self._checks = sorted(way.checkpoints)
        #: Where the last bytes end that were written, and the last zeros that were left out.
        self._written_to = self._left_out_to = 0

    async def run(self) -> bool:
        """All of it; whether its last byte is known to be on the far disk. Raises as `Carrier.carry` says."""
        way = self._way
        try:
            if way.size:
                await self._in_pieces()
            return await self._sync()
        except Stopped:
            await self._drain(sync=True)
            raise
        except BaseException:
            await self._drain(sync=False)
            raise
        finally:
            self._let_go(self._holding)

    async def _in_pieces(self) -> None:
        way = self._way
        read, write = way.source.read_here, way.part.write_here
        if read is not None and write is not None:
            works = [self._copy_near(read, write)]
        else:
            works = [self._read_all() if read is None else self._read_near(read)]
            if read is None and write is None:
                works.append(self._hash_all())
            works.append(self._write_all() if write is None else self._write_near(write))
        loops = [self._begin(work) for work in works]
        for loop in loops:
            loop.add_done_callback(lambda _: self._finish_after(loops))
        await self._end

    def _begin(self, work: Coroutine[Any, Any, None]) -> asyncio.Task[None]:
        task = asyncio.ensure_future(work)
        self._work[task] = None
        task.add_done_callback(self._ended)
        return task

    def _ended(self, task: asyncio.Task[Any]) -> None:
        """What fails first ends the whole."""
        self._work.pop(task, None)
        if not task.cancelled() and (error := task.exception()) is not None and not self._end.done():
            self._end.set_exception(error)

    def _finish_after(self, loops: list[asyncio.Task[None]]) -> None:
        if not self._end.done() and all(loop.done() for loop in loops):
            self._end.set_result(None)

    async def _hold(self, count: int) -> None:
        await self._held.take(count)
        self._holding += count
        if self._way.stop.is_set():
            raise Stopped

    def _let_go(self, count: int) -> None:
        self._holding -= count
        self._held.give(count)

    def _done_with(self, block: Block) -> None:
        """Let go of a block when nothing is left to be done with it."""
        if block.hashed and block.written:
            self._let_go(len(block.data))

    def _piece_end(self, at: int, size: int, end: int) -> int:
        """As `_reach`, and all of the piece is on the far disk already, or nothing."""
        end = self._way.durable.edge_after(at, _reach(at, size, end))
        check = bisect_right(self._checks, at)
        return min(end, self._checks[check]) if check < len(self._checks) else end

    def _known(self, start: int, end: int) -> bool:
        return self._way.durable.covers(start, end)

    # -- reading -----------------------------------------------------------------------------------------

    async def _read_all(self) -> None:
        """From afar: many requests at once."""
        way, at = self._way, 0
        size = way.read_size if way.part.write_here else min(way.read_size, way.write_size)
        while at < way.size:
            end = self._piece_end(at, size, way.size)
            reader = way.prefix if self._known(at, end) else way.source
            await self._hold(end - at)
            if reader is way.source:
                await self._pace.take(end - at)
            await reader.flow.take(end - at)
            _answers(self._begin(self._read(reader, at, end - at)), reader.flow, end - at)
            at = end

    async def _read(self, reader: Reader, offset: int, count: int) -> None:
        data = await reader.read(offset, count)
        if len(data) != count:
            raise StoreError(Fault.SOURCE_CHANGED)
        self._arrived[offset] = Block(offset, data)
        while (block := self._arrived.pop(self._front, None)) is not None:
            self._hand_on(block)

    async def _read_near(self, read: Callable[[int, int], bytes]) -> None:
        """From here: several stripes at a time, hashed on the spot, and not much further ahead than it is taken."""
        size, at = self._way.size, 0
        while at < size:
            end = min(at + _AT_A_TIME, size)
            await self._ahead.take(end - at)
            await self._hold(end - at)
            for block in await self._tuning.apart(self._read_and_hash, read, at, end):
                self._hand_on(block)
            at = end

    def _read_and_hash(self, read: Callable[[int, int], bytes], start: int, end: int) -> list[Block]:
        """In a thread, which goes to the system no more than twice."""
        data = read(start, end - start)
        if len(data) != end - start:
            raise StoreError(Fault.SOURCE_CHANGED)
        self._way.hash.update(data)
        view, blocks, at = memoryview(data), [], start
        while at < end:
            stop = self._piece_end(at, self._way.write_size, end)
            blocks.append(Block(at, view[at - start : stop - start], hashed=True))
            at = stop
        return blocks

    def _hand_on(self, block: Block) -> None:
        self._front = block.end
        if not block.hashed and self._way.part.write_here is None:
            self._to_hash.put(block)
        self._to_write.put(block)

    # -- hashing and writing -----------------------------------------------------------------------------

    async def _hash_all(self) -> None:
        """Where both ends are far: whatever has come in order, all of it at once."""
        hashed = 0
        while hashed < self._way.size:
            blocks = await self._next(self._to_hash)
            await self._tuning.apart(self._hash, blocks)
            for block in blocks:
                block.hashed = True
                hashed = block.end
                self._done_with(block)

    def _hash(self, blocks: list[Block]) -> None:
        self._way.hash.update(_joined(blocks))

    async def _next(self, line: _Queue) -> list[Block]:
        """What has come within a moment, if it is not too much: the less often threads change, the better."""
        await line.wait()
        if self._front < self._way.size and line.size < STRIPE:
            await asyncio.sleep(self._tuning.pause)
        return line.take_some()

    async def _write_near(self, write: Callable[[int, Piece], None]) -> None:
        """To here: what has come in order is hashed and written, in one thread."""
        done = 0
        while done < self._way.size:
            blocks = await self._next(self._to_write)
            if self._way.stop.is_set():
                raise Stopped
            await asyncio.shield(self._begin_write(self._keep(write, blocks)))
            done = blocks[-1].end

    async def _keep(self, write: Callable[[int, Piece], None], blocks: list[Block]) -> None:
        await self._tuning.apart(self._hash_and_write, write, blocks)
        self._hashed = blocks[-1].end, self._way.hash.checkpoint()
        for block in blocks:
            if not self._known(block.offset, block.end):
                self._count(block.offset, block.end, left_out=self._may_leave_out(block.offset, block.data))
            block.hashed = block.written = True
            self._done_with(block)
        self._start_sync_if_due()

    def _hash_and_write(self, write: Callable[[int, Piece], None], blocks: list[Block]) -> None:
        """In a thread, for which what is in one piece is better, as above. Raises BeginningDiffers."""
        if self._checks and blocks[0].offset < self._checks[-1]:
            for block in blocks:
                self._hash_and_check(block)
                if not self._known(block.offset, block.end):
                    write(block.offset, block.data)
            return
        data = _joined(blocks)
        self._way.hash.update(data)
        if any(self._may_leave_out(block.offset, block.data) for block in blocks):
            for block in blocks:
                if not self._may_leave_out(block.offset, block.data):
                    write(block.offset, block.data)
        elif not self._known(blocks[0].offset, blocks[-1].end):
            write(blocks[0].offset, data)

    def _hash_and_check(self, block: Block) -> None:
        """A block of the beginning that an earlier session has left: no block reaches over a checkpoint."""
        self._way.hash.update(block.data)
        expected = self._way.checkpoints.get(block.end)
        if expected is not None and self._way.hash.checkpoint() != expected:
            raise BeginningDiffers(max((check for check in self._checks if check < block.end), default=0))

    async def _copy_near(self, read: Callable[[int, int], bytes], write: Callable[[int, Piece], None]) -> None:
        """From here to here: a stripe after the other."""
        at = 0
        while at < self._way.size:
            end = _reach(at, self._way.read_size, self._way.size)
            if self._way.stop.is_set():
                raise Stopped
            await self._pace.take(end - at)
            await asyncio.shield(self._begin_write(self._copy(read, write, at, end)))
            at = end

    async def _copy(
        self, read: Callable[[int, int], bytes], write: Callable[[int, Piece], None], at: int, end: int
    ) -> None:
        known = self._known(at, end)

        def copy() -> tuple[int, bool]:
            data = read(at, end - at)
            self._way.hash.update(data)
            left_out = bool(data) and self._may_leave_out(at, data)
            if not (known or left_out or self._way.part.copy_here(self._way.source, at, len(data))):
                write(at, data)
            return len(data), left_out

        count, left_out = await self._tuning.apart(copy)
        if count != end - at:
            raise StoreError(Fault.SOURCE_CHANGED)
        if not known:
            self._acknowledge(at, end, left_out=left_out)

    def _may_leave_out(self, at: int, data: Piece) -> bool:
        """Whether these are zeros where nothing was ever written: a hole is as good. The last block makes the size."""
        return self._way.fresh and at + len(data) < self._way.size and _is_zeros(data)

    async def _write_all(self) -> None:
        """To afar: many requests at once."""
        way, done = self._way, 0
        while done < way.size:
            await self._to_write.wait()
            block = self._to_write.take()
            done = block.end
            if self._known(block.offset, block.end):
                block.written = True
                self._done_with(block)
            elif self._may_leave_out(block.offset, block.data):
                if way.stop.is_set():
                    raise Stopped
                self._acknowledge(block.offset, block.end, left_out=True)
                block.written = True
                self._done_with(block)
                await asyncio.sleep(0)  # nothing else here waits, and others want their turn
            else:
                if way.source.read_here is not None:  # else it has waited when it was asked for
                    await self._pace.take(len(block.data))
                await way.part.flow.take(len(block.data))
                if way.stop.is_set():
                    way.part.flow.give(len(block.data))
                    raise Stopped
                _answers(self._begin_write(self._write(block)), way.part.flow, len(block.data))
            self._ahead.give(len(block.data))
        await self._all_answered()

    async def _all_answered(self) -> None:
        while self._writes:
            await asyncio.wait(self._writes, return_when=asyncio.FIRST_COMPLETED)

    def _begin_write(self, work: Coroutine[Any, Any, None]) -> asyncio.Task[None]:
        task = asyncio.ensure_future(work)
        self._writes[task] = None
        task.add_done_callback(self._written)
        return task

    def _written(self, task: asyncio.Task[None]) -> None:
        self._writes.pop(task, None)
        self._ended(task)

    async def _write(self, block: Block) -> None:
        """One request. What flows to afar is never larger: what is read from afar is no larger either."""
        await self._way.part.write(block.offset, block.data)
        self._acknowledge(block.offset, block.end)
        block.written = True
        self._done_with(block)

    def _acknowledge(self, start: int, end: int, *, left_out: bool = False) -> None:
        self._count(start, end, left_out=left_out)
        self._start_sync_if_due()

    def _count(self, start: int, end: int, *, left_out: bool = False) -> None:
        self._acknowledged.add(start, end)
        if left_out:
            self._left_out_to = max(self._left_out_to, end)
            self._way.left_out(end - start)
        else:
            self._written_to = max(self._written_to, end)
            self._unsynced += end - start
            self._way.moved(end - start)

    # -- syncing -----------------------------------------------------------------------------------------

    def _start_sync_if_due(self) -> None:
        if self._syncing is not None and not self._syncing.done():
            return
        due = self._unsynced >= self._tuning.sync_bytes
        late = self._unsynced and self._clock() - self._synced_at >= self._tuning.sync_seconds
        if due or late:
            self._syncing = asyncio.ensure_future(self._sync_now())
            self._syncing.add_done_callback(self._ended)

    async def _sync_now(self) -> bool:
        """One sync. It covers what was acknowledged before it was asked for, and nothing later."""
        covered = self._acknowledged.copy()
        hashed, value = self._hashed
        self._unsynced = 0
        self._synced_at = self._clock()
        if (end := self._left_out_to) > self._written_to:
            # What is durable must lie within the file: its last zero gives it the size.
            await self._way.part.write(end - 1, b"\0")
            self._written_to = max(self._written_to, end)
        durable = await self._way.part.sync()
        if durable:
            self._way.synced(covered, value if hashed == covered.prefix else "")
        return durable

    async def _sync(self) -> bool:
        if self._syncing is not None:
            await self._syncing
        return await self._sync_now() if self._way.sync_last else False

    async def _drain(self, *, sync: bool) -> None:
        """Wait for the answers that are still owed, within reason, so that no write of ours comes late."""
        reading = list(self._work)
        for task in reading:
            task.cancel()
        owed: dict[asyncio.Task[Any], None] = {**dict.fromkeys(reading), **self._writes}
        if self._syncing is not None:
            owed[self._syncing] = None
        if owed:
            await asyncio.wait(owed, timeout=self._tuning.drain_seconds)
            for task in owed:
                if not task.done():
                    task.cancel()
                elif not task.cancelled():
                    task.exception()  # seen; the first one is on its way up already
        if self._end.done() and not self._end.cancelled():
            self._end.exception()
        if sync:
            try:
                async with asyncio.timeout(self._tuning.drain_seconds):
                    await self._sync_now()
            except (StoreError, TimeoutError):
                pass  # the journal keeps what it knew; nothing is claimed
