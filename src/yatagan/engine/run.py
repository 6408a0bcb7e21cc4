"""One run of a batch in any process: the executor, the batch's log, and its ledger record at the end."""

from __future__ import annotations

import asyncio
import os
import platform

from yatagan.batches import events as ev
from yatagan.batches.batch_store import Batch
from yatagan.batches.journal import Journal
from yatagan.batches.log_events import LogBegun
from yatagan.batches.snapshot import SnapshotWriter
from yatagan.batches.states import BatchState
from yatagan.engine.executor import Conditions, Executor
from yatagan.engine.recording import record
from yatagan.engine.retry import RetryPolicy
from yatagan.engine.run_log import RunLog
from yatagan.engine.scheduler import Limits
from yatagan.errors import CannotReach
from yatagan.ledger.ledger import Ledger
from yatagan.stores.interface import Source

#: Seconds without an answer before that is reported, and between looks.
_QUIET, _QUIET_LOOKS = 5.0, 1.0


class BatchRun:
    """Carries a batch whose lock is held. `patience`: seconds for which a lost connection is retried.

    `room_first`: after a full disk it goes on only where all that is left will fit.
    """

    def __init__(
        self,
        batch: Batch,
        journal: Journal,
        ends: tuple[Source, Source],
        listener: ev.Listener,
        ledger: Ledger,
        patience: float,
        *,
        room_first: bool = False,
    ) -> None:
        self._journal = journal
        self._ledger = ledger
        self._listener = listener
        self._log = RunLog(batch)
        self._snapshot = SnapshotWriter(batch.snapshot_file)
        conditions = Conditions(limits=Limits(retry=RetryPolicy(patience=patience)), room_first=room_first)
        self._executor = Executor(journal, *ends, self._listen, conditions)

    def _listen(self, event: ev.Event) -> None:
        self._log.take(event)
        self._snapshot.take(event)
        self._listener(event)

    def stop(self) -> None:
        """Come to a clean stop soon. May be called from a signal handler of the loop."""
        self._executor.stop()

    async def _watch(self) -> None:
        """Report a node that does not answer, and when it answers again; and write down how it is getting on."""
        quiet = ""
        while True:
            await asyncio.to_thread(self._snapshot.write, self._snapshot.encode())
            await asyncio.sleep(_QUIET_LOOKS)
            store = max(self._executor.stores, key=lambda store: store.quiet_seconds, default=None)
            if store is not None and store.quiet_seconds >= _QUIET:
                quiet = store.name
                self._listen(ev.Quiet(quiet, store.quiet_seconds))
            elif quiet:
                self._listen(ev.Quiet(quiet, 0.0))
                quiet = ""

    async def run(self) -> CannotReach | None:
        """Run until the batch is settled, then write its ledger record if it is finished. Raises JournalError.

        Returns why the last try to connect failed; None if it did not.
        """
        self._log.write(LogBegun(os.getpid(), platform.node()))
        watch = asyncio.ensure_future(self._watch())
        try:
            await self._executor.run()
        finally:
            watch.cancel()
            self._snapshot.remove()
        if self._journal.standing().state is BatchState.FINISHED:
            self._journal.clear_spool()
        record(self._journal, self._ledger)
        return self._executor.problem
