"""Where bundles meet the event loop: archives are made and read in threads, stores are asynchronous.

`in_thread` runs blocking work that can be stopped. In it `BlockingReader` reads a file of a store and `BlockingWriter`
writes one.
"""

from __future__ import annotations

import asyncio
import threading
from collections import OrderedDict
from collections.abc import Callable, Coroutine
from concurrent.futures import Future
from typing import Any, TypeVar

from yatagan.errors import StoreError
from yatagan.stores.interface import Reader, Store, Writer

T = TypeVar("T")

#: Requests of a reader that are under way ahead of what was asked for, once it reads in order.
_AHEAD = 16
#: Blocks that are kept, those read ahead among them, since small reads come back to the same ones.
_KEPT = 48
#: Bytes that are written and not yet acknowledged.
_IN_FLIGHT = 8 << 20


class WorkStopped(Exception):
    """Blocking work was stopped."""


async def in_thread(work: Callable[[threading.Event], T]) -> T:
    """Run blocking work in a thread, and wait for its end even when cancelled. Its argument is set to stop it."""
    stop = threading.Event()
    task = asyncio.ensure_future(asyncio.to_thread(work, stop))
    try:
        return await asyncio.shield(task)
    except asyncio.CancelledError:
        stop.set()
        await asyncio.wait([task], timeout=5)
        if task.done() and not task.cancelled():
            task.exception()
        raise


async def to_its_end(work: Coroutine[Any, Any, T]) -> T:
    """Await something that must not be cancelled half-way, such as creating a file."""
    task = asyncio.ensure_future(work)
    try:
        return await asyncio.shield(task)
    except asyncio.CancelledError:
        await asyncio.wait([task], timeout=5)
        if task.done() and not task.cancelled():
            task.exception()
        raise


class BlockingReader:
    """An open file of a store for blocking work: any part of it, with prefetch when read in order.

    `fetched`: bytes read from the store. `ahead`: requests to prefetch.
    """

    def __init__(self, store: Store, reader: Reader, size: int, ahead: int = _AHEAD) -> None:
        self.size = size
        self._ahead = ahead
        self.fetched = 0
        self._reader = reader
        self._step = store.traits.read_size
        self._loop = asyncio.get_running_loop()
        self._blocks: OrderedDict[int, Future[bytes]] = OrderedDict()
        self._last = -2

    def read_at(self, offset: int, size: int) -> bytes:
        """`size` bytes, fewer only at the end. Raises StoreError."""
        size = min(size, self.size - offset)
        if size <= 0:
            return b""
        first, last = offset // self._step, (offset + size - 1) // self._step
        in_order = first in (self._last, self._last + 1)
        self._last = last
        end = -(-self.size // self._step)
        for number in range(first, min(last + 1 + (self._ahead if in_order else 0), end)):
            self._ask(number)
        try:
            pieces = [self._blocks[number].result() for number in range(first, last + 1)]
        except StoreError:
            self._forget(0)
            raise
        self._forget(_KEPT)
        data = pieces[0] if len(pieces) == 1 else b"".join(pieces)
        at = offset - first * self._step
        return data[at : at + size]

    def _ask(self, number: int) -> None:
        if number in self._blocks:
            self._blocks.move_to_end(number)
            return
        begins = number * self._step
        size = min(self._step, self.size - begins)
        self.fetched += size
        self._blocks[number] = asyncio.run_coroutine_threadsafe(self._reader.read(begins, size), self._loop)

    def _forget(self, but: int) -> None:
        """Drop blocks that were not used recently."""
        while len(self._blocks) > but:
            self._blocks.popitem(last=False)[1].cancel()


class BlockingWriter:
    """A part file for blocking work, written from front to back; the bytes in flight are bounded."""

    def __init__(self, store: Store, writer: Writer) -> None:
        self.writer = writer
        self._step = store.traits.write_size
        self._loop = asyncio.get_running_loop()
        self._waiting: list[Future[None]] = []
        self._most = max(1, _IN_FLIGHT // self._step)
        self.written = 0

    def write(self, data: bytes) -> None:
        """Queue bytes to be written. Raises StoreError, also for bytes queued earlier."""
        for at in range(0, len(data), self._step):
            piece = data[at : at + self._step]
            self._waiting.append(asyncio.run_coroutine_threadsafe(self.writer.write(self.written, piece), self._loop))
            self.written += len(piece)
            if len(self._waiting) >= self._most:
                self._waiting.pop(0).result()

    def finish(self) -> bool:
        """Wait for all answers and sync. Returns whether the store could."""
        while self._waiting:
            self._waiting.pop(0).result()
        return asyncio.run_coroutine_threadsafe(self.writer.sync(), self._loop).result()

    async def settle(self) -> None:
        """After a failure, wait until nothing queued can be written any more."""
        for future in self._waiting:
            try:
                await asyncio.wait_for(asyncio.wrap_future(future), 2)
            except (StoreError, TimeoutError, asyncio.CancelledError):
                continue

    async def close(self) -> None:
        """Let go of the file."""
        await self.writer.close()
