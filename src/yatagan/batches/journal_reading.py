"""Reading a journal: the queries over a batch's steps.

It has a connection of its own where that can be, so that a look never waits for a sync.
"""

from __future__ import annotations

import json
import os
import shutil
import sqlite3
from collections.abc import Collection, Iterator
from pathlib import Path
from typing import Any

from yatagan.batches.journal_data import Header, Purpose, Standing, StepGroup
from yatagan.batches.journal_rows import COLUMNS, OPEN, decode_facts, step_of
from yatagan.batches.pace import PaceRow
from yatagan.batches.states import BatchState, Evidence, StepState
from yatagan.batches.steps import MEMBERS_PHASE, Modes, Prove, Setting, Step, StepKind, Times
from yatagan.batches.strip import StripFile
from yatagan.errors import JournalError
from yatagan.faults import Fault
from yatagan.stores.interface import Facts
from yatagan.transfer.extents import Extents

#: Values in one statement: more are too many for an old SQLite.
TOGETHER = 500


class JournalReading:
    """The questions that can be asked of a journal. Raises JournalError; `file` names it in errors."""

    def __init__(self, reader: sqlite3.Connection, file: str) -> None:
        self._reader = reader
        self._file = file

    @property
    def spool(self) -> Path:
        """The directory for bundles that wait to be carried; it need not exist."""
        return Path(self._file).with_name("spool")

    def clear_spool(self) -> None:
        """Remove the spool directory, as far as possible."""
        shutil.rmtree(self.spool, ignore_errors=True)

    def header(self) -> Header:
        """What the batch is."""
        row = self._one(
            "SELECT id, created_ns, command, source_node, destination_node, destination, prove, modes, times, arrivals,"
            " options, max_rate, promised, expected, modelled, purpose FROM batch"
        )
        how = Prove(row[6]), Modes(row[7]), Times(row[8])
        arrivals = tuple((os.fsencode(path), os.fsencode(name)) for path, name in json.loads(row[9]))
        ends = row[3], row[4], row[5]
        promised = Evidence(row[12]) if row[12] else None
        command = tuple(json.loads(row[2]))
        seconds = {"expected_seconds": row[13], "modelled_seconds": row[14]}
        purpose = Purpose(**json.loads(row[15]))
        more = {"promised": promised, "purpose": purpose, **seconds}
        return Header(row[0], row[1], command, *ends, *how, arrivals, row[10], row[11], **more)

    def standing(self) -> Standing:
        """Where it stands."""
        row = self._one(
            "SELECT state, fault, detail, pins, seconds, recorded, top_inode, make_again, looked_ns FROM batch"
        )
        pins = {name: (pin[0], pin[1]) for name, pin in json.loads(row[3]).items()}
        fault = Fault(row[1]) if row[1] else None
        return Standing(BatchState(row[0]), fault, row[2], pins, row[4], row[5], row[6], bool(row[7]), row[8])

    def has_settled(self) -> bool:
        """Whether anything was put into its place there, or was found right."""
        states, unnamed = ("in place", "left as is"), ("bundle", "facts")
        query = f"SELECT EXISTS (SELECT 1 FROM step WHERE state IN {states!r} AND kind NOT IN {unnamed!r})"
        return bool(self._one(query)[0])

    def progress(self) -> str:
        """How far the batch is: equal when nothing was done between."""
        settled = self._one(f"SELECT count(*) FROM step WHERE state NOT IN {OPEN!r}")[0]
        return f"{settled} steps, {sum(Extents.decode(step.durable).total for step in self.begun())} bytes"

    def placed(self, paths: Collection[bytes]) -> dict[bytes, Step]:
        """The steps of files that the batch has put under these paths, or found right by digest, by path."""
        return self._at("kind = 'file' AND (state = 'in place' OR (state = 'left as is' AND digest != ''))", paths)

    def refused(self, paths: Collection[bytes]) -> dict[bytes, Step]:
        """The steps that were to set facts of these paths, and that the destination has refused, by path."""
        return self._at("kind = 'facts' AND setting = 'differ' AND state = 'left as is'", paths)

    def _at(self, condition: str, paths: Collection[bytes]) -> dict[bytes, Step]:
        """The steps of these paths that fulfil a condition, by path."""
        found: dict[bytes, Step] = {}
        wanted = list(paths)
        for at in range(0, len(wanted), TOGETHER):
            some = wanted[at : at + TOGETHER]
            query = f"SELECT {COLUMNS} FROM step WHERE ({condition}) AND path IN ({', '.join('?' * len(some))})"
            found.update((step.path, step) for step in map(step_of, self._rows(query, *some)))
        return found

    def grown(self) -> list[Step]:
        """The steps of growing files that have replaced an earlier state of theirs, or something else."""
        query = (
            f"SELECT {COLUMNS} FROM step WHERE state = 'in place' AND beginning IS NOT NULL AND seen IS NOT NULL"
            " AND NOT continues"
        )
        return list(map(step_of, self._rows(query)))

    def named_paths(self) -> Iterator[bytes]:
        """The paths of everything that the batch has put into its place, or found there."""
        states, unnamed = ("in place", "left as is"), ("bundle", "facts")
        query = f"SELECT path FROM step WHERE state IN {states!r} AND kind NOT IN {unnamed!r} AND phase < ?"
        return (row[0] for row in self._rows(query, MEMBERS_PHASE))

    def placed_paths(self) -> Iterator[bytes]:
        """The paths of everything that the batch has put into its place."""
        query = "SELECT path FROM step WHERE state = 'in place' AND kind NOT IN ('bundle', 'facts') AND phase < ?"
        return (row[0] for row in self._rows(query, MEMBERS_PHASE))

    def facts_set(self, directories: Collection[bytes]) -> list[int]:
        """The numbers of the steps that have set the facts of these directories."""
        found: list[int] = []
        wanted = list(directories)
        for at in range(0, len(wanted), TOGETHER):
            some = wanted[at : at + TOGETHER]
            marks = ", ".join("?" * len(some))
            query = f"SELECT number FROM step WHERE kind = 'facts' AND state = 'in place' AND path IN ({marks})"
            found += [row[0] for row in self._rows(query, *some)]
        return found

    def all_facts_set(self) -> list[int]:
        """The numbers of all steps that have set facts."""
        return [row[0] for row in self._rows("SELECT number FROM step WHERE kind = 'facts' AND state = 'in place'")]

    def sessions(self) -> int:
        """How many sessions have worked on it."""
        return int(self._one("SELECT count(*) FROM session")[0])

    def directory_state(self, path: bytes) -> StepState | None:
        """The state of the step that makes a directory of the destination; None if there is no such step."""
        query = "SELECT state FROM step WHERE kind = 'directory' AND path = ? AND phase < ?"
        row = next(self._rows(query, path, MEMBERS_PHASE), None)
        return StepState(row[0]) if row else None

    def step(self, number: int) -> Step:
        """One step."""
        return step_of(self._one(f"SELECT {COLUMNS} FROM step WHERE number = ?", number))

    def open_steps(self, after: tuple[int, int], limit: int) -> list[Step]:
        """At most `limit` steps that are not settled, after (phase, number), in that order."""
        rows = self._rows(
            f"SELECT {COLUMNS} FROM step WHERE state IN {OPEN!r} AND (phase, number) > (?, ?)"
            " ORDER BY phase, number LIMIT ?",
            *after,
            limit,
        )
        return [step_of(row) for row in rows]

    def members(self, bundle: int) -> list[Step]:
        """The files of a bundle that travels, in order, whatever their state."""
        query = f"SELECT {COLUMNS} FROM step WHERE bundle = ? AND bundle > 0 ORDER BY number"
        return [step_of(row) for row in self._rows(query, bundle)]

    def steps(self, *states: StepState, limit: int = -1) -> Iterator[Step]:
        """Steps in some states, by number; of all states when none is named."""
        wanted = [state.value for state in (states or tuple(StepState))]
        marks = ", ".join("?" * len(wanted))
        rows = self._rows(
            f"SELECT {COLUMNS} FROM step WHERE state IN ({marks}) ORDER BY number LIMIT ?", *wanted, limit
        )
        return map(step_of, rows)

    def begun(self) -> list[Step]:
        """Unsettled steps that have durable bytes at the destination."""
        query = f"SELECT {COLUMNS} FROM step WHERE state IN {OPEN!r} AND durable != '' ORDER BY number"
        return [step_of(row) for row in self._rows(query)]

    def strip_files(self) -> Iterator[StripFile]:
        """The files that are to be carried, or were, in the order of the plan."""
        rows = self._rows(
            "SELECT number, size, state, bundle FROM step WHERE kind = 'file'"
            " AND state NOT IN ('left as is', 'not carried') ORDER BY number"
        )
        return (StripFile(number, size, StepState(state), bundle) for number, size, state, bundle in rows)

    def tally(self) -> list[StepGroup]:
        """Counts and bytes of steps, grouped by kind, state, evidence, fault, and whether what they replace is kept."""
        rows = self._rows(
            "SELECT kind, state, evidence, fault, seen IS NOT NULL AND NOT continues, count(*), sum(size), sum(sent),"
            " sum(CASE WHEN state = 'in place' THEN max(sent + reused - size, 0) ELSE 0 END),"
            " sum(reused > 0), sum(reused), sum(holes), sum(setting = 'differ'),"
            " sum(kind = 'directory' AND label = x'') FROM step GROUP BY 1, 2, 3, 4, 5"
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
        """Bytes of all unsettled steps."""
        return int(self._one(f"SELECT coalesce(sum(size), 0) FROM step WHERE state IN {OPEN!r}")[0])

    def contents(self) -> Iterator[tuple[bytes, str]]:
        """(label, digest) of every file that is right at the destination and whose digest is known, also in bundles."""
        rows = self._rows(
            "SELECT label, digest FROM step WHERE kind IN ('file', 'archive', 'index') AND digest != ''"
            " AND state IN ('in place', 'left as is') ORDER BY label"
        )
        return ((label, digest) for label, digest in rows)

    def entry_facts(self) -> Iterator[tuple[bytes, Facts | None, bytes | None]]:
        """(label, facts, link target) of every entry that was put into its place, or shown to be right by its contents.

        The facts are those at the source; there are none of what was gone from it.
        """
        yield from ((label, None, None) for (label,) in self._rows("SELECT label FROM gone ORDER BY label"))
        query = (
            "SELECT label, facts, target FROM step WHERE kind IN ('file', 'link', 'directory') AND label != x''"
            " AND (state = 'in place' OR (state = 'left as is' AND digest != ''))"
            " OR (kind = 'facts' AND setting = 'differ' AND state = 'in place') ORDER BY number"
        )
        yield from ((label, decode_facts(facts), target) for label, facts, target in self._rows(query))

    def pace(self) -> list[PaceRow]:
        """How fast it went, by time."""
        return [PaceRow(*row) for row in self._rows("SELECT at, seconds, sent, placed, files FROM pace ORDER BY at")]

    def slowest(self) -> list[tuple[Step, float]]:
        """The files that took longest, each with its seconds, the longest first."""
        rows = self._rows("SELECT number, seconds FROM slowest ORDER BY seconds DESC, number")
        return [(self.step(number), seconds) for number, seconds in list(rows)]

    def file_sizes(self) -> Iterator[int]:
        """The size of every file that was to be carried, in bytes."""
        query = "SELECT size FROM step WHERE kind = 'file' AND state NOT IN ('left as is', 'not carried')"
        return (row[0] for row in self._rows(query))

    def bundled(self) -> Iterator[tuple[bytes, int, int]]:
        """Of every bundle that is stored: its label, the bytes of its files, and its own."""
        query = (
            "SELECT archive.label, sum(member.size), archive.size FROM step AS archive JOIN step AS member"
            " ON member.bundle = archive.number AND member.kind = 'file'"
            " WHERE archive.kind = 'archive' AND archive.state = 'in place' GROUP BY archive.number"
        )
        return ((label, before, after) for label, before, after in self._rows(query))

    def unset_directories(self) -> Iterator[tuple[Step, Step]]:
        """Directories that were made and lack their facts: the step of each, and the one that sets its facts."""
        for step in self.of_kind(StepKind.FACTS):
            if step.setting is not Setting.MADE:
                continue
            made = self.step(step.number - 1)
            if made.state is StepState.IN_PLACE and step.state.value in OPEN:
                yield made, step

    def of_kind(self, kind: StepKind) -> Iterator[Step]:
        """Steps of one kind, whatever their state."""
        return map(step_of, self._rows(f"SELECT {COLUMNS} FROM step WHERE kind = ? ORDER BY number", kind.value))

    def witnesses(self) -> list[tuple[int, str]]:
        """(number, writers) of every session."""
        return list(self._rows("SELECT number, witness FROM session"))

    def witness(self, session: int) -> str:
        """The writers of a session, as its store named them; "" when unknown."""
        row = next(self._rows("SELECT witness FROM session WHERE number = ?", session), None)
        return str(row[0]) if row else ""

    def _guard(self) -> AsJournalError:
        return AsJournalError(self._file)

    def _rows(self, query: str, *values: object) -> Iterator[tuple[Any, ...]]:
        with self._guard():
            yield from self._reader.execute(query, values)

    def _one(self, query: str, *values: object) -> tuple[Any, ...]:
        row = next(self._rows(query, *values), None)
        if row is None:
            raise JournalError(self._file, "it is not whole", damaged=True)
        return row


def as_journal_error(file: str, error: sqlite3.Error | OSError) -> JournalError:
    """The JournalError for an error of SQLite. What is not an OperationalError means that the file is damaged."""
    moment = isinstance(error, OSError | sqlite3.OperationalError)
    code = getattr(error, "sqlite_errorname", None)  # "disk I/O error" alone may be any of thirty things
    return JournalError(file, f"{error} ({code})" if code else str(error), damaged=not moment)


class AsJournalError:
    """A block of statements, whose failures become JournalError."""

    def __init__(self, file: str) -> None:
        self._file = file

    def __enter__(self) -> None:
        return None

    def __exit__(self, kind: object, error: BaseException | None, trace: object) -> None:
        if isinstance(error, sqlite3.Error):
            raise as_journal_error(self._file, error) from error
