"""One run of a batch, whoever carries it: the executor, the batch's log, and the ledger at the end."""

from __future__ import annotations

import contextlib
import json
import time
from dataclasses import replace
from typing import Any

from yatagan.batches import events as ev
from yatagan.batches.batch_store import Batch
from yatagan.batches.counts import record
from yatagan.batches.journal import Journal
from yatagan.batches.states import BatchState, StepState
from yatagan.engine.executor import Conditions, Executor
from yatagan.engine.retry import RetryPolicy
from yatagan.engine.scheduler import Limits
from yatagan.errors import CONSEQUENCES, CannotReach, JournalError
from yatagan.ledger.records import Ledger
from yatagan.places import name_fields
from yatagan.stores.interface import Source


class RunLog:
    """The batch's log: what happened to the line and which steps failed, one JSON object a line."""

    def __init__(self, batch: Batch) -> None:
        self._file = batch.log_file
        try:
            self._stream = self._file.open("a", encoding="utf-8")
        except OSError as error:
            raise JournalError(str(self._file), error.strerror or str(error)) from error

    def take(self, event: ev.Event) -> None:
        """Write an event that is worth keeping."""
        match event:
            case ev.RetryWaiting(seconds, fault, _):
                self._write("line lost", fault=fault, seconds=round(seconds, 1))
            case ev.ConnectionOpened(again):
                self._write("line open", again=again)
            case ev.StepReturned(number, label, fault):
                self._write("step back", step=number, fault=fault, **name_fields(label))
            case ev.StepSettled(state=StepState.FAILED) if event.fault not in CONSEQUENCES:
                self._write("step failed", step=event.number, fault=event.fault, **name_fields(event.label))
            case ev.Note(label, fault, detail):
                self._write("note", fault=fault, detail=detail, **name_fields(label))
            case ev.BatchSettled(state, fault, detail):
                self._write(state.value, fault=fault, detail=detail)

    def _write(self, what: str, **more: Any) -> None:
        line = {"time": time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime()), "what": what, **more}
        try:
            self._stream.write(json.dumps(line) + "\n")
            self._stream.flush()
        except OSError as error:
            raise JournalError(str(self._file), error.strerror or str(error)) from error

    def close(self) -> None:
        """Close the file."""
        with contextlib.suppress(OSError):  # a line that could not be written has been told of
            self._stream.close()


class BatchRun:
    """Carries a batch that we hold the lock of. `patience`: seconds for which a lost line is waited for."""

    def __init__(
        self,
        batch: Batch,
        journal: Journal,
        ends: tuple[Source, Source],
        listener: ev.Listener,
        ledger: Ledger,
        patience: float,
    ) -> None:
        self._journal = journal
        self._ledger = ledger
        self._listener = listener
        self._log = RunLog(batch)
        conditions = replace(Conditions(), limits=Limits(retry=RetryPolicy(patience=patience)))
        self._executor = Executor(journal, *ends, self._listen, conditions)

    def _listen(self, event: ev.Event) -> None:
        self._log.take(event)
        self._listener(event)

    def stop(self) -> None:
        """Come to a clean stop soon. May be called from a signal handler of the loop."""
        self._executor.stop()

    async def run(self) -> CannotReach | None:
        """Run until the batch is settled, and put it on record when it is finished. Raises JournalError.

        Returns why the line could not be had the last time, if it could not.
        """
        try:
            await self._executor.run()
        finally:
            self._log.close()
        if self._journal.standing().state is BatchState.FINISHED:
            self._journal.clear_spool()
        record(self._journal, self._ledger)
        return self._executor.problem
