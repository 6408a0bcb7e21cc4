"""Which stages are being planned. One that is killed before its plan is accepted leaves no batch, but an entry here."""

from __future__ import annotations

import contextlib
import json
import time
from collections.abc import Iterator
from dataclasses import asdict
from pathlib import Path
from typing import NamedTuple

from yatagan.batches.locks import Holder
from yatagan.batches.small_database import is_made, small_database
from yatagan.errors import JournalError

_SCHEMA = "CREATE TABLE IF NOT EXISTS planning (number INTEGER PRIMARY KEY, holder TEXT, command TEXT, began REAL)"


class BrokenOff(NamedTuple):
    """A stage whose process ended before its plan was accepted: what was typed, and when (seconds since the epoch)."""

    command: tuple[str, ...]
    began: float


class PlanningLog:
    """The stages that are being planned on this machine. That it cannot be written keeps none from being planned."""

    def __init__(self, file: Path) -> None:
        self._file = file

    @contextlib.contextmanager
    def planning(self, command: tuple[str, ...]) -> Iterator[None]:
        """Note a stage until its batch is accepted, or it comes to an end without one."""
        number: int | None = None
        with contextlib.suppress(JournalError), small_database(self._file, _SCHEMA) as sql:
            values = json.dumps(asdict(Holder.this_process())), json.dumps(command), time.time()
            number = sql.execute("INSERT INTO planning (holder, command, began) VALUES (?, ?, ?)", values).lastrowid
        try:
            yield
        finally:
            with contextlib.suppress(JournalError), small_database(self._file, _SCHEMA) as sql:
                sql.execute("DELETE FROM planning WHERE number = ?", (number,))

    def broken_off(self) -> list[BrokenOff]:
        """Those whose processes have ended, the newest first; each is returned once. Raises JournalError."""
        found: list[BrokenOff] = []
        if not is_made(self._file):
            return found
        with small_database(self._file, _SCHEMA) as sql:
            rows = sql.execute("SELECT number, holder, command, began FROM planning ORDER BY began DESC").fetchall()
            for number, holder, command, began in rows:
                known = Holder(**json.loads(holder))
                if known.is_here and not known.is_alive:
                    sql.execute("DELETE FROM planning WHERE number = ?", (number,))
                    found.append(BrokenOff(tuple(json.loads(command)), began))
        return found
