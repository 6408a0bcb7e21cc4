"""`yatagan batch list`: all batches, a line each.

Of a batch that nothing carries, the answer is kept with the time of its journal, so that thousands are listed at once.
What is kept can be lost without harm.
"""

from __future__ import annotations

import contextlib
import json
import os
import sqlite3
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import click

from yatagan.batches.activity import Activity
from yatagan.batches.batch_store import Batch, Batches
from yatagan.batches.counts import outcome_of
from yatagan.batches.moments import Moment
from yatagan.batches.states import ENDED, BatchState
from yatagan.batches.strip import CellState
from yatagan.batches.time_left import SecondsLeft
from yatagan.cli.answers.json_answer import JSON_FORMAT, say_json
from yatagan.cli.answers.json_fields import batch_json, now_json
from yatagan.cli.context import App, as_json
from yatagan.cli.terminal import terminal, text
from yatagan.cli.views.progress import left_words
from yatagan.cli.views.strip_view import drawn_cells, strip_of
from yatagan.cli.words import messages
from yatagan.cli.words.batch_words import from_to, left, short_state
from yatagan.cli.words.exit_status import ExitStatus
from yatagan.errors import JournalError
from yatagan.version import __version__

#: Cells of a batch's strip, and the columns from which on a terminal has room for them.
_CELLS, _ROOM_FOR_CELLS = 8, 96
#: Files of a batch whose steps are read for its strip: more take a second.
_MOST_FILES = 300_000


@click.command(
    "list",
    epilog="""\b
Examples:
  yatagan batch list --unfinished
  yatagan batch list --json""",
)
@click.option("--unfinished", is_flag=True, help="Only those that are neither finished nor cancelled.")
@as_json
def list_command(unfinished: bool, json_: bool) -> None:
    """Show all batches, newest first: what each does, how far it is, and from where to where.

    The last column but one says how long a moving one still takes, and else how long ago it was made.
    """
    app = App.start()
    rows, unread = _rows(app)
    if unfinished:
        rows = [row for row in rows if row["state"] not in _ENDED]
    if json_:
        broken = [
            {"batch": batch.name, "state": "damaged" if why.damaged else "unreadable", "detail": why.detail}
            for batch, why in unread
        ]
        say_json({"batches": [{name: row[name] for name in row if name not in _OURS} for row in rows] + broken})
    elif rows:
        text.paged(_table(rows))
    elif unfinished:
        terminal.say("No batch is unfinished.")
    elif not unread:
        terminal.say("There is no batch yet. Make one with: yatagan stage SOURCE… DESTINATION")
    for _, why in unread:
        text.warn(str(messages.explain(why)))
    if unread:
        raise click.exceptions.Exit(ExitStatus.DIFFERENCES)


_ENDED = frozenset(state.value for state in ENDED)
#: What a row holds for the table, and no answer.
_OURS = ("cells", "from_to", "now", "left")
Row = dict[str, Any]


def _rows(app: App) -> tuple[list[Row], list[tuple[Batch, JournalError]]]:
    """All batches, newest first, and those that cannot be read."""
    activities = app.activities()
    rows: list[Row] = []
    unread: list[tuple[Batch, JournalError]] = []
    with _Remembered(app.home.state / "batch-list.db") as known:
        for batch in Batches(app.home.batches).unsorted():
            mark = _mark(batch)
            row = known.get(batch.name, mark)
            try:
                if row is None:
                    row = _read(batch)
                    known.put(batch.name, mark, row)
                now = activities.of(batch, BatchState(row["state"]))
                rows.append({**row, **now_json(now), "now": now, "left": _left(batch, row, now)})
            except JournalError as error:
                unread.append((batch, error))
    return sorted(rows, key=lambda row: (row["made_at"], row["batch"]), reverse=True), unread


def _left(batch: Batch, row: Row, now: Activity) -> SecondsLeft | None:
    """How long a batch that moves still takes; None for others, and where that is not known."""
    if not now.is_carried:
        return None
    with contextlib.closing(batch.journal()) as journal:
        return left(row, now.snapshot, journal)


def _read(batch: Batch) -> Row:
    """A batch as its journal says."""
    with contextlib.closing(batch.journal()) as journal:
        outcome = outcome_of(journal)
        if outcome.good:  # known without reading its steps
            cells = [CellState.IN_PLACE] * _CELLS if outcome.moved else []
        else:
            cells = strip_of(journal).cells(_CELLS) if outcome.files <= _MOST_FILES else []
    return {**batch_json(outcome), "cells": [cell.value for cell in cells], "from_to": from_to(outcome.header)}


def _mark(batch: Batch) -> str:
    """What changes with a batch's journal; "" while a process has it open, or has left it so."""
    try:
        found = os.stat(batch.journal_file)
    except OSError:
        return ""
    if os.path.exists(f"{batch.journal_file}-wal"):
        return ""
    return f"{__version__} {JSON_FORMAT} {found.st_ino} {found.st_mtime_ns} {found.st_size}"


class _Remembered:
    """The rows that were read before. Where they cannot be kept, they are read again."""

    def __init__(self, file: Path) -> None:
        self._file = file
        self._known: dict[str, tuple[str, str]] = {}
        self._learned: list[tuple[str, str, str]] = []
        self._seen: set[str] = set()

    def get(self, batch: str, mark: str) -> Row | None:
        """A row that was read when its journal had this mark."""
        self._seen.add(batch)
        known, row = self._known.get(batch, ("", ""))
        found: Row | None = json.loads(row) if mark and known == mark else None
        return found

    def put(self, batch: str, mark: str, row: Row) -> None:
        """Keep a row."""
        if mark:
            self._learned.append((batch, mark, json.dumps(row)))

    def __enter__(self) -> _Remembered:
        with contextlib.suppress(sqlite3.Error), self._open() as sql:
            rows = sql.execute("SELECT batch, mark, answer FROM row")
            self._known = {batch: (mark, answer) for batch, mark, answer in rows}
        return self

    def __exit__(self, *args: object) -> None:
        gone = [(batch,) for batch in self._known if batch not in self._seen]
        if not self._learned and not gone:
            return
        with contextlib.suppress(sqlite3.Error), self._open() as sql:
            sql.execute("BEGIN IMMEDIATE")
            sql.executemany("DELETE FROM row WHERE batch = ?", gone)
            sql.executemany("INSERT OR REPLACE INTO row VALUES (?, ?, ?)", self._learned)
            sql.execute("COMMIT")

    @contextlib.contextmanager
    def _open(self) -> Iterator[sqlite3.Connection]:
        with contextlib.closing(sqlite3.connect(self._file, isolation_level=None, timeout=0.2)) as sql:
            sql.execute("PRAGMA synchronous = OFF")
            sql.execute("CREATE TABLE IF NOT EXISTS row (batch TEXT PRIMARY KEY, mark TEXT, answer TEXT)")
            yield sql


def _table(rows: list[Row]) -> Iterator[str]:
    """The lines of the table."""
    wide = text.width() >= _ROOM_FOR_CELLS and sys.stdout.isatty()
    moving = any(row["now"].snapshot for row in rows)
    lines = []
    for row in rows:
        cells = drawn_cells([CellState(cell) for cell in row["cells"]]) if wide else ""
        rate = [_rate(row)] if moving else []
        far = f"{cells} {_share(row):>5}" if cells else _share(row)
        lines.append([row["batch"], _state(row), far, *rate, _time(row), row["from_to"]])
    heads = ["batch", "state", "in place", *(["rate"] if moving else []), "time", "from → to"]
    return text.table_lines(heads, lines, right=(2, 3, 4) if moving else (2, 3), squeeze=True)


def _state(row: Row) -> str:
    words = short_state(row["now"], row["failed"])
    if row["failed"] and row["state"] == BatchState.FINISHED:
        return text.tinted(words, text.Tone.TROUBLE)
    if row["good"]:
        return text.tinted(words, text.Tone.GOOD)
    waits = row["state"] in (BatchState.HELD, BatchState.NEEDS_LOGIN, BatchState.INTERRUPTED)
    return text.tinted(words, text.Tone.WARNING) if waits else words


def _share(row: Row) -> str:
    """How much of it is in place: `62 %`; never 100 % while anything is missing."""
    size = row["in_place_bytes"] + row["waiting_bytes"]
    files = row["in_place"] + row["waiting"] + row["failed_files"]
    if not files:
        return "-"
    if row["in_place"] == files:
        return "100 %"
    if not size or row["failed_files"] or not row["waiting_bytes"]:
        return text.percent(row["in_place"], files)
    return text.percent(row["in_place_bytes"], size)


def _rate(row: Row) -> str:
    rate = row["rate_bytes_per_second"]
    return f"{text.size(rate)}/s" if rate else ""


def _time(row: Row) -> str:
    """How long it still takes, when it is tried again, or how long ago it was made."""
    now: Activity = row["now"]
    if now.is_carried:
        return left_words(row["left"])
    if now.state is BatchState.QUEUED and now.entry is not None:
        retried = now.entry.retried_at(Moment.now())
        return text.day_time(retried) if retried is not None else f"{now.ahead} before" if now.ahead else "next"
    return text.ago(row["made_at"])
