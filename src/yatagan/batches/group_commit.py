"""The commits writes to the journal for everybody: what is handed over while one commit runs goes into the next.

A commit costs a disk sync; thousands of small files would each pay for several. Who needs to know
that a change is on disk waits for it (`note`); who does not, goes on (`mention`).
"""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Sequence

from yatagan.batches.journal import Journal
from yatagan.batches.steps import Change, SessionWriters

Apply = Callable[[Sequence[Change | SessionWriters]], Awaitable[None]]


class GroupCommit:
    """Writes changes in the order in which they were handed over. The first failure ends it, whatever it is."""

    def __init__(self, journal: Journal, *, threaded: bool = True) -> None:
        self._journal = journal
        self._threaded = threaded
        self._changes: list[Change | SessionWriters] = []
        self._later: dict[int, Change] = {}
        self._waiting: list[asyncio.Future[None]] = []
        self._task: asyncio.Task[None] | None = None
        self._error: BaseException | None = None

    def mention(self, change: Change) -> None:
        """Write this soon."""
        self._changes.append(change)
        self._wake()

    def add(self, change: Change) -> None:
        """Write this together with what is next written about its step."""
        before = self._later.get(change.number)
        self._later[change.number] = change if before is None else _both(before, change)

    async def note(self, *changes: Change | SessionWriters) -> None:
        """Write these, or else whatever is not yet written; returns when it is on disk. Raises JournalError."""
        if self._error is not None:
            raise self._error
        if changes:
            self._changes += [self._completed(change) for change in changes]
        else:
            self._changes += self._later.values()
            self._later.clear()
        future: asyncio.Future[None] = asyncio.get_running_loop().create_future()
        self._waiting.append(future)
        self._wake()
        await future

    def _completed(self, change: Change | SessionWriters) -> Change | SessionWriters:
        if isinstance(change, SessionWriters) or change.number not in self._later:
            return change
        return _both(self._later.pop(change.number), change)

    async def finish(self) -> None:
        """Write what is left. Raises JournalError."""
        await self.note()

    def _wake(self) -> None:
        if self._task is None or self._task.done():
            self._task = asyncio.ensure_future(self._write())

    async def _write(self) -> None:
        while self._changes or self._waiting:
            changes, self._changes = self._changes, []
            waiting, self._waiting = self._waiting, []
            try:
                if self._error is None and changes:
                    await self._apply(changes)
            except BaseException as error:  # noqa: BLE001 those who wait raise it
                self._error = error
            for future in waiting:
                if future.done():
                    continue
                if self._error is None:
                    future.set_result(None)
                else:
                    future.set_exception(self._error)

    async def _apply(self, changes: Sequence[Change | SessionWriters]) -> None:
        if self._threaded:
            await asyncio.to_thread(self._journal.apply, changes)
        else:
            self._journal.apply(changes)


def _both(first: Change, second: Change) -> Change:
    """Two changes of one step as one; what was sent adds up."""
    both = Change._make(old if new is None else new for old, new in zip(first, second, strict=True))
    return both._replace(sent=(first.sent or 0) + second.sent) if second.sent is not None else both
