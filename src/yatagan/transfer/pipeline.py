"""The pipeline of one file: blocks are read, hashed, written and synced concurrently.

It ends, whether well or not, only when every write that it began is answered or the connection is gone.
"""

from __future__ import annotations

import asyncio
from bisect import bisect_right
from collections.abc import Callable

from yatagan.errors import StoreError
from yatagan.faults import Fault
from yatagan.stores.in_flight import InFlight
from yatagan.stores.interface import STRIPE, Piece, Reader
from yatagan.transfer.blocks import Block, BlockQueue, HeldMemory, is_zeros, joined
from yatagan.transfer.part_on_disk import PartOnDisk
from yatagan.transfer.rate_limit import RateLimit
from yatagan.transfer.stopping import Stopped
from yatagan.transfer.transfer import BeginningDiffers, Transfer, Tuning
from yatagan.transfer.transfer_tasks import TransferTasks

#: Bytes that a thread reads and hashes per call. Each return waits for the event loop, so returns should be few.
_THREAD_BYTES = 4 * STRIPE
#: Bytes that are prefetched of a local file, and the most that a thread is given at once.
_PREFETCH = 2 * _THREAD_BYTES


def _answers(task: asyncio.Task[None], flow: InFlight, count: int) -> None:
    """Release a request's bytes when its task ends, even if it is cancelled before it has begun."""
    task.add_done_callback(lambda _: flow.answered(count))


def _request_end(at: int, size: int, end: int) -> int:
    """End of a request of at most `size` bytes that begins at `at`: within one stripe, and within the file."""
    return min(at + size, (at // STRIPE + 1) * STRIPE, end)


class Pipeline:
    """One file's transfer.

    A remote source is read by many concurrent requests, a local one by a thread, several stripes at a time. Blocks are
    handed on in the order of the file. The thread that reads or writes locally also hashes, while the block is still
    in the processor's cache.
    """

    def __init__(
        self, tuning: Tuning, memory: InFlight, rate_limit: RateLimit, clock: Callable[[], float], transfer: Transfer
    ) -> None:
        self._tuning = tuning
        self._rate_limit = rate_limit
        self._transfer = transfer
        self._ends = transfer.ends
        self._memory = HeldMemory(memory)
        self._tasks = TransferTasks()
        self._part = PartOnDisk(transfer, tuning, clock, self._tasks.ended)
        self._prefetched = InFlight(_PREFETCH)
        self._arrived: dict[int, Block] = {}
        self._front = 0  # everything before this offset has arrived and was handed on
        self._to_hash = BlockQueue()
        self._to_write = BlockQueue()
        self._checks = sorted(transfer.checkpoints)

    async def run(self) -> bool:
        """Transfer the file. Returns whether all of it is known to be on disk. Raises as `Carrier.carry` does."""
        try:
            if self._transfer.size:
                await self._in_pieces()
            return await self._part.finish()
        except Stopped:
            await self._drain(sync=True)
            raise
        except BaseException:
            await self._drain(sync=False)
            raise
        finally:
            self._memory.give_all()

    async def _in_pieces(self) -> None:
        read, write = self._ends.source.read_here, self._ends.part.write_here
        if read is not None and write is not None:
            loops = [self._copy_local(read, write)]
        else:
            loops = [self._read_remote() if read is None else self._read_local(read)]
            if read is None and write is None:
                loops.append(self._hash_all())
            loops.append(self._write_remote() if write is None else self._write_local(write))
        await self._tasks.run(loops)

    async def _drain(self, *, sync: bool) -> None:
        """Wait a bounded time for outstanding answers; then keep what can be kept."""
        await self._tasks.drain(self._part.syncing, self._tuning.drain_seconds)
        if sync:
            try:
                async with asyncio.timeout(self._tuning.drain_seconds):
                    await self._part.sync()
            except (StoreError, TimeoutError):
                pass  # the journal keeps what it knew; nothing is claimed

    async def _reserve(self, count: int) -> None:
        await self._memory.take(count)
        if self._transfer.stop.is_set():
            raise Stopped

    def _piece_end(self, at: int, size: int, end: int) -> int:
        """As `_reach`, and all of the piece is on the far disk already, or nothing."""
        end = self._transfer.durable.edge_after(at, _request_end(at, size, end))
        check = bisect_right(self._checks, at)
        return min(end, self._checks[check]) if check < len(self._checks) else end

    def _known(self, start: int, end: int) -> bool:
        return self._transfer.durable.covers(start, end)

    # -- reading -----------------------------------------------------------------------------------------

    async def _read_remote(self) -> None:
        """Read a remote source by concurrent requests."""
        ends, at = self._ends, 0
        size = ends.read_size if ends.part.write_here else min(ends.read_size, ends.write_size)
        while at < self._transfer.size:
            end = self._piece_end(at, size, self._transfer.size)
            reader = ends.prefix if self._known(at, end) else ends.source
            await self._reserve(end - at)
            if reader is ends.source:
                await self._rate_limit.take(end - at)
            await reader.flow.take(end - at)
            _answers(self._tasks.begin(self._read(reader, at, end - at)), reader.flow, end - at)
            at = end

    async def _read(self, reader: Reader, offset: int, count: int) -> None:
        data = await reader.read(offset, count)
        if len(data) != count:
            raise StoreError(Fault.SOURCE_CHANGED)
        self._arrived[offset] = Block(offset, data)
        while (block := self._arrived.pop(self._front, None)) is not None:
            self._hand_on(block)

    async def _read_local(self, read: Callable[[int, int], bytes]) -> None:
        """Read a local source, several stripes at a time, hash it in the same thread, and prefetch up to _PREFETCH."""
        size, at = self._transfer.size, 0
        while at < size:
            end = min(at + _THREAD_BYTES, size)
            await self._prefetched.take(end - at)
            await self._reserve(end - at)
            for block in await self._tuning.in_thread(self._read_and_hash, read, at, end):
                self._hand_on(block)
            at = end

    def _read_and_hash(self, read: Callable[[int, int], bytes], start: int, end: int) -> list[Block]:
        """Read and hash in a thread: one read and one hash, whatever the request size."""
        data = read(start, end - start)
        if len(data) != end - start:
            raise StoreError(Fault.SOURCE_CHANGED)
        self._transfer.hash.update(data)
        view, blocks, at = memoryview(data), [], start
        while at < end:
            stop = self._piece_end(at, self._ends.write_size, end)
            blocks.append(Block(at, view[at - start : stop - start], hashed=True))
            at = stop
        return blocks

    def _hand_on(self, block: Block) -> None:
        self._front = block.end
        if not block.hashed and self._ends.part.write_here is None:
            self._to_hash.put(block)
        self._to_write.put(block)

    # -- hashing and writing -----------------------------------------------------------------------------

    async def _hash_all(self) -> None:
        """Hash where both ends are remote: whatever has arrived in order, in one call."""
        hashed = 0
        while hashed < self._transfer.size:
            blocks = await self._next(self._to_hash)
            await self._tuning.in_thread(self._hash, blocks)
            for block in blocks:
                block.hashed = True
                hashed = block.end
                self._memory.give_if_done(block)

    def _hash(self, blocks: list[Block]) -> None:
        self._transfer.hash.update(joined(blocks))

    async def _next(self, queue: BlockQueue) -> list[Block]:
        """The next blocks. Waits a moment for a whole stripe, because each change of thread costs."""
        await queue.wait()
        if self._front < self._transfer.size and queue.size < STRIPE:
            await asyncio.sleep(self._tuning.pause)
        return queue.take_up_to(_PREFETCH)

    async def _write_local(self, write: Callable[[int, Piece], None]) -> None:
        """Write locally: what has arrived in order is hashed and written by one thread."""
        done = 0
        while done < self._transfer.size:
            blocks = await self._next(self._to_write)
            if self._transfer.stop.is_set():
                raise Stopped
            await asyncio.shield(self._tasks.begin_write(self._write_blocks(write, blocks)))
            done = blocks[-1].end

    async def _write_blocks(self, write: Callable[[int, Piece], None], blocks: list[Block]) -> None:
        await self._tuning.in_thread(self._hash_and_write, write, blocks)
        self._part.hashed = blocks[-1].end, self._transfer.hash.checkpoint()
        for block in blocks:
            if not self._known(block.offset, block.end):
                self._part.add(block.offset, block.end, left_out=self._may_be_hole(block.offset, block.data))
            block.hashed = block.written = True
            self._memory.give_if_done(block)
        self._part.sync_if_due()

    def _hash_and_write(self, write: Callable[[int, Piece], None], blocks: list[Block]) -> None:
        """Hash and write in a thread, in one piece where possible. Raises BeginningDiffers."""
        if self._checks and blocks[0].offset < self._checks[-1]:
            for block in blocks:
                self._hash_and_check(block)
                if not self._known(block.offset, block.end):
                    write(block.offset, block.data)
            return
        data = joined(blocks)
        self._transfer.hash.update(data)
        if any(self._may_be_hole(block.offset, block.data) for block in blocks):
            for block in blocks:
                if not self._may_be_hole(block.offset, block.data):
                    write(block.offset, block.data)
        elif not self._known(blocks[0].offset, blocks[-1].end):
            write(blocks[0].offset, data)

    def _hash_and_check(self, block: Block) -> None:
        """Hash a block that an earlier session left and compare at its checkpoint; no block spans one."""
        self._transfer.hash.update(block.data)
        expected = self._transfer.checkpoints.get(block.end)
        if expected is not None and self._transfer.hash.checkpoint() != expected:
            raise BeginningDiffers(max((check for check in self._checks if check < block.end), default=0))

    async def _copy_local(self, read: Callable[[int, int], bytes], write: Callable[[int, Piece], None]) -> None:
        """Copy on this machine, one stripe after the other."""
        at = 0
        while at < self._transfer.size:
            end = self._piece_end(at, self._ends.read_size, self._transfer.size)
            if self._transfer.stop.is_set():
                raise Stopped
            await self._rate_limit.take(end - at)
            await asyncio.shield(self._tasks.begin_write(self._copy(read, write, at, end)))
            at = end

    async def _copy(
        self, read: Callable[[int, int], bytes], write: Callable[[int, Piece], None], at: int, end: int
    ) -> None:
        known = self._known(at, end)

        def copy() -> tuple[int, bool]:
            data = read(at, end - at)
            self._transfer.hash.update(data)
            left_out = bool(data) and self._may_be_hole(at, data)
            if not (known or left_out or self._ends.part.copy_here(self._ends.source, at, len(data))):
                write(at, data)
            return len(data), left_out

        count, left_out = await self._tuning.in_thread(copy)
        if count != end - at:
            raise StoreError(Fault.SOURCE_CHANGED)
        if not known:
            self._acknowledge(at, end, left_out=left_out)

    def _may_be_hole(self, at: int, data: Piece) -> bool:
        """Whether zeros may stay a hole: the part file is new there. The last block is written, which sets the size."""
        return self._transfer.fresh and at + len(data) < self._transfer.size and is_zeros(data)

    async def _write_remote(self) -> None:
        """Write to a remote store by concurrent requests."""
        transfer, ends, done = self._transfer, self._ends, 0
        while done < transfer.size:
            await self._to_write.wait()
            block = self._to_write.take()
            done = block.end
            if self._known(block.offset, block.end):
                block.written = True
                self._memory.give_if_done(block)
            elif self._may_be_hole(block.offset, block.data):
                if transfer.stop.is_set():
                    raise Stopped
                self._acknowledge(block.offset, block.end, left_out=True)
                block.written = True
                self._memory.give_if_done(block)
                await asyncio.sleep(0)  # nothing else here waits, and others want their turn
            else:
                if ends.source.read_here is not None:  # else it has waited when it was asked for
                    await self._rate_limit.take(len(block.data))
                await ends.part.flow.take(len(block.data))
                if transfer.stop.is_set():
                    ends.part.flow.give(len(block.data))
                    raise Stopped
                _answers(self._tasks.begin_write(self._write(block)), ends.part.flow, len(block.data))
            self._prefetched.give(len(block.data))
        await self._tasks.all_answered()

    async def _write(self, block: Block) -> None:
        """Write a block by one request; no block is larger than one."""
        await self._ends.part.write(block.offset, block.data)
        self._acknowledge(block.offset, block.end)
        block.written = True
        self._memory.give_if_done(block)

    def _acknowledge(self, start: int, end: int, *, left_out: bool = False) -> None:
        self._part.add(start, end, left_out=left_out)
        self._part.sync_if_due()
