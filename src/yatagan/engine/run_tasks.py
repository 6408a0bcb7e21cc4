"""The tasks of one run. The first that fails with what nobody foresaw ends it."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Coroutine
from typing import Any


class RunTasks:
    """What a run does at the same time. `failed` is called once, when a task ends with an error."""

    def __init__(self, failed: Callable[[], None]) -> None:
        self._failed = failed
        self._tasks: set[asyncio.Task[None]] = set()
        self._closing: list[asyncio.Task[None]] = []
        #: What the first task that failed has raised.
        self.failure: BaseException | None = None

    def begin(self, work: Coroutine[Any, Any, None]) -> asyncio.Task[None]:
        """Begin what is cancelled when the run ends."""
        task = asyncio.ensure_future(work)
        self._tasks.add(task)
        task.add_done_callback(self._ended)
        return task

    def begin_closing(self, work: Coroutine[Any, Any, None]) -> None:
        """Begin what the end of the run waits for."""
        self._closing.append(self.begin(work))

    def _ended(self, task: asyncio.Task[None]) -> None:
        self._tasks.discard(task)
        if not task.cancelled() and task.exception() is not None and self.failure is None:
            self.failure = task.exception()
            self._failed()

    async def end(self) -> None:
        """Wait for what is being closed, and cancel the rest."""
        await asyncio.gather(*self._closing, return_exceptions=True)
        for task in list(self._tasks):
            task.cancel()
        await asyncio.gather(*self._tasks, return_exceptions=True)
