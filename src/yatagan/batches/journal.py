"""The journal of a batch: one SQLite file that says, at any moment, what is so.

One writer, synchronous=FULL. A change is refused when `batches.states` does not know the move. All
changes handed over together are one transaction. On a network file system the write-ahead log cannot
be shared, so the rollback journal is used there.
"""

from __future__ import annotations

import contextlib
import json
import os
import posixpath
import sqlite3
from collections.abc import Iterable, Sequence
from dataclasses import asdict
from pathlib import Path

from yatagan.batches.journal_data import Header
from yatagan.batches.journal_reading import TOGETHER, JournalReading, as_journal_error
from yatagan.batches.journal_rows import ADDED, FORMAT, SCHEMA, Shape, row_of, shape, storable, update
from yatagan.batches.pace import MOST_ROWS, PaceRow, SlowStep, slowest, thinned
from yatagan.batches.states import BatchState, batch_may_move
from yatagan.batches.steps import AnyChange, Prove, SessionWriters, Step, TopKnown
from yatagan.config.disks import on_network
from yatagan.config.own_files import sync_directory
from yatagan.errors import JournalError, OtherVersion
from yatagan.faults import Fault

#: The file of a journal that ends with its process, and the mark beside one whose batch is finished.
IN_MEMORY, FINISHED_MARK = ":memory:", "finished"


class Journal(JournalReading):
    """The journal of one batch. Any one thread at a time may call it."""

    def __init__(self, connection: sqlite3.Connection, file: str, reader: sqlite3.Connection | None = None) -> None:
        super().__init__(reader or connection, file)
        self._sql = connection

    @classmethod
    def create(
        cls, file: Path, header: Header, steps: Iterable[Step], witnesses: Iterable[tuple[int, str]] = ()
    ) -> Journal:
        """Create a journal: from here on the batch is accepted. Raises JournalError, and leaves nothing.

        `witnesses`: sessions of an earlier batch that steps refer to.
        """
        new = file.with_suffix(".new")
        new.unlink(missing_ok=True)
        try:
            journal = cls(sqlite3.connect(new, check_same_thread=False, isolation_level=None), str(file))
            journal._prepare(on_network(file.parent))
            journal.fill(header, steps, witnesses)
            journal.close()
            os.replace(new, file)
            sync_directory(file.parent)
        except (sqlite3.Error, OSError) as error:
            raise as_journal_error(str(file), error) from error
        return cls.open(file)

    @classmethod
    def open(cls, file: Path) -> Journal:
        """Open an existing journal. Raises JournalError."""
        if not file.exists():
            raise JournalError(str(file), "there is no such file")
        try:
            journal = cls(sqlite3.connect(file, check_same_thread=False, isolation_level=None), str(file))
            network = on_network(file.parent)
            journal._prepare(network)
            version = journal._bring_up()
            if not network:
                journal._reader = sqlite3.connect(file, check_same_thread=False, isolation_level=None)
                journal._reader.execute("PRAGMA busy_timeout = 10000")
        except sqlite3.Error as error:
            raise as_journal_error(str(file), error) from error
        if version != FORMAT:
            raise OtherVersion(str(file), version)
        return journal

    @classmethod
    def in_memory(cls, header: Header, steps: Iterable[Step], witnesses: Iterable[tuple[int, str]] = ()) -> Journal:
        """A journal that ends with its process, for simulations."""
        journal = cls(sqlite3.connect(IN_MEMORY, check_same_thread=False, isolation_level=None), IN_MEMORY)
        journal.fill(header, steps, witnesses)
        return journal

    def _bring_up(self) -> int:
        """Bring a journal of an older form to the present one. Returns the number of its form."""
        version = int(self._sql.execute("PRAGMA user_version").fetchone()[0])
        if version not in ADDED:
            return version
        self._sql.execute("BEGIN IMMEDIATE")
        for statement in (*ADDED[version], f"PRAGMA user_version = {FORMAT}"):
            self._sql.execute(statement)
        self._sql.execute("COMMIT")
        return FORMAT

    def _prepare(self, network: bool) -> None:
        self._sql.execute("PRAGMA synchronous = FULL")
        self._sql.execute(f"PRAGMA journal_mode = {'TRUNCATE' if network else 'WAL'}")
        self._sql.execute("PRAGMA busy_timeout = 10000")

    def fill(self, header: Header, steps: Iterable[Step], witnesses: Iterable[tuple[int, str]] = ()) -> None:
        """Create the tables and write the plan, in one transaction."""
        self._sql.executescript(SCHEMA)
        self._sql.execute("BEGIN IMMEDIATE")
        self._sql.execute(
            "INSERT INTO batch"
            " (id, created_ns, command, source_node, destination_node, destination, prove, modes, times, arrivals,"
            " options, max_rate, top_inode, promised, state, expected, modelled, purpose)"
            " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            (
                header.id,
                header.created_ns,
                json.dumps(header.command),
                header.source_node,
                header.destination_node,
                header.destination,
                header.prove.value,
                header.modes.value,
                header.times.value,
                json.dumps([[os.fsdecode(path), os.fsdecode(name)] for path, name in header.arrivals]),
                header.options,
                header.max_rate,
                header.top_inode,
                header.promised.value if header.promised is not None else "",
                BatchState.QUEUED.value,
                header.expected_seconds,
                header.modelled_seconds,
                json.dumps(asdict(header.purpose)),
            ),
        )
        self._sql.executemany(f"INSERT INTO step VALUES ({', '.join('?' * 27)})", (row_of(step) for step in steps))
        self._sql.executemany("INSERT INTO session VALUES (?, ?)", witnesses)
        self._sql.execute("COMMIT")

    def close(self) -> None:
        """Close the file."""
        if self._reader is not self._sql:
            self._reader.close()
        self._sql.close()

    def apply(self, changes: Sequence[AnyChange], pace: Sequence[PaceRow] = ()) -> None:
        """Write changes to steps and sessions, and the pace so far, all or none. Raises JournalError."""
        try:
            self._sql.execute("BEGIN IMMEDIATE")
            alike: dict[Shape, list[int]] = {}
            touched: set[int] = set()
            for change in changes:
                if isinstance(change, SessionWriters):
                    values = change.witness, change.session
                    self._sql.execute("UPDATE session SET witness = ? WHERE number = ?", values)
                    continue
                if isinstance(change, TopKnown):
                    self._sql.execute("UPDATE batch SET top_inode = ?", (change.inode,))
                    continue
                if change.number in touched:  # one after the other
                    self._change_all(alike)
                    alike.clear()
                    touched.clear()
                touched.add(change.number)
                alike.setdefault(shape(change), []).append(change.number)
            self._change_all(alike)
            self._keep_pace(pace)
            self._sql.execute("COMMIT")
        except sqlite3.Error as error:
            self._roll_back()
            raise as_journal_error(self._file, error) from error
        except BaseException:
            self._roll_back()
            raise

    def _change_all(self, alike: dict[Shape, list[int]]) -> None:
        """Write changes to steps, equal ones by one statement."""
        for (names, state, values), numbers in alike.items():
            for at in range(0, len(numbers), TOGETHER):
                some = numbers[at : at + TOGETHER]
                if names and self._sql.execute(update(names, state, len(some)), (*values, *some)).rowcount < len(some):
                    raise AssertionError(f"of the steps {some} not all may go to {state}")

    def _keep_pace(self, rows: Sequence[PaceRow]) -> None:
        """Add rows of the pace; thin them if they are many. In the transaction of the caller."""
        if not rows:
            return
        self._sql.executemany(
            "INSERT INTO pace VALUES (?, ?, ?, ?, ?) ON CONFLICT (at) DO UPDATE SET sent = sent + excluded.sent,"
            " placed = placed + excluded.placed, files = files + excluded.files",
            rows,
        )
        if self._sql.execute("SELECT count(*) FROM pace").fetchone()[0] > MOST_ROWS:
            found = [PaceRow(*row) for row in self._sql.execute("SELECT * FROM pace ORDER BY at")]
            self._sql.execute("DELETE FROM pace")
            self._sql.executemany("INSERT INTO pace VALUES (?, ?, ?, ?, ?)", thinned(found))

    def new_session(self, witness: str) -> int:
        """Add a session. Returns its number."""
        with self._guard():
            return int(self._sql.execute("INSERT INTO session (witness) VALUES (?)", (witness,)).lastrowid or 0)

    def settle(self, state: BatchState, fault: Fault | None = None, detail: str = "") -> None:
        """Write the state of the batch."""
        old = self.standing().state
        if not batch_may_move(old, state):
            raise AssertionError(f"a batch may not go from {old} to {state}")
        with self._guard():
            if state is not BatchState.FINISHED:
                self._mark_finished(finished=False)
            self._sql.execute(
                "UPDATE batch SET state = ?, fault = ?, detail = ?", (state.value, fault, storable(detail))
            )
            if state is BatchState.FINISHED:
                self._mark_finished(finished=True)

    def _mark_finished(self, *, finished: bool) -> None:
        """Leave a mark beside the journal while it says finished, so that few journals of many need to be opened.

        It is there only if that is so; if it is missing, the journal tells. A restart brings none back.
        """
        if self._file == IN_MEMORY:
            return
        mark = Path(self._file).with_name(FINISHED_MARK)
        if finished:
            with contextlib.suppress(OSError):
                mark.touch(mode=0o600)
        elif mark.exists():
            mark.unlink()
            sync_directory(mark.parent)

    def cancel(self, successor: str) -> None:
        """Cancel the batch. `successor` has taken its place; "" when none has."""
        if self.standing().state is not BatchState.CANCELLED:
            self.settle(BatchState.CANCELLED)
        with self._guard():
            self._sql.execute("UPDATE batch SET detail = ?", (successor,))

    def spend(self, seconds: float, pace: Sequence[PaceRow] = (), slow: Sequence[SlowStep] = ()) -> None:
        """Add to the seconds that the batch has been moving, and how the end of a run went."""
        try:
            self._sql.execute("BEGIN IMMEDIATE")
            self._sql.execute("UPDATE batch SET seconds = seconds + ?", (seconds,))
            self._keep_pace(pace)
            if slow:
                before = [SlowStep(*row) for row in self._sql.execute("SELECT number, seconds FROM slowest")]
                self._sql.execute("DELETE FROM slowest")
                self._sql.executemany("INSERT INTO slowest VALUES (?, ?)", slowest([*before, *slow]))
            self._sql.execute("COMMIT")
        except sqlite3.Error as error:
            self._roll_back()
            raise as_journal_error(self._file, error) from error

    def pin(self, pins: dict[str, tuple[str, int]]) -> None:
        """Write the addresses that the batch is pinned to, by node."""
        with self._guard():
            self._sql.execute("UPDATE batch SET pins = ?", (json.dumps(pins),))

    def know_top(self, inode: int) -> None:
        """Write the inode of the destination; 0 to look at it anew."""
        with self._guard():
            self._sql.execute("UPDATE batch SET top_inode = ?", (inode,))

    def looked(self, now_ns: int) -> None:
        """Write when what the batch claims was last compared with what is at its destination."""
        with self._guard():
            self._sql.execute("UPDATE batch SET looked_ns = ?", (now_ns,))

    def prove_by(self, prove: Prove) -> None:
        """Change how files are proven from now on; what the plan promised is void."""
        with self._guard():
            self._sql.execute("UPDATE batch SET prove = ?, promised = ''", (prove.value,))

    def make_again(self, *, wanted: bool) -> None:
        """Write whether what is missing at the destination is to be carried again."""
        with self._guard():
            self._sql.execute("UPDATE batch SET make_again = ?", (wanted,))

    def note_gone(self, labels: Iterable[bytes]) -> None:
        """Write what is no longer at the source though it is on record, instead of what was written before."""
        with self._guard():
            self._sql.execute("BEGIN IMMEDIATE")
            self._sql.execute("DELETE FROM gone")
            self._sql.executemany("INSERT OR IGNORE INTO gone VALUES (?)", ((label,) for label in labels))
            self._sql.execute("COMMIT")

    def intend_record(self, record: str) -> None:
        """Write which ledger record is about to be appended, so that it is appended once."""
        with self._guard():
            self._sql.execute("UPDATE batch SET recorded = ?", (record,))

    def reopen_failed(self) -> int:
        """Put failed steps back to waiting, except those that need a new plan. Returns how many.

        With a directory that was not made the step goes that sets its facts, and with others those of what holds them.
        A finished batch is interrupted from then on.
        """
        again = "state = 'failed' AND fault != ?"
        with self._guard():
            self._sql.execute(
                "UPDATE step SET state = 'waiting' WHERE kind = 'facts' AND setting = '' AND state = 'left as is'"
                f" AND number - 1 IN (SELECT number FROM step WHERE kind = 'directory' AND {again})",
                (Fault.UNREADABLE,),
            )
            failed = self._sql.execute(f"SELECT path FROM step WHERE {again}", (Fault.UNREADABLE,))
            above = {posixpath.dirname(path) for (path,) in failed}
            reopened = self._sql.execute(f"UPDATE step SET state = 'waiting' WHERE {again}", (Fault.UNREADABLE,))
            for number in self.facts_set(above):  # what is put into them moves their times
                self._sql.execute("UPDATE step SET state = 'waiting' WHERE number = ?", (number,))
            if reopened.rowcount and self.standing().state is BatchState.FINISHED:
                self._mark_finished(finished=False)
                self._sql.execute("UPDATE batch SET state = ?", (BatchState.INTERRUPTED.value,))
            return reopened.rowcount

    def _roll_back(self) -> None:
        if self._sql.in_transaction:
            self._sql.execute("ROLLBACK")
