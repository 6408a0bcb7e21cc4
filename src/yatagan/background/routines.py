"""Routines: requests that are met again and again, and what their runs came to. One SQLite file a host.

A run plans anew and moves only what is new. It never overlaps itself: while the batch of the last run goes on, a run
that is due is only counted, as left out.
"""

from __future__ import annotations

import contextlib
import json
import os
import sqlite3
from dataclasses import asdict, dataclass
from enum import StrEnum
from pathlib import Path
from typing import Any

from yatagan.background.routine_decisions import RoutineStanding
from yatagan.background.schedules import OnChange, Schedule, read_schedule
from yatagan.batches.locks import Holder
from yatagan.batches.moments import NEVER, Moment
from yatagan.batches.small_database import is_made, small_database
from yatagan.config.guarded_files import parse_json
from yatagan.config.home import Home
from yatagan.errors import NoSuchRoutine, YataganError
from yatagan.operations.request_json import Request, read_request, write_request

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
_ADDED = {
    "routine": "since_wall REAL NOT NULL DEFAULT 0, since_boot TEXT NOT NULL DEFAULT '',"
    " since_ticks REAL NOT NULL DEFAULT 0, request TEXT NOT NULL DEFAULT ''",
    "run": "owner TEXT NOT NULL DEFAULT ''",
}
_ROUTINE = (
    "name, words, directory, schedule, until, created, held, due, trouble, sources, settles,"
    " since_wall, since_boot, since_ticks, request"
)
_RUN = "number, routine, began, ended, outcome, batch, files, size, detail, left_out, owner"


class RunOutcome(StrEnum):
    """What a run came to."""

    RUNNING = "running"
    MOVED = "moved"
    NOTHING_NEW = "nothing new"
    FAILED = "failed"
    #: What was looked at is as it should be, or it is not.
    GOOD = "good"
    NOT_GOOD = "not good"
    #: Its process ended while it planned; the routine is due again at once.
    BROKEN_OFF = "broken off"


@dataclass(frozen=True, slots=True)
class Routine:
    """A request that is met again and again.

    `words`: what was typed for it, in `directory`; empty for one that a program has added. `request` is None where an
    earlier version has kept the words alone. `until` and `due` in seconds since the epoch; 0 for no end.
    `trouble`: what is wrong since it last went well, "" if nothing. `sources`: what is followed, absolute; "" for a
    node's. `settles`: seconds for which a file must not have changed. `since`: when `due` was set.
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
    since: Moment = NEVER
    request: Request | None = None

    @property
    def standing(self) -> RoutineStanding:
        """What decides when it runs."""
        return RoutineStanding(self.schedule, self.due, self.since, self.held, self.until, self.settles)


@dataclass(frozen=True, slots=True)
class Run:
    """One run. Times in seconds since the epoch; `ended` is 0 while it goes on. `size` in bytes.

    `left_out`: so many others were due while it went on. `owner`: the process that plans it.
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
    owner: Holder | None = None


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
        if not is_made(self._file):
            return []
        with self._open() as sql:
            return [_routine(row) for row in sql.execute(f"SELECT {_ROUTINE} FROM routine ORDER BY name")]

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
                f"INSERT OR REPLACE INTO routine ({_ROUTINE}) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                (
                    routine.name,
                    json.dumps(routine.words),
                    os.fsencode(routine.directory),
                    str(routine.schedule),
                    routine.until,
                    routine.created,
                    routine.held,
                    routine.due,
                    routine.trouble,
                    json.dumps(routine.sources),
                    routine.settles,
                    routine.since.wall,
                    routine.since.boot,
                    routine.since.ticks,
                    json.dumps(write_request(routine.request)) if routine.request is not None else "",
                ),
            )

    def remove(self, name: str) -> None:
        """Forget a routine and its runs."""
        with self._open() as sql:
            sql.execute("DELETE FROM routine WHERE name = ?", (name,))
            sql.execute("DELETE FROM run WHERE routine = ?", (name,))

    def runs(self, name: str, most: int = _KEPT_RUNS) -> list[Run]:
        """The last runs of a routine, oldest first."""
        if not is_made(self._file):
            return []
        with self._open() as sql:
            rows = sql.execute(f"SELECT {_RUN} FROM run WHERE routine = ? ORDER BY number DESC LIMIT ?", (name, most))
            return [_run(row) for row in rows][::-1]

    def begin(self, routine: str, now: float, owner: Holder) -> int | None:
        """Note that a process begins a run; forget very old ones. Returns its number, None while another goes on."""
        with self._open() as sql:
            values = (
                routine,
                now,
                RunOutcome.RUNNING.value,
                json.dumps(asdict(owner)),
                routine,
                RunOutcome.RUNNING.value,
            )
            done = sql.execute(
                "INSERT INTO run (routine, began, outcome, owner) SELECT ?, ?, ?, ?"
                " WHERE NOT EXISTS (SELECT 1 FROM run WHERE routine = ? AND outcome = ?)",
                values,
            )
            if not done.rowcount:
                return None
            number = done.lastrowid
            sql.execute(
                "DELETE FROM run WHERE routine = ? AND number <= (SELECT number FROM run WHERE routine = ?"
                " ORDER BY number DESC LIMIT 1 OFFSET ?)",
                (routine, routine, _KEPT_RUNS),
            )
        return number

    def undo(self, run: int) -> None:
        """A run was broken off before it had planned anything: as if it had never begun."""
        with self._open() as sql:
            sql.execute("DELETE FROM run WHERE number = ?", (run,))

    def go_on(self, run: int, batch: str, detail: str = "") -> None:
        """A run has made a batch, which goes on. `detail`: what was wrong with its plan."""
        with self._open() as sql:
            sql.execute("UPDATE run SET batch = ?, detail = ? WHERE number = ?", (batch, detail, run))

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

    def set_due(self, name: str, due: float, now: Moment) -> None:
        """Say when a routine is due next, by the wall's clock."""
        with self._open() as sql:
            values = due, now.wall, now.boot, now.ticks, name
            sql.execute(
                "UPDATE routine SET due = ?, since_wall = ?, since_boot = ?, since_ticks = ? WHERE name = ?", values
            )

    def change(self, name: str, **values: object) -> None:
        """Change `held` or `trouble` of a routine."""
        with self._open() as sql:
            for column, value in values.items():
                assert column in ("held", "trouble")
                sql.execute(f"UPDATE routine SET {column} = ? WHERE name = ?", (value, name))

    def _open(self) -> contextlib.AbstractContextManager[sqlite3.Connection]:
        return small_database(self._file, _SCHEMA, _ADDED)


def _routine(row: tuple[Any, ...]) -> Routine:
    name, words, directory, schedule, until, created, held, due, trouble, sources, settles, *since, request = row
    place = os.fsdecode(directory)
    try:
        typed, when, followed = tuple(parse_json(words)), read_schedule(schedule), tuple(parse_json(sources))
        asked = read_request(parse_json(request)) if request else None
    except (ValueError, TypeError, YataganError):  # it must not stop the others
        why = "what is on disk of it makes no sense: remove it and add it again"
        return Routine(name, (), place, OnChange(), until, created, True, due, why)
    moment = Moment(*since)
    return Routine(name, typed, place, when, until, created, bool(held), due, trouble, followed, settles, moment, asked)


def _run(row: tuple[Any, ...]) -> Run:
    number, routine, began, ended, outcome, batch, files, size, detail, left_out, owner = row
    holder = Holder(**parse_json(owner)) if owner else None
    return Run(number, routine, began, ended, RunOutcome(outcome), batch, files, size, detail, left_out, holder)
