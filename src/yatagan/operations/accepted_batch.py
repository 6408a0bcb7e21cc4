"""A batch that was accepted, held by its lock until it is carried or let go of."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import AsyncIterator
from types import TracebackType
from typing import Self

from yatagan.batches.batch_store import Batch
from yatagan.batches.counts import BatchCounts, outcome_of
from yatagan.batches.events import Event, Listener
from yatagan.batches.said import until_said
from yatagan.desk.desk import Desk
from yatagan.desk.open_session import OpenSession
from yatagan.engine.run import BatchRun
from yatagan.errors import CannotReach, JournalError
from yatagan.keeper.client import KeeperRun
from yatagan.operations.who_carries import make_run
from yatagan.stores.interface import Source


class AcceptedBatch:
    """A batch whose lock this process holds, and its journal, until the block of `async with` is left.

    `ends`: source and destination where they are open already.
    """

    def __init__(self, desk: Desk, batch: Batch, ends: tuple[Source, Source] | None = None) -> None:
        self.batch = batch
        self.journal = batch.journal()
        self._desk = desk
        self._ends = ends
        self._run: BatchRun | KeeperRun | None = None
        self._stopped = False
        self._left: BatchCounts | None = None

    @property
    def name(self) -> str:
        """Its name."""
        return self.batch.name

    @property
    def outcome(self) -> BatchCounts:
        """What it comes to so far; once the block is left, what it came to."""
        return self._left or outcome_of(self.journal)

    def stop(self) -> None:
        """Come to a clean stop soon. May be called from a signal handler of the loop."""
        self._stopped = True
        if self._run is not None:
            self._run.stop()

    async def carry(self, listener: Listener) -> CannotReach | None:
        """Carry it, and tell what happens, until it is settled or a person stops it, here or by a command.

        Returns why the last try to connect failed, if it did. Raises JournalError, UnknownNode, BadConfig.
        """
        self._run = await make_run(self._desk, self.batch, self.journal, listener, self._ends)
        self._ends = None
        if self._stopped:
            self._run.stop()
        until_stopped = asyncio.ensure_future(self._until_said())
        try:
            return await self._run.run()
        finally:
            until_stopped.cancel()
            self._run = None

    async def run(self) -> AsyncIterator[Event]:
        """As `carry`, event by event. A state is in the journal before its event comes.

        Who stops listening, or is cancelled, stops it cleanly: what has arrived is safe, and it can be resumed.
        """
        told: asyncio.Queue[Event | None] = asyncio.Queue()
        carrying = asyncio.ensure_future(self.carry(told.put_nowait))
        carrying.add_done_callback(lambda _: told.put_nowait(None))
        try:
            while (event := await told.get()) is not None:
                yield event
            await carrying
        finally:
            if not carrying.done():
                self.stop()
                await asyncio.wait([carrying])

    async def _until_said(self) -> None:
        await until_said(self.batch)
        self.stop()

    async def __aenter__(self) -> Self:
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        for end in self._ends or ():
            if isinstance(end, OpenSession):
                await end.release()
        with contextlib.suppress(JournalError):
            self._left = outcome_of(self.journal)
        self.journal.close()
        self.batch.unlock()
