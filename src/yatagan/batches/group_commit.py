"""Group commit: one task writes to the journal for everybody; what is added during one commit goes into the next.

A commit costs a disk sync, and thousands of small files would each pay for several. Whoever must know that a change is
on disk waits for it (`note`); others go on (`mention`).
"""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Sequence

from yatagan.batches.journal import Journal
from yatagan.batches.pace import PaceRow
from yatagan.batches.steps import AnyChange, Change
from yatagan.futures import fail

Apply = Callable[[Sequence[AnyChange]], Awaitable[None]]


class GroupCommit:
    """Writes changes in the order in which they were given. The first failure ends it.

    `pace` gives rows of the pace that go along with a commit.
    """

    def __init__(
        self, journal: Journal, *, threaded: bool = True, pace: Callable[[], Sequence[PaceRow]] = tuple
    ) -> None:
        self._journal = journal
        self._pace = pace
        self._threaded = threaded
        self._changes: list[AnyChange] = []
        self._later: dict[int, Change] = {}
        self._waiting: list[asyncio.Future[None]] = []
        self._task: asyncio.Task[None] | None = None
        self._error: BaseException | None = None

    def mention(self, change: Change) -> None:
        """Write a change soon."""
        self._changes.append(change)
        self._wake()

    def add(self, change: Change) -> None:
        """Write a change together with the next one of its step."""
        before = self._later.get(change.number)
        self._later[change.number] = change if before is None else _both(before, change)

    async def note(self, *changes: AnyChange) -> None:
        """Write changes, or without any what is not yet written. Returns when that is on disk. Raises JournalError."""
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

    def _completed(self, change: AnyChange) -> AnyChange:
        if not isinstance(change, Change) or change.number not in self._later:
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
                if self._error is not None:
                    fail(future, self._error)
                elif not future.done():
                    future.set_result(None)

    async def _apply(self, changes: Sequence[AnyChange]) -> None:
        pace = self._pace()
        if self._threaded:
            await asyncio.to_thread(self._journal.apply, changes, pace)
        else:
            self._journal.apply(changes, pace)


def _both(first: Change, second: Change) -> Change:
    """Merge two changes of one step; bytes sent are added up."""
    both = Change._make(old if new is None else new for old, new in zip(first, second, strict=True))
    return both._replace(sent=(first.sent or 0) + second.sent) if second.sent is not None else both
