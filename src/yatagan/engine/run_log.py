"""The log of a batch, `log.jsonl`."""

from __future__ import annotations

import contextlib
import json
import time
from typing import Any

from yatagan.batches import events as ev
from yatagan.batches.batch_store import Batch
from yatagan.batches.states import StepState
from yatagan.errors import CONSEQUENCES, JournalError
from yatagan.places import name_fields


class RunLog:
    """What happened to the connection, and which steps failed: one JSON object a line. Raises JournalError."""

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
                self._write("connection lost", fault=fault, seconds=round(seconds, 1))
            case ev.ConnectionOpened(again):
                self._write("connected", again=again)
            case ev.StepPostponed(number, label, fault):
                self._write("step postponed", step=number, fault=fault, **name_fields(label))
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
        with contextlib.suppress(OSError):  # a line that could not be written was reported
            self._stream.close()
