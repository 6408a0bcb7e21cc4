"""Routines: stages that run again and again, and what their runs came to. One SQLite file a host.

A run plans anew and moves only what is new. It never overlaps itself: while the batch of the last run goes on, a run
that is due is only counted, as left out.
"""

from __future__ import annotations

import contextlib
import json
import sqlite3
from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path
from typing import Any

from yatagan.background.schedules import Schedule, read_schedule
from yatagan.batches.small_database import small_database
from yatagan.config.home import Home
from yatagan.errors import NoSuchRoutine

#: Runs of one routine that are kept.
_KEPT_RUNS = 1000

_SCHEMA = """
CREATE TABLE IF NOT EXISTS routine (
    name TEXT PRIMARY KEY, words TEXT NOT NULL, directory TEXT NOT NULL, schedule TEXT NOT NULL,
    until REAL NOT NULL, created REAL NOT NULL, held INTEGER NOT NULL DEFAULT 0, due REAL NOT NULL,
    trouble TEXT NOT NULL DEFAULT '', sources TEXT NOT NULL DEFAULT '[]', settles REAL NOT NULL DEFAULT 0);
CREATE TABLE IF NOT EXISTS run (
    number INTEGER PRIMARY KEY AUTOINCREMENT, routine TEXT NOT NULL, began REAL NOT NULL, ended REAL NOT NULL DEFAULT 0,
    outcome TEXT NOT NULL, batch TEXT NOT NULL DEFAULT '', files INTEGER NOT NULL DEFAULT 0,
    size INTEGER NOT NULL DEFAULT 0, detail TEXT NOT NULL DEFAULT '', left_out INTEGER NOT NULL DEFAULT 0);
CREATE INDEX IF NOT EXISTS run_routine ON run (routine, number);
"""


class RunOutcome(StrEnum):
    """What a run came to."""

    RUNNING = "running"
    MOVED = "moved"
    NOTHING_NEW = "nothing new"
    FAILED = "failed"


@dataclass(frozen=True, slots=True)
class Routine:
    """A stage that runs again and again.

    `words`: the stage as it would be typed, in `directory`. `until` and `due` in seconds since the epoch; 0 for no end.
    `trouble`: what is wrong since it last went well, "" if nothing. `sources`: what is followed, absolute; "" for a
    node's. `settles`: seconds for which a file must not have changed.
    """

    name: str
    words: tuple[str, ...]
    directory: str
    schedule: Schedule
    until: float
    created: float
    held: bool = False
    due: float = 0.0
    trouble: str = ""
    sources: tuple[str, ...] = ()
    settles: float = 0.0


@dataclass(frozen=True, slots=True)
class Run:
    """One run. Times in seconds since the epoch; `ended` is 0 while it goes on. `size` in bytes.

    `left_out`: so many others were due while it went on.
    """

    number: int
    routine: str
    began: float
    ended: float
    outcome: RunOutcome
    batch: str
    files: int
    size: int
    detail: str
    left_out: int


class RoutineBook:
    """The routines of one user on one host. Raises JournalError."""

    def __init__(self, file: Path) -> None:
        self._file = file

    @classmethod
    def of(cls, home: Home) -> RoutineBook:
        """The routines of this host."""
        return cls(home.routines)

    def all(self) -> list[Routine]:
        """All of them, by name."""
        if not self._file.exists():
            return []
        with self._open() as sql:
            rows = sql.execute(
                "SELECT name, words, directory, schedule, until, created, held, due, trouble, sources, settles"
                " FROM routine ORDER BY name"
            )
            return [_routine(row) for row in rows]

    def get(self, name: str) -> Routine:
        """The routine of this name. Raises NoSuchRoutine."""
        routines = self.all()
        found = next((routine for routine in routines if routine.name == name), None)
        if found is None:
            raise NoSuchRoutine(name, tuple(routine.name for routine in routines))
        return found

    def put(self, routine: Routine) -> None:
        """Save a routine, in place of one of the same name; its runs stay."""
        with self._open() as sql:
            sql.execute(
                "INSERT OR REPLACE INTO routine VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                (
                    routine.name,
                    json.dumps(routine.words),
                    routine.directory,
                    str(routine.schedule),
                    routine.until,
                    routine.created,
                    routine.held,
                    routine.due,
                    routine.trouble,
                    json.dumps(routine.sources),
                    routine.settles,
                ),
            )

    def remove(self, name: str) -> None:
        """Forget a routine and its runs."""
        with self._open() as sql:
            sql.execute("DELETE FROM routine WHERE name = ?", (name,))
            sql.execute("DELETE FROM run WHERE routine = ?", (name,))

    def runs(self, name: str, most: int = _KEPT_RUNS) -> list[Run]:
        """The last runs of a routine, oldest first."""
        if not self._file.exists():
            return []
        with self._open() as sql:
            rows = sql.execute(
                "SELECT number, routine, began, ended, outcome, batch, files, size, detail, left_out FROM run"
                " WHERE routine = ? ORDER BY number DESC LIMIT ?",
                (name, most),
            )
            return [_run(row) for row in rows][::-1]

    def begin(self, routine: str, now: float) -> int:
        """Note that a run begins, and forget very old ones. Returns its number."""
        with self._open() as sql:
            values = routine, now, RunOutcome.RUNNING.value
            number = sql.execute("INSERT INTO run (routine, began, outcome) VALUES (?, ?, ?)", values).lastrowid
            sql.execute(
                "DELETE FROM run WHERE routine = ? AND number <= (SELECT number FROM run WHERE routine = ?"
                " ORDER BY number DESC LIMIT 1 OFFSET ?)",
                (routine, routine, _KEPT_RUNS),
            )
        return int(number or 0)

    def go_on(self, run: int, batch: str) -> None:
        """A run has made a batch, which goes on."""
        with self._open() as sql:
            sql.execute("UPDATE run SET batch = ? WHERE number = ?", (batch, run))

    def leave_out(self, run: int) -> None:
        """Another run was due while this one went on."""
        with self._open() as sql:
            sql.execute("UPDATE run SET left_out = left_out + 1 WHERE number = ?", (run,))

    def end(
        self, run: int, now: float, outcome: RunOutcome, *, files: int = 0, size: int = 0, detail: str = ""
    ) -> None:
        """Note what a run came to."""
        with self._open() as sql:
            values = now, outcome.value, files, size, detail, run
            sql.execute(
                "UPDATE run SET ended = ?, outcome = ?, files = ?, size = ?, detail = ? WHERE number = ?", values
            )

    def change(self, name: str, **values: object) -> None:
        """Change `held`, `due` or `trouble` of a routine."""
        with self._open() as sql:
            for column, value in values.items():
                assert column in ("held", "due", "trouble")
                sql.execute(f"UPDATE routine SET {column} = ? WHERE name = ?", (value, name))

    def _open(self) -> contextlib.AbstractContextManager[sqlite3.Connection]:
        return small_database(self._file, _SCHEMA)


def _routine(row: tuple[Any, ...]) -> Routine:
    name, words, directory, schedule, until, created, held, due, trouble, sources, settles = row
    typed, when = tuple(json.loads(words)), read_schedule(schedule)
    followed = tuple(json.loads(sources))
    return Routine(name, typed, directory, when, until, created, bool(held), due, trouble, followed, settles)


def _run(row: tuple[Any, ...]) -> Run:
    number, routine, began, ended, outcome, batch, files, size, detail, left_out = row
    return Run(number, routine, began, ended, RunOutcome(outcome), batch, files, size, detail, left_out)
