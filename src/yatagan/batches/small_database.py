"""Small SQLite files in the state directory that several processes change: the queue, and the routines."""

from __future__ import annotations

import contextlib
import os
import sqlite3
from collections.abc import Iterator, Mapping
from pathlib import Path
from types import MappingProxyType

from yatagan.batches.journal_reading import AsJournalError, as_journal_error
from yatagan.config.disks import on_network
from yatagan.config.machine import machine_name
from yatagan.config.own_files import make_private

#: Seconds to wait for another process that changes the file.
_PATIENCE = 20.0


@contextlib.contextmanager
def small_database(
    file: Path, schema: str, added: Mapping[str, str] = MappingProxyType({})
) -> Iterator[sqlite3.Connection]:
    """Open such a file, and make it where it is missing. Raises JournalError, also for what fails in the block.

    `schema`: statements that change nothing the second time. `added`: columns that a file of an earlier version may not
    have, by their tables.
    """
    try:
        make_private(file.parent)
        _adopt(file)
        new = not file.exists()
        sql = sqlite3.connect(file, isolation_level=None, timeout=_PATIENCE)
    except (OSError, sqlite3.Error) as error:
        raise as_journal_error(str(file), error) from error
    with contextlib.closing(sql), AsJournalError(str(file)):
        if new:  # the mode stays with the file; memory that a write-ahead log needs cannot be shared over a network
            sql.execute(f"PRAGMA journal_mode = {'TRUNCATE' if on_network(file.parent) else 'WAL'}")
        sql.executescript(schema)
        if any(_missing(sql, table, columns) for table, columns in added.items()):
            sql.execute("BEGIN IMMEDIATE")  # another process may be at it
            for table, columns in added.items():
                for column in _missing(sql, table, columns):
                    sql.execute(f"ALTER TABLE {table} ADD COLUMN {column}")
            sql.execute("COMMIT")
        yield sql


def _missing(sql: sqlite3.Connection, table: str, columns: str) -> list[str]:
    """The columns that a table does not have yet."""
    known = {row[1] for row in sql.execute(f"PRAGMA table_info({table})")}
    return [column for column in columns.split(", ") if column.partition(" ")[0] not in known]


def is_made(file: Path) -> bool:
    """Whether there is such a file yet."""
    _adopt(file)
    return file.exists()


def _adopt(file: Path) -> None:
    """Take over the file that an earlier version has named after what people call this machine."""
    old = file.with_name(f"{machine_name()}.db")
    if old != file and old.exists() and not file.exists():
        for ending in ("-wal", "-shm", ""):
            with contextlib.suppress(OSError):
                os.rename(f"{old}{ending}", f"{file}{ending}")
