"""The log of a batch, `log.jsonl`: what happened to it, one JSON object a line, oldest first.

Every line has `time` (RFC 3339, UTC), `batch` and `event`; what else belongs to an event stands beside it, its units in
the names (`batches/log_events.py`). A line never holds what was asked at a login, nor an answer. One cause is one line:
of the steps that come back because the connection was lost, none is listed. A file that is full becomes `log.1.jsonl`,
and so on.
"""

from __future__ import annotations

import contextlib
import json
import os
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any, BinaryIO

from yatagan.batches import events as ev
from yatagan.batches import log_events as log
from yatagan.batches.batch_store import Batch
from yatagan.batches.states import StepState
from yatagan.config.guarded_files import parse_json
from yatagan.config.own_files import open_private
from yatagan.errors import JournalError
from yatagan.faults import CONNECTION_FAULTS, CONSEQUENCES

#: Bytes of one file, and how many full ones are kept beside it.
_LARGEST, _KEPT = 1 << 20, 3
#: Seconds between lines that say how far it is.
_PROGRESS_SECONDS = 600.0


class RunLog:
    """Writes what is worth keeping of a run's events. Raises JournalError."""

    def __init__(self, batch: Batch) -> None:
        self._batch = batch.name
        self._file = batch.log_file
        self._settled = self._bytes = 0
        self._silent = False
        self._told = time.monotonic()

    def take(self, event: ev.Event) -> None:
        """Write an event that is worth keeping."""
        match event:
            case ev.RetryWaiting(seconds, fault, error):
                said = error.detail if error is not None else ""
                self.write(log.LogConnectionLost(fault, said, round(seconds, 1)))
            case ev.ConnectionOpened(again):
                self.write(log.LogConnected(again))
            case ev.StepPostponed(number, label, fault) if fault not in CONNECTION_FAULTS:
                self.write(log.LogPostponed(number, fault, label))
            case ev.StepSettled(state=StepState.FAILED) if event.fault not in CONSEQUENCES:
                self.write(log.LogFailed(event.number, event.label, event.fault, event.detail))
            case ev.LookedAgain(looked_at, gone, changed):
                self.write(log.LogLooked(looked_at, gone, changed))
            case ev.Note(label, fault, detail):
                self.write(log.LogNote(fault, label, detail))
            case ev.Quiet(node, seconds) if self._silent != (seconds >= _TOLD_SILENCE) and (self._silent or seconds):
                self._silent = not self._silent
                self.write(log.LogNoAnswer(node) if self._silent else log.LogAnswersAgain(node))
            case ev.BatchSettled(state, fault, detail):
                self.write(log.LogEnded(state, self._settled, self._bytes, fault, detail))
        self._count(event)

    def _count(self, event: ev.Event) -> None:
        match event:
            case ev.BytesMoved(_, count):
                self._bytes += count
            case ev.StepSettled():
                self._settled += 1
            case _:
                return
        if time.monotonic() - self._told >= _PROGRESS_SECONDS:
            self._told = time.monotonic()
            self.write(log.LogProgress(self._settled, self._bytes))

    def write(self, event: log.LogEvent) -> None:
        """Write a line."""
        line = {"time": time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime()), "batch": self._batch}
        line |= log.write_event(event)
        try:
            self._make_room()
            with os.fdopen(open_private(self._file, os.O_RDWR | os.O_APPEND), "a+b") as stream:
                if _is_torn(stream):
                    stream.write(b"\n")
                stream.write(json.dumps(line).encode() + b"\n")
        except OSError as error:
            raise JournalError(str(self._file), error.strerror or str(error)) from error

    def _make_room(self) -> None:
        """Move a file that has grown to its limit aside."""
        with contextlib.suppress(FileNotFoundError):
            if self._file.stat().st_size < _LARGEST:
                return
            for number in range(_KEPT, 0, -1):
                with contextlib.suppress(FileNotFoundError):
                    os.replace(_numbered(self._file, number - 1), _numbered(self._file, number))


#: A node that has not answered for so many seconds is worth a line.
_TOLD_SILENCE = 30.0


def _is_torn(stream: BinaryIO) -> bool:
    """Whether a file ends within a line, as after a power cut or on a disk that was full."""
    if stream.seek(0, os.SEEK_END) == 0:
        return False
    stream.seek(-1, os.SEEK_END)
    return stream.read(1) != b"\n"


def _numbered(file: Path, number: int) -> Path:
    return file.with_name(f"log.{number}.jsonl") if number else file


def log_files(batch: Batch) -> list[Path]:
    """The files of a batch's log that are there, oldest first."""
    files = [_numbered(batch.log_file, number) for number in range(_KEPT, -1, -1)]
    return [file for file in files if file.exists()]


def read_events(batch: Batch) -> Iterator[tuple[str, log.LogEvent]]:
    """What happened to a batch, and when (RFC 3339), oldest first. Raises JournalError where that cannot be read."""
    for line in read_log(batch):
        if (event := log.read_event(line)) is not None:
            yield str(line.get("time", "")), event


def read_log(batch: Batch) -> Iterator[dict[str, Any]]:
    """The lines of a batch's log, oldest first. One that makes no sense, as after a power cut, is left out.

    Raises JournalError where it cannot be read.
    """
    for file in log_files(batch):
        try:
            with file.open(encoding="utf-8", errors="replace") as stream:
                for line in stream:
                    with contextlib.suppress(ValueError):
                        found = parse_json(line)
                        if isinstance(found, dict):
                            yield found
        except FileNotFoundError:  # it was moved aside just now
            continue
        except OSError as error:
            raise JournalError(str(file), error.strerror or str(error)) from error
