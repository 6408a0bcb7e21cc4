"""The queue: which batches wait for workers, in which order, and when each may go on.

One SQLite file a host, in the user's state directory. Any number of processes may look at it; a look never waits for
another process, nor makes one wait. In it are only batches that were accepted to be carried in the background. A batch
leaves it when it has ended, or when a person has stopped it: what is not in the queue is never picked up.

Whether a batch is being carried is not written here. That is what its lock says, which ends with the process.
"""

from __future__ import annotations

import contextlib
import json
import sqlite3
import time
from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from dataclasses import asdict, dataclass
from enum import StrEnum
from pathlib import Path
from typing import Any

from yatagan.batches.batch_store import Batch, Batches
from yatagan.batches.journal_reading import as_journal_error
from yatagan.batches.locks import Holder, Lock
from yatagan.batches.small_database import small_database
from yatagan.config.home import Home
from yatagan.config.own_files import make_private
from yatagan.errors import BatchInUse, JournalError, NoSuchBatch

#: So often a worker may end without being asked to, and without progress, before a person must look.
ENDS_WITHOUT_PROGRESS = 3

_SCHEMA = """
CREATE TABLE IF NOT EXISTS trouble (node TEXT PRIMARY KEY, kind TEXT NOT NULL, since REAL NOT NULL);
CREATE TABLE IF NOT EXISTS entry (
    place INTEGER PRIMARY KEY AUTOINCREMENT, batch TEXT NOT NULL UNIQUE, nodes TEXT NOT NULL, umask INTEGER NOT NULL,
    worker TEXT NOT NULL DEFAULT '', waits_for TEXT NOT NULL DEFAULT '', until REAL NOT NULL DEFAULT 0,
    failures INTEGER NOT NULL DEFAULT 0, ends INTEGER NOT NULL DEFAULT 0, progress TEXT NOT NULL DEFAULT '',
    routine TEXT NOT NULL DEFAULT '')
"""
_COLUMNS = "place, batch, nodes, umask, worker, waits_for, until, failures, ends, progress, routine"


class WaitsFor(StrEnum):
    """What a batch in the queue waits for."""

    ITS_TURN = ""
    #: The node could not be reached; tried again at a time.
    CONNECTION = "connection"
    #: A person must log in.
    LOGIN = "login"


@dataclass(frozen=True, slots=True)
class QueueEntry:
    """A batch in the queue.

    `worker`: who took it last. `until`: when it is tried again, in seconds since the epoch; `failures`: how often it
    was tried without success. `ends`: how often its worker has ended without being asked to, and without progress;
    `progress`: how far it was when it was taken. `routine`: the routine that made it, or "".
    """

    place: int
    batch: str
    nodes: tuple[str, ...]
    umask: int
    worker: Holder | None
    waits_for: WaitsFor
    until: float
    failures: int
    ends: int
    progress: str
    routine: str


@dataclass(frozen=True, slots=True)
class QueueLimits:
    """How many batches are carried at once: in all, and over each node."""

    at_once: int
    over_node: Callable[[str], int]


@dataclass(frozen=True, slots=True)
class Taken:
    """A batch that was taken from the queue, and locked. `given_up`: not to be carried, see `QueueEntry.ends`."""

    entry: QueueEntry
    batch: Batch
    given_up: bool


class Queue:
    """The queue of one user on one host. Raises JournalError."""

    def __init__(self, file: Path, batches: Batches) -> None:
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
                " SET waits_for = '', until = 0, failures = 0, ends = 0",
                (batch, json.dumps(sorted(set(nodes))), umask, routine),
            )

    def remove(self, batch: str) -> bool:
        """Take a batch out, for good. Returns whether it was in."""
        if not self._file.exists():
            return False
        with self._open() as sql:
            return sql.execute("DELETE FROM entry WHERE batch = ?", (batch,)).rowcount > 0

    def entries(self) -> list[QueueEntry]:
        """All that is in the queue, in order."""
        if not self._file.exists():
            return []
        with self._open() as sql:
            return [_entry(row) for row in sql.execute(f"SELECT {_COLUMNS} FROM entry ORDER BY place")]

    def entry(self, batch: str) -> QueueEntry | None:
        """A batch's entry; None if it is not in the queue."""
        return next((entry for entry in self.entries() if entry.batch == batch), None)

    def wait(self, batch: str, what_for: WaitsFor, until: float = 0.0) -> None:
        """Let a batch that was taken wait for something. One that was taken out meanwhile stays out."""
        with self._open() as sql:
            sql.execute(
                "UPDATE entry SET worker = '', waits_for = ?, until = ?, failures = failures + ? WHERE batch = ?",
                (what_for.value, until, what_for is WaitsFor.CONNECTION, batch),
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
        if not self._file.exists():
            return []
        with self._open() as sql:
            return [node for node in nodes if sql.execute("DELETE FROM trouble WHERE node = ?", (node,)).rowcount]

    def let_in(self, node: str) -> int:
        """A person has logged in to a node: what waits for that goes on. Returns how many batches do."""
        there = [entry for entry in self.entries() if entry.waits_for is WaitsFor.LOGIN and node in entry.nodes]
        for entry in there:
            self.wait(entry.batch, WaitsFor.ITS_TURN)
        return len(there)

    def take(self, limits: QueueLimits) -> Taken | None:
        """Take the first batch that may go on, and lock it; None if none may now.

        Workers that do this at once get different batches, and together never more than the limits allow.
        """
        if not self._file.exists():
            return None
        now = time.time()
        with self._open() as sql:
            sql.execute("BEGIN IMMEDIATE")
            try:
                taken = self._first(sql, limits, now)
                sql.execute("COMMIT")
            except BaseException:
                sql.execute("ROLLBACK")
                raise
        return taken

    def has_more(self, limits: QueueLimits) -> bool:
        """Whether one more worker would have something to do now."""
        return any(self._ready(self.entries(), limits, time.time()))

    def _first(self, sql: sqlite3.Connection, limits: QueueLimits, now: float) -> Taken | None:
        entries = [_entry(row) for row in sql.execute(f"SELECT {_COLUMNS} FROM entry ORDER BY place")]
        for entry in self._ready(entries, limits, now):
            if (taken := self._take(sql, entry)) is not None:
                return taken
        return None

    def _ready(self, entries: list[QueueEntry], limits: QueueLimits, now: float) -> Iterator[QueueEntry]:
        """The entries that may go on now, in order: the first of them, or where that cannot be locked, the next."""
        running = {entry.place for entry in entries if self._is_running(entry)}
        if len(running) >= limits.at_once:
            return
        over = Counter(node for entry in entries if entry.place in running for node in entry.nodes)
        for entry in entries:
            if entry.place in running or entry.waits_for is WaitsFor.LOGIN or entry.until > now:
                continue
            if all(over[node] < limits.over_node(node) for node in entry.nodes):
                yield entry

    def _is_running(self, entry: QueueEntry) -> bool:
        if entry.worker is not None and entry.worker.is_alive:
            return True
        return self._batches.holds(entry.batch) and self._batches.get(entry.batch).is_carried()

    def _take(self, sql: sqlite3.Connection, entry: QueueEntry) -> Taken | None:
        """Lock a batch, and write down who has it; None if that cannot be."""
        try:
            batch = self._batches.get(entry.batch)
            batch.lock()
        except NoSuchBatch:
            sql.execute("DELETE FROM entry WHERE batch = ?", (entry.batch,))
            return None
        except BatchInUse:
            return None
        try:
            progress = _progress(batch)
        except JournalError:
            batch.unlock()
            raise
        ends = 0
        if entry.worker is not None:  # which is dead, and did not say why
            ends = entry.ends + 1 if progress == entry.progress else 0
        if given_up := ends >= ENDS_WITHOUT_PROGRESS:
            sql.execute("DELETE FROM entry WHERE batch = ?", (entry.batch,))
        else:
            worker = json.dumps(asdict(Holder.this_process()))
            values = worker, ends, progress, entry.batch
            sql.execute("UPDATE entry SET worker = ?, ends = ?, progress = ? WHERE batch = ?", values)
        return Taken(entry, batch, given_up)

    def waiting_lock(self) -> Lock:
        """The lock of the one worker that waits for the next batch whose time has not come. Raises JournalError."""
        try:
            make_private(self._file.parent)
        except OSError as error:
            raise as_journal_error(str(self._file.parent), error) from error
        return Lock(self._file.with_suffix(".waiting"))

    def is_attended(self) -> bool:
        """Whether a worker is alive, who will go on with what is in the queue."""
        working = (entry.worker is not None and entry.worker.is_alive for entry in self.entries())
        return any(working) or self.waiting_lock().is_held()

    def next_time(self) -> float | None:
        """When the next batch that waits for a time is tried again, in seconds since the epoch; None if none does."""
        waiting = [entry for entry in self.entries() if entry.waits_for is WaitsFor.CONNECTION]
        return min((entry.until for entry in waiting), default=None)

    def _open(self) -> contextlib.AbstractContextManager[sqlite3.Connection]:
        return small_database(self._file, _SCHEMA)


def _entry(row: tuple[Any, ...]) -> QueueEntry:
    place, batch, nodes, umask, worker, waits_for, *rest = row
    holder = Holder(**json.loads(worker)) if worker else None
    return QueueEntry(place, batch, tuple(json.loads(nodes)), umask, holder, WaitsFor(waits_for), *rest)


def _progress(batch: Batch) -> str:
    """How far a batch is: equal when nothing has been done between."""
    with contextlib.closing(batch.journal()) as journal:
        return journal.progress()
