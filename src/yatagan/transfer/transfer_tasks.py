"""The tasks of one transfer: the first that fails ends it; it ends only when every write is answered or given up."""

from __future__ import annotations

import asyncio
from collections.abc import Coroutine, Iterable
from typing import Any

from yatagan.futures import fail


class TransferTasks:
    """What reads, hashes and writes at the same time."""

    def __init__(self) -> None:
        self._work: dict[asyncio.Task[Any], None] = {}  # ordered, so that a simulated run replays
        self._writes: dict[asyncio.Task[Any], None] = {}
        self._end: asyncio.Future[None] = asyncio.get_running_loop().create_future()

    async def run(self, loops: Iterable[Coroutine[Any, Any, None]]) -> None:
        """Run loops until all of them are done. Raises the first error of any task."""
        begun = [self.begin(loop) for loop in loops]

        def finish(task: asyncio.Task[None]) -> None:
            if not self._end.done() and all(loop.done() for loop in begun):
                self._end.set_result(None)

        for loop in begun:
            loop.add_done_callback(finish)
        await self._end

    def begin(self, work: Coroutine[Any, Any, None]) -> asyncio.Task[None]:
        """Begin what may be cancelled at any moment."""
        task = asyncio.ensure_future(work)
        self._work[task] = None
        task.add_done_callback(self.ended)
        return task

    def begin_write(self, work: Coroutine[Any, Any, None]) -> asyncio.Task[None]:
        """Begin a write, which is never cancelled while an answer may still come."""
        task = asyncio.ensure_future(work)
        self._writes[task] = None
        task.add_done_callback(self._written)
        return task

    def _written(self, task: asyncio.Task[None]) -> None:
        self._writes.pop(task, None)
        self.ended(task)

    def ended(self, task: asyncio.Task[Any]) -> None:
        """Note the end of a task: the first failure ends the transfer."""
        self._work.pop(task, None)
        if not task.cancelled() and (error := task.exception()) is not None:
            fail(self._end, error)

    async def all_answered(self) -> None:
        """Wait until no write is under way."""
        while self._writes:
            await asyncio.wait(self._writes, return_when=asyncio.FIRST_COMPLETED)

    async def drain(self, syncing: asyncio.Task[Any] | None, seconds: float) -> None:
        """Wait at most so long for outstanding answers, so that no write arrives late."""
        reading = list(self._work)
        for task in reading:
            task.cancel()
        owed: dict[asyncio.Task[Any], None] = {**dict.fromkeys(reading), **self._writes}
        if syncing is not None:
            owed[syncing] = None
        if owed:
            await asyncio.wait(owed, timeout=seconds)
            for task in owed:
                if not task.done():
                    task.cancel()
                elif not task.cancelled():
                    task.exception()  # seen; the first one is on its way up already
        if self._end.done() and not self._end.cancelled():
            self._end.exception()
