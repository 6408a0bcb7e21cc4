"""The journal of a batch: one SQLite file that says, at any moment, what is so.

One writer, synchronous=FULL. A change is refused when `batches.states` does not know the move. All
changes handed over together are one transaction. On a network file system the write-ahead log cannot
be shared, so the rollback journal is used there.
"""

from __future__ import annotations

import json
import os
import shutil
import sqlite3
from collections.abc import Collection, Iterable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from yatagan.batches.journal_rows import COLUMNS, Shape, row_of, shape, step_of, storable, update
from yatagan.batches.states import BatchState, Evidence, StepState, batch_may_move
from yatagan.batches.steps import MEMBERS_PHASE, Change, Modes, Prove, SessionWriters, Step, StepKind, Times
from yatagan.config.home import sync_directory
from yatagan.errors import Fault, JournalError
from yatagan.stores.interface import Facts

#: Counts changes of the tables: a journal of another format is told apart, not misread.
_FORMAT = 9
_SCHEMA = f"""
CREATE TABLE batch (
    id TEXT NOT NULL, created_ns INTEGER NOT NULL, command TEXT NOT NULL, source_node TEXT NOT NULL,
    destination_node TEXT NOT NULL, destination BLOB NOT NULL, prove TEXT NOT NULL,
    modes TEXT NOT NULL, times TEXT NOT NULL, arrivals TEXT NOT NULL, options TEXT NOT NULL,
    max_rate INTEGER NOT NULL,
    state TEXT NOT NULL, fault TEXT, detail TEXT NOT NULL DEFAULT '', pins TEXT NOT NULL DEFAULT '{{}}',
    seconds REAL NOT NULL DEFAULT 0, recorded TEXT NOT NULL DEFAULT '', top_inode INTEGER NOT NULL DEFAULT 0,
    make_again INTEGER NOT NULL DEFAULT 0, promised TEXT NOT NULL DEFAULT '');
CREATE TABLE step (
    number INTEGER PRIMARY KEY, phase INTEGER NOT NULL, kind TEXT NOT NULL, source BLOB NOT NULL,
    path BLOB NOT NULL, label BLOB NOT NULL, size INTEGER NOT NULL, facts TEXT NOT NULL, target BLOB, seen TEXT,
    state TEXT NOT NULL, generation INTEGER NOT NULL, session INTEGER NOT NULL, durable TEXT NOT NULL,
    sent INTEGER NOT NULL, digest TEXT NOT NULL, evidence TEXT, fault TEXT,
    detail TEXT NOT NULL, bundle INTEGER NOT NULL, reused INTEGER NOT NULL, checkpoints TEXT NOT NULL,
    adopts BLOB NOT NULL, holes INTEGER NOT NULL);
CREATE INDEX step_bundle ON step (bundle, number) WHERE bundle > 0;
CREATE INDEX step_open ON step (phase, number) WHERE state IN ('waiting', 'moving', 'whole', 'proven');
CREATE TABLE session (number INTEGER PRIMARY KEY, witness TEXT NOT NULL);
PRAGMA user_version = {_FORMAT};
"""

#: Steps that one statement changes at most: more values than that are too many for an old SQLite.
_TOGETHER = 500
_OPEN = ("waiting", "moving", "arrived", "proven")
#: File systems of other machines, by the names that /proc/mounts gives them.
_NETWORK = ("nfs", "cifs", "smb", "lustre", "gpfs", "beegfs", "ceph", "fuse.", "afs", "9p", "panfs")


@dataclass(frozen=True, slots=True)
class Header:
    """What a batch is. Empty node names stand for this machine; `command` is what was typed.

    `arrivals`: every source, absolute and without links above it, and the name that it arrives under. `options`: what
    was asked for besides, as text that is the same for the same. `max_rate`: bytes a second at most; 0 for no bound.
    `top_inode`: of the destination when it was planned, if there. `promised`: what the plan said that files would be
    proven by.
    """

    id: str
    created_ns: int
    command: tuple[str, ...]
    source_node: str
    destination_node: str
    destination: bytes
    prove: Prove
    modes: Modes = Modes.KEEP
    times: Times = Times.KEEP
    arrivals: tuple[tuple[bytes, bytes], ...] = ()
    options: str = ""
    max_rate: int = 0
    top_inode: int = 0
    promised: Evidence | None = None

    @property
    def roots(self) -> tuple[bytes, ...]:
        """The directories and files of this machine that were accepted with the plan."""
        sources = () if self.source_node else tuple(path for path, _ in self.arrivals)
        return sources if self.destination_node else (*sources, self.destination)

    @property
    def ends(self) -> tuple[object, ...]:
        """Where from and where to: equal for two stages of the same."""
        return self.source_node, self.destination_node, self.destination, self.arrivals


@dataclass(frozen=True, slots=True)
class Standing:
    """Where a batch stands now.

    `detail` adds to the `fault`: a path; of NO_ROOM the bytes that were free then; of a cancelled batch the one that
    took its place. `pins` are the addresses it holds to, by node; `recorded` its ledger record; `top_inode` tells the
    destination from another directory of the name, 0 where that is not known; with `make_again` what is missing there
    is to be carried again.
    """

    state: BatchState
    fault: Fault | None
    detail: str
    pins: dict[str, tuple[str, int]]
    seconds: float
    recorded: str
    top_inode: int = 0
    make_again: bool = False


@dataclass(frozen=True, slots=True)
class StepGroup:
    """How many steps of one kind, state, evidence and fault, `replacing` something or not, and their bytes.

    `sent` is what went over the line for them, `again` how much of that was more than their size. Of `reusing` of them
    so many bytes were there already, and not sent: `reused`; `holes` are zeros that were left out.
    """

    kind: StepKind
    state: StepState
    evidence: Evidence | None
    fault: Fault | None
    replacing: bool
    steps: int
    size: int
    sent: int
    again: int
    reusing: int
    reused: int
    holes: int


def on_network(path: Path) -> bool:
    """Whether a directory lies on another machine's disk."""
    try:
        mounts = Path("/proc/mounts").read_text(encoding="utf-8", errors="surrogateescape").splitlines()
    except OSError:
        return False
    best, kind = "", ""
    real = os.path.realpath(path)
    for line in mounts:
        fields_ = line.split(" ")
        point = fields_[1].replace("\\040", " ")
        if (real == point or real.startswith(point.rstrip("/") + "/")) and len(point) >= len(best):
            best, kind = point, fields_[2]
    return kind.startswith(_NETWORK)


class Journal:
    """See the module. Methods may be called from any one thread at a time."""

    def __init__(self, connection: sqlite3.Connection, file: str, reader: sqlite3.Connection | None = None) -> None:
        self._sql = connection
        #: What reads has a connection of its own where that can be, so that nobody who only looks waits for a sync.
        self._reader = reader or connection
        self._file = file

    @classmethod
    def create(
        cls, file: Path, header: Header, steps: Iterable[Step], witnesses: Iterable[tuple[int, str]] = ()
    ) -> Journal:
        """Write a new journal: from here on the batch is accepted. Raises JournalError, and leaves nothing.

        `witnesses` are those of sessions of an earlier batch that steps refer to.
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
            raise _told(str(file), error) from error
        return cls.open(file)

    @classmethod
    def open(cls, file: Path) -> Journal:
        """Open a journal that exists. Raises JournalError."""
        if not file.exists():
            raise JournalError(str(file), "there is no such file")
        try:
            journal = cls(sqlite3.connect(file, check_same_thread=False, isolation_level=None), str(file))
            journal._prepare(on_network(file.parent))
            version = journal._sql.execute("PRAGMA user_version").fetchone()[0]
            if not on_network(file.parent):
                journal._reader = sqlite3.connect(file, check_same_thread=False, isolation_level=None)
                journal._reader.execute("PRAGMA busy_timeout = 10000")
        except sqlite3.Error as error:
            raise _told(str(file), error) from error
        if version != _FORMAT:
            raise JournalError(str(file), f"it was written by another version (format {version})", damaged=True)
        return journal

    @classmethod
    def in_memory(cls, header: Header, steps: Iterable[Step], witnesses: Iterable[tuple[int, str]] = ()) -> Journal:
        """A journal that ends with its process, for simulations."""
        journal = cls(sqlite3.connect(":memory:", check_same_thread=False, isolation_level=None), ":memory:")
        journal.fill(header, steps, witnesses)
        return journal

    @property
    def spool(self) -> Path:
        """The directory for bundles that wait to be carried, beside the journal; it need not exist."""
        return Path(self._file).with_name("spool")

    def clear_spool(self) -> None:
        """Remove that directory. What cannot be removed is no harm."""
        shutil.rmtree(self.spool, ignore_errors=True)

    def _prepare(self, network: bool) -> None:
        self._sql.execute("PRAGMA synchronous = FULL")
        self._sql.execute(f"PRAGMA journal_mode = {'TRUNCATE' if network else 'WAL'}")
        self._sql.execute("PRAGMA busy_timeout = 10000")

    def fill(self, header: Header, steps: Iterable[Step], witnesses: Iterable[tuple[int, str]] = ()) -> None:
        """Make the tables and write the plan, in one transaction."""
        self._sql.executescript(_SCHEMA)
        self._sql.execute("BEGIN IMMEDIATE")
        self._sql.execute(
            "INSERT INTO batch"
            " (id, created_ns, command, source_node, destination_node, destination, prove, modes, times, arrivals,"
            " options, max_rate, top_inode, promised, state) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
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
            ),
        )
        self._sql.executemany(f"INSERT INTO step VALUES ({', '.join('?' * 24)})", (row_of(step) for step in steps))
        self._sql.executemany("INSERT INTO session VALUES (?, ?)", witnesses)
        self._sql.execute("COMMIT")

    def close(self) -> None:
        """Close the file."""
        if self._reader is not self._sql:
            self._reader.close()
        self._sql.close()

    # -- reading -----------------------------------------------------------------------------------------

    def header(self) -> Header:
        """What the batch is."""
        row = self._one(
            "SELECT id, created_ns, command, source_node, destination_node, destination, prove, modes, times, arrivals,"
            " options, max_rate, promised FROM batch"
        )
        how = Prove(row[6]), Modes(row[7]), Times(row[8])
        arrivals = tuple((os.fsencode(path), os.fsencode(name)) for path, name in json.loads(row[9]))
        ends = row[3], row[4], row[5]
        promised = Evidence(row[12]) if row[12] else None
        command = tuple(json.loads(row[2]))
        return Header(row[0], row[1], command, *ends, *how, arrivals, row[10], row[11], promised=promised)

    def standing(self) -> Standing:
        """Where it stands."""
        row = self._one("SELECT state, fault, detail, pins, seconds, recorded, top_inode, make_again FROM batch")
        pins = {name: (pin[0], pin[1]) for name, pin in json.loads(row[3]).items()}
        fault = Fault(row[1]) if row[1] else None
        return Standing(BatchState(row[0]), fault, row[2], pins, row[4], row[5], row[6], bool(row[7]))

    def has_settled(self) -> bool:
        """Whether anything is in place, or was right already."""
        return bool(self._one("SELECT EXISTS (SELECT 1 FROM step WHERE state IN ('in place', 'left as is'))")[0])

    def placed(self, paths: Collection[bytes]) -> dict[bytes, Facts]:
        """The facts of files that the batch has put into these paths."""
        found: dict[bytes, Facts] = {}
        wanted = list(paths)
        for at in range(0, len(wanted), _TOGETHER):
            some = wanted[at : at + _TOGETHER]
            query = (
                f"SELECT {COLUMNS} FROM step WHERE kind = 'file' AND state = 'in place'"
                f" AND path IN ({', '.join('?' * len(some))})"
            )
            found.update((step.path, step.facts) for step in map(step_of, self._rows(query, *some)))
        return found

    def directory_state(self, path: bytes) -> StepState | None:
        """Where the step stands that makes a directory of the destination; None where there is no such step."""
        query = "SELECT state FROM step WHERE kind = 'directory' AND path = ? AND phase < ?"
        row = next(self._rows(query, path, MEMBERS_PHASE), None)
        return StepState(row[0]) if row else None

    def step(self, number: int) -> Step:
        """One step."""
        return step_of(self._one(f"SELECT {COLUMNS} FROM step WHERE number = ?", number))

    def open_steps(self, after: tuple[int, int], limit: int) -> list[Step]:
        """The next steps that are not settled, in the order of (phase, number)."""
        rows = self._rows(
            f"SELECT {COLUMNS} FROM step WHERE state IN {_OPEN!r} AND (phase, number) > (?, ?)"
            " ORDER BY phase, number LIMIT ?",
            *after,
            limit,
        )
        return [step_of(row) for row in rows]

    def members(self, bundle: int) -> list[Step]:
        """The files that a bundle was made of, whatever has become of them, in order."""
        query = f"SELECT {COLUMNS} FROM step WHERE bundle = ? AND bundle > 0 ORDER BY number"
        return [step_of(row) for row in self._rows(query, bundle)]

    def steps(self, *states: StepState, limit: int = -1) -> Iterator[Step]:
        """Steps in some states (in any, when none is named), in order."""
        wanted = [state.value for state in (states or tuple(StepState))]
        marks = ", ".join("?" * len(wanted))
        rows = self._rows(
            f"SELECT {COLUMNS} FROM step WHERE state IN ({marks}) ORDER BY number LIMIT ?", *wanted, limit
        )
        return map(step_of, rows)

    def begun(self) -> list[Step]:
        """Steps that are not settled and of which something is known to be on the destination's disk."""
        query = f"SELECT {COLUMNS} FROM step WHERE state IN {_OPEN!r} AND durable != '' ORDER BY number"
        return [step_of(row) for row in self._rows(query)]

    def tally(self) -> list[StepGroup]:
        """Counts and bytes by kind, state, evidence, fault, and whether something is replaced."""
        rows = self._rows(
            "SELECT kind, state, evidence, fault, seen IS NOT NULL, count(*), sum(size), sum(sent),"
            " sum(CASE WHEN state = 'in place' THEN max(sent + reused - size, 0) ELSE 0 END),"
            " sum(reused > 0), sum(reused), sum(holes) FROM step GROUP BY 1, 2, 3, 4, 5"
        )
        return [
            StepGroup(
                StepKind(kind),
                StepState(state),
                Evidence(evidence) if evidence else None,
                Fault(fault) if fault else None,
                bool(replacing),
                *numbers,
            )
            for kind, state, evidence, fault, replacing, *numbers in rows
        ]

    def size_left(self) -> int:
        """Bytes of all steps that are not settled."""
        return int(self._one(f"SELECT coalesce(sum(size), 0) FROM step WHERE state IN {_OPEN!r}")[0])

    def contents(self) -> Iterator[tuple[bytes, str]]:
        """(label, digest) of every file that is right on the far side and whose digest is known, also in a bundle."""
        rows = self._rows(
            "SELECT label, digest FROM step WHERE kind IN ('file', 'archive', 'index') AND digest != ''"
            " AND state IN ('in place', 'left as is') ORDER BY label"
        )
        return ((label, digest) for label, digest in rows)

    def unset_directories(self) -> Iterator[tuple[Step, Step]]:
        """The steps of directories that the batch has made without setting their facts yet, and those that set them."""
        for step in self.of_kind(StepKind.FACTS):
            made = self.step(step.number - 1)
            if made.state is StepState.IN_PLACE and step.state.value in _OPEN:
                yield made, step

    def of_kind(self, kind: StepKind) -> Iterator[Step]:
        """Steps of a kind, whatever has become of them."""
        return map(step_of, self._rows(f"SELECT {COLUMNS} FROM step WHERE kind = ? ORDER BY number", kind.value))

    def witnesses(self) -> list[tuple[int, str]]:
        """Every session, and what names its writers."""
        return list(self._rows("SELECT number, witness FROM session"))

    def witness(self, session: int) -> str:
        """What names the writers of a session; "" when unknown."""
        row = next(self._rows("SELECT witness FROM session WHERE number = ?", session), None)
        return str(row[0]) if row else ""

    # -- writing -----------------------------------------------------------------------------------------

    def apply(self, changes: Sequence[Change | SessionWriters]) -> None:
        """Write changes to steps and sessions, all or none. Raises JournalError."""
        try:
            self._sql.execute("BEGIN IMMEDIATE")
            alike: dict[Shape, list[int]] = {}
            touched: set[int] = set()
            for change in changes:
                if isinstance(change, SessionWriters):
                    values = change.witness, change.session
                    self._sql.execute("UPDATE session SET witness = ? WHERE number = ?", values)
                    continue
                if change.number in touched:  # one after the other
                    self._change_all(alike)
                    alike.clear()
                    touched.clear()
                touched.add(change.number)
                alike.setdefault(shape(change), []).append(change.number)
            self._change_all(alike)
            self._sql.execute("COMMIT")
        except sqlite3.Error as error:
            self._roll_back()
            raise _told(self._file, error) from error
        except BaseException:
            self._roll_back()
            raise

    def _change_all(self, alike: dict[Shape, list[int]]) -> None:
        """Write changes to steps; those that are alike by one statement."""
        for (names, state, values), numbers in alike.items():
            for at in range(0, len(numbers), _TOGETHER):
                some = numbers[at : at + _TOGETHER]
                if names and self._sql.execute(update(names, state, len(some)), (*values, *some)).rowcount < len(some):
                    raise AssertionError(f"of the steps {some} not all may go to {state}")

    def new_session(self, witness: str) -> int:
        """Note a new session; its number."""
        with self._guard():
            return int(self._sql.execute("INSERT INTO session (witness) VALUES (?)", (witness,)).lastrowid or 0)

    def settle(self, state: BatchState, fault: Fault | None = None, detail: str = "") -> None:
        """Write where the batch stands."""
        old = self.standing().state
        if not batch_may_move(old, state):
            raise AssertionError(f"a batch may not go from {old} to {state}")
        with self._guard():
            self._sql.execute(
                "UPDATE batch SET state = ?, fault = ?, detail = ?", (state.value, fault, storable(detail))
            )

    def cancel(self, successor: str) -> None:
        """Nobody is to carry the batch any more: `successor` has taken its place; "" when none has."""
        if self.standing().state is not BatchState.CANCELLED:
            self.settle(BatchState.CANCELLED)
        with self._guard():
            self._sql.execute("UPDATE batch SET detail = ?", (successor,))

    def spend(self, seconds: float) -> None:
        """Add to the time that the batch has been moving."""
        with self._guard():
            self._sql.execute("UPDATE batch SET seconds = seconds + ?", (seconds,))

    def pin(self, pins: dict[str, tuple[str, int]]) -> None:
        """Write the addresses that the batch holds to."""
        with self._guard():
            self._sql.execute("UPDATE batch SET pins = ?", (json.dumps(pins),))

    def know_top(self, inode: int) -> None:
        """Write which directory the destination is; 0 when that is to be seen anew."""
        with self._guard():
            self._sql.execute("UPDATE batch SET top_inode = ?", (inode,))

    def prove_by(self, prove: Prove) -> None:
        """Write that files are to be proven in another way from now on; what the plan promised is void."""
        with self._guard():
            self._sql.execute("UPDATE batch SET prove = ?, promised = ''", (prove.value,))

    def make_again(self, *, wanted: bool) -> None:
        """Write whether what is missing at the destination is to be carried again."""
        with self._guard():
            self._sql.execute("UPDATE batch SET make_again = ?", (wanted,))

    def intend_record(self, record: str) -> None:
        """Note the ledger record that is about to be appended, so that it is appended once."""
        with self._guard():
            self._sql.execute("UPDATE batch SET recorded = ?", (record,))

    def reopen_failed(self) -> int:
        """Put failed steps back to waiting, but for those that only a new plan can mend; how many."""
        with self._guard():
            return self._sql.execute(
                "UPDATE step SET state = 'waiting' WHERE state = 'failed' AND fault NOT IN (?, ?, ?)",
                (Fault.KIND_IN_THE_WAY, Fault.UNREADABLE, Fault.NAME_CLASH),
            ).rowcount

    def _guard(self) -> _AsJournalError:
        return _AsJournalError(self)

    def _roll_back(self) -> None:
        if self._sql.in_transaction:
            self._sql.execute("ROLLBACK")

    def _rows(self, query: str, *values: object) -> Iterator[tuple[Any, ...]]:
        with self._guard():
            yield from self._reader.execute(query, values)

    def _one(self, query: str, *values: object) -> tuple[Any, ...]:
        row = next(self._rows(query, *values), None)
        if row is None:
            raise JournalError(self._file, "it is not whole", damaged=True)
        return row


def _told(file: str, error: sqlite3.Error | OSError) -> JournalError:
    """Our error for one of SQLite's: what is no trouble of the moment (an OperationalError) is damage."""
    moment = isinstance(error, OSError | sqlite3.OperationalError)
    code = getattr(error, "sqlite_errorname", None)  # "disk I/O error" alone may be any of thirty things
    return JournalError(file, f"{error} ({code})" if code else str(error), damaged=not moment)


class _AsJournalError:
    """One statement, its failure told as ours."""

    def __init__(self, journal: Journal) -> None:
        self._journal = journal

    def __enter__(self) -> None:
        return None

    def __exit__(self, kind: object, error: BaseException | None, trace: object) -> None:
        if isinstance(error, sqlite3.Error):
            raise _told(self._journal._file, error) from error
