"""The queue: which batches wait for workers, in which order, and when each may go on.

One SQLite file a host, in the user's state directory. Any number of processes may look at it; a look never waits for
another process, nor makes one wait. In it are only batches that were accepted to be carried in the background. A batch
leaves it when it has ended, or when a person has stopped it: what is not in the queue is never picked up.

Whether a batch is being carried is not written here. That is what its lock says, which ends with the process.
"""

from __future__ import annotations

import contextlib
import json
import os
import sqlite3
import time
from collections.abc import Callable, Iterable
from dataclasses import asdict
from pathlib import Path
from typing import Any, NamedTuple

from yatagan.batches.batch_store import Batch, Batches
from yatagan.batches.journal_reading import as_journal_error
from yatagan.batches.locks import Holder, Lock
from yatagan.batches.moments import Moment
from yatagan.batches.queueing import (
    ELSEWHERE_SECONDS,
    Attendance,
    OnTaking,
    QueueEntry,
    QueueLimits,
    WaitsFor,
    ends_after,
    next_look,
    on_taking,
    ready,
    unreadable_seconds,
)
from yatagan.batches.said import said
from yatagan.batches.small_database import is_made, small_database
from yatagan.config.guarded_files import parse_json
from yatagan.config.home import Home
from yatagan.config.own_files import make_private
from yatagan.errors import BatchInUse, JournalError, NoSuchBatch

_SCHEMA = """
CREATE TABLE IF NOT EXISTS trouble (node TEXT PRIMARY KEY, kind TEXT NOT NULL, since REAL NOT NULL);
CREATE TABLE IF NOT EXISTS entry (
    place INTEGER PRIMARY KEY AUTOINCREMENT, batch TEXT NOT NULL UNIQUE, nodes TEXT NOT NULL, umask INTEGER NOT NULL,
    worker TEXT NOT NULL DEFAULT '', waits_for TEXT NOT NULL DEFAULT '', until REAL NOT NULL DEFAULT 0,
    failures INTEGER NOT NULL DEFAULT 0, ends INTEGER NOT NULL DEFAULT 0, progress TEXT NOT NULL DEFAULT '',
    routine TEXT NOT NULL DEFAULT '')
"""
_ADDED = {
    "entry": "since_wall REAL NOT NULL DEFAULT 0, since_boot TEXT NOT NULL DEFAULT '',"
    " since_ticks REAL NOT NULL DEFAULT 0, seconds REAL NOT NULL DEFAULT 0"
}
_COLUMNS = (
    "place, batch, nodes, umask, worker, waits_for, since_wall, since_boot, since_ticks, seconds, failures, ends,"
    " progress, routine"
)


class Taken(NamedTuple):
    """A batch that was taken from the queue, and locked; what is to be done with it."""

    entry: QueueEntry
    batch: Batch
    todo: OnTaking


#: Hears of a batch in the queue whose journal cannot be read.
Unread = Callable[[Batch, JournalError], object]


class Queue:
    """The queue of one user on one host. Raises JournalError."""

    def __init__(self, file: Path, batches: Batches, clock: Callable[[], Moment] = Moment.now) -> None:
        self._clock = clock
        self._file = file
        self._batches = batches

    @classmethod
    def of(cls, home: Home) -> Queue:
        """The queue of this host."""
        return cls(home.queue, Batches(home.batches))

    def add(self, batch: str, nodes: Iterable[str], umask: int, routine: str = "") -> None:
        """Put a batch at the end, or let one go on that waits for something."""
        with self._open() as sql:
            sql.execute(
                "INSERT INTO entry (batch, nodes, umask, routine) VALUES (?, ?, ?, ?) ON CONFLICT (batch) DO UPDATE"
                " SET waits_for = '', seconds = 0, failures = 0, ends = 0",
                (batch, json.dumps(sorted(set(nodes))), umask, routine),
            )

    def remove(self, batch: str) -> bool:
        """Take a batch out, for good. Returns whether it was in."""
        if not is_made(self._file):
            return False
        with self._open() as sql:
            return sql.execute("DELETE FROM entry WHERE batch = ?", (batch,)).rowcount > 0

    def entries(self) -> list[QueueEntry]:
        """All that is in the queue, in order."""
        if not is_made(self._file):
            return []
        with self._open() as sql:
            return [_entry(row) for row in sql.execute(f"SELECT {_COLUMNS} FROM entry ORDER BY place")]

    def entry(self, batch: str) -> QueueEntry | None:
        """A batch's entry; None if it is not in the queue."""
        return next((entry for entry in self.entries() if entry.batch == batch), None)

    def wait(self, batch: str, what_for: WaitsFor, seconds: float = 0.0) -> None:
        """Let a batch that was taken wait for something, for so long. One that was taken out meanwhile stays out."""
        with self._open() as sql:
            self._wait(sql, batch, what_for, seconds)

    def _wait(self, sql: sqlite3.Connection, batch: str, what_for: WaitsFor, seconds: float) -> None:
        now, failed = self._clock(), what_for in (WaitsFor.CONNECTION, WaitsFor.JOURNAL)
        sql.execute(
            "UPDATE entry SET worker = '', waits_for = ?, since_wall = ?, since_boot = ?, since_ticks = ?, seconds = ?,"
            " failures = failures + ? WHERE batch = ?",
            (what_for.value, now.wall, now.boot, now.ticks, seconds, failed, batch),
        )

    def reached(self, batch: str) -> None:
        """The nodes of a batch were reached: reset its failures."""
        with self._open() as sql:
            sql.execute("UPDATE entry SET failures = 0 WHERE batch = ?", (batch,))

    def note_trouble(self, node: str, what_for: WaitsFor) -> int:
        """Batches wait for a node. Returns how many, the first time that this is noted of it; then 0."""
        with self._open() as sql:
            values = node, what_for.value, time.time()
            if not sql.execute("INSERT OR IGNORE INTO trouble VALUES (?, ?, ?)", values).rowcount:
                return 0
        return sum(node in entry.nodes for entry in self.entries())

    def note_well(self, nodes: Iterable[str]) -> list[str]:
        """These nodes are reached. Returns those of them of which trouble was noted."""
        if not is_made(self._file):
            return []
        with self._open() as sql:
            return [node for node in nodes if sql.execute("DELETE FROM trouble WHERE node = ?", (node,)).rowcount]

    def let_in(self, node: str) -> int:
        """A person has logged in to a node: what waits for that goes on. Returns how many batches do."""
        there = [entry for entry in self.entries() if entry.waits_for is WaitsFor.LOGIN and node in entry.nodes]
        for entry in there:
            self.wait(entry.batch, WaitsFor.ITS_TURN)
        return len(there)

    def take(self, limits: QueueLimits, unread: Unread = lambda batch, error: None) -> Taken | None:
        """Take the first batch that may go on, and lock it; None if none may now.

        Workers that do this at once get different batches, and together never more than the limits allow. A batch that
        another machine has, or whose journal cannot be read, waits, and keeps no other one waiting; `unread` hears of
        the latter.
        """
        if not is_made(self._file):
            return None
        problems, taken = list[tuple[Batch, JournalError]](), None
        with self._open() as sql:
            sql.execute("BEGIN IMMEDIATE")
            try:
                taken = self._first(sql, limits, problems)
                sql.execute("COMMIT")
            except BaseException:
                if taken is not None:
                    taken.batch.unlock()
                sql.execute("ROLLBACK")
                raise
        for batch, error in problems:
            unread(batch, error)
        return taken

    def has_more(self, limits: QueueLimits) -> bool:
        """Whether one more worker would have something to do now."""
        return any(ready(self.entries(), self._is_running, limits, self._clock()))

    def _first(
        self, sql: sqlite3.Connection, limits: QueueLimits, problems: list[tuple[Batch, JournalError]]
    ) -> Taken | None:
        entries = [_entry(row) for row in sql.execute(f"SELECT {_COLUMNS} FROM entry ORDER BY place")]
        for entry in ready(entries, self._is_running, limits, self._clock()):
            if (taken := self._take(sql, entry, problems)) is not None:
                return taken
        return None

    def _is_running(self, entry: QueueEntry) -> bool:
        """Whether a process carries a batch. This one does so only as long as it holds the lock."""
        worker = entry.worker
        if worker is not None and worker.is_alive and worker != Holder.this_process():
            return True
        return self._batches.holds(entry.batch) and self._batches.get(entry.batch).is_carried()

    def _take(
        self, sql: sqlite3.Connection, entry: QueueEntry, problems: list[tuple[Batch, JournalError]]
    ) -> Taken | None:
        """Lock a batch, and write down who has it; None if that cannot be."""
        try:
            batch = self._batches.get(entry.batch)
            batch.lock()
        except NoSuchBatch:
            sql.execute("DELETE FROM entry WHERE batch = ?", (entry.batch,))
            return None
        except BatchInUse:
            self._wait(sql, entry.batch, WaitsFor.OTHER_HOST, ELSEWHERE_SECONDS)
            return None
        try:
            todo = self._note_taken(sql, entry, batch)
        except JournalError as error:
            batch.unlock()
            if not entry.failures or entry.waits_for is not WaitsFor.JOURNAL:
                problems.append((batch, error))
            self._wait(sql, entry.batch, WaitsFor.JOURNAL, unreadable_seconds(entry.failures))
            return None
        except BaseException:
            batch.unlock()
            raise
        return Taken(entry, batch, todo)

    @staticmethod
    def _note_taken(sql: sqlite3.Connection, entry: QueueEntry, batch: Batch) -> OnTaking:
        """Write down that we have a batch. Returns what is to be done with it. Raises JournalError."""
        progress, ends, todo = _look(batch, entry)
        values = json.dumps(asdict(Holder.this_process())), ends, progress, entry.batch
        sql.execute(
            "UPDATE entry SET worker = ?, waits_for = '', seconds = 0, ends = ?, progress = ? WHERE batch = ?", values
        )
        return todo

    def waiting_lock(self) -> Lock:
        """The lock of the one worker that waits for the next batch whose time has not come. Raises JournalError."""
        try:
            make_private(self._file.parent)
        except OSError as error:
            raise as_journal_error(str(self._file.parent), error) from error
        return Lock(self._file.with_suffix(".waiting"))

    def note_attended(self) -> None:
        """A worker that waits is still there."""
        with contextlib.suppress(OSError):
            os.utime(self._file.with_suffix(".waiting"))

    def attendance(self) -> Attendance:
        """Whether a worker will go on with what is in the queue, and with routines; and when one was last there."""
        try:
            seen: float | None = self._file.with_suffix(".waiting").stat().st_mtime
        except OSError:
            seen = None
        return Attendance(self.is_attended(), seen)

    def is_attended(self) -> bool:
        """Whether a worker is alive, who will go on with what is in the queue."""
        working = (entry.worker is not None and entry.worker.is_alive for entry in self.entries())
        return any(working) or self.waiting_lock().is_held()

    def next_look(self) -> float | None:
        """Seconds until the next batch that waits for a time may be tried; None if none does."""
        return next_look(self.entries(), self._clock())

    def _open(self) -> contextlib.AbstractContextManager[sqlite3.Connection]:
        return small_database(self._file, _SCHEMA, _ADDED)


def _entry(row: tuple[Any, ...]) -> QueueEntry:
    place, batch, nodes, umask, worker, waits_for, wall, boot, ticks, *rest = row
    holder = Holder(**parse_json(worker)) if worker else None
    since = Moment(wall, boot, ticks)
    return QueueEntry(place, batch, tuple(parse_json(nodes)), umask, holder, WaitsFor(waits_for), since, *rest)


def _look(batch: Batch, entry: QueueEntry) -> tuple[str, int, OnTaking]:
    """How far a batch is whose lock we hold, how often its workers have died, and what is to be done with it.

    Raises JournalError.
    """
    with contextlib.closing(batch.journal()) as journal:
        progress, state = journal.progress(), journal.standing().state
        nothing_left = not journal.size_left() and not journal.open_steps((-1, -1), 1)
    ends = ends_after(entry, progress)
    return progress, ends, on_taking(state, said(batch), nothing_left=nothing_left, ends=ends)
