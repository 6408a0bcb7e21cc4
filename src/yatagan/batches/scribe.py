"""The scribe writes to the journal for everybody: what is handed over while one commit runs goes into the next.

A commit costs a disk sync; thousands of small files would each pay for several. Who needs to know
that a change is on disk waits for it (`note`); who does not, goes on (`mention`).
"""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Sequence

from yatagan.batches.journal import Journal
from yatagan.batches.steps import Change, Writers
from yatagan.errors import JournalError

Apply = Callable[[Sequence[Change | Writers]], Awaitable[None]]


class Scribe:
    """Writes changes in the order in which they were handed over. The first failure ends it."""

    def __init__(self, journal: Journal, *, threaded: bool = True) -> None:
        self._journal = journal
        self._threaded = threaded
        self._changes: list[Change | Writers] = []
        self._waiting: list[asyncio.Future[None]] = []
        self._task: asyncio.Task[None] | None = None
        self.error: JournalError | None = None

    def mention(self, change: Change) -> None:
        """Write this soon."""
        self._changes.append(change)
        self._wake()

    async def note(self, *changes: Change | Writers) -> None:
        """Write these; returns when they are on disk. Raises JournalError."""
        if self.error is not None:
            raise self.error
        self._changes.extend(changes)
        future: asyncio.Future[None] = asyncio.get_running_loop().create_future()
        self._waiting.append(future)
        self._wake()
        await future

    async def finish(self) -> None:
        """Write what is left. Raises JournalError."""
        await self.note()

    def _wake(self) -> None:
        if self._task is None or self._task.done():
            self._task = asyncio.ensure_future(self._write())

    async def _write(self) -> None:
        while (self._changes or self._waiting) and self.error is None:
            changes, self._changes = self._changes, []
            waiting, self._waiting = self._waiting, []
            try:
                if changes:
                    await self._apply(changes)
            except JournalError as error:
                self.error = error
                for future in waiting:
                    if not future.done():
                        future.set_exception(error)
            else:
                for future in waiting:
                    if not future.done():
                        future.set_result(None)
        if self.error is not None:
            for future in self._waiting:
                if not future.done():
                    future.set_exception(self.error)
            self._waiting.clear()

    async def _apply(self, changes: Sequence[Change | Writers]) -> None:
        if self._threaded:
            await asyncio.to_thread(self._journal.apply, changes)
        else:
            self._journal.apply(changes)
