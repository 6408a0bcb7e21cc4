"""How much of a part file is written, and how much of that is on disk: it is synced every so many bytes or seconds."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from typing import Any

from yatagan.transfer.transfer import Transfer, Tuning


class PartOnDisk:
    """One part file. `ended` is given each sync that was begun, when it ends."""

    def __init__(
        self,
        transfer: Transfer,
        tuning: Tuning,
        clock: Callable[[], float],
        ended: Callable[[asyncio.Task[Any]], None],
    ) -> None:
        self._transfer = transfer
        self._tuning = tuning
        self._clock = clock
        self._ended = ended
        self._acknowledged = transfer.durable.copy()
        self._unsynced = 0
        self._synced_at = clock()
        #: End of the last bytes that were written, and of the last hole.
        self._written_to = self._left_out_to = 0
        #: End of what is hashed and written here, in order, and the checkpoint of the digest at that offset.
        self.hashed = 0, ""
        #: The sync that was begun last.
        self.syncing: asyncio.Task[Any] | None = None

    def add(self, start: int, end: int, *, left_out: bool = False) -> None:
        """Count bytes that were written, or left out as a hole."""
        self._acknowledged.add(start, end)
        if left_out:
            self._left_out_to = max(self._left_out_to, end)
            self._transfer.reports.left_out(end - start)
        else:
            self._written_to = max(self._written_to, end)
            self._unsynced += end - start
            self._transfer.reports.moved(end - start)

    def sync_if_due(self) -> None:
        """Begin a sync, unless one is under way or none is needed yet."""
        if self.syncing is not None and not self.syncing.done():
            return
        due = self._unsynced >= self._tuning.sync_bytes
        late = self._unsynced and self._clock() - self._synced_at >= self._tuning.sync_seconds
        if due or late:
            self.syncing = asyncio.ensure_future(self.sync())
            self.syncing.add_done_callback(self._ended)

    async def sync(self) -> bool:
        """Sync once. Covers what was acknowledged before the request, and nothing later. Whether it is on disk."""
        covered = self._acknowledged.copy()
        hashed, value = self.hashed
        self._unsynced = 0
        self._synced_at = self._clock()
        part = self._transfer.ends.part
        if (end := self._left_out_to) > self._written_to:
            # What is durable must lie within the file: its last zero gives it the size.
            await part.write(end - 1, b"\0")
            self._written_to = max(self._written_to, end)
        durable = await part.sync()
        if durable:
            self._transfer.reports.synced(covered, value if hashed == covered.prefix else "")
        return durable

    async def finish(self) -> bool:
        """Sync for the last time, if that is wanted. Returns whether all of the file is known to be on disk."""
        if self.syncing is not None:
            await self.syncing
        return await self.sync() if self._transfer.sync_last else False
