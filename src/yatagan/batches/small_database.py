"""Small SQLite files in the state directory that several processes change: the queue, and the routines."""

from __future__ import annotations

import contextlib
import sqlite3
from collections.abc import Iterator
from pathlib import Path

from yatagan.batches.journal_reading import AsJournalError, as_journal_error
from yatagan.config.disks import on_network
from yatagan.config.own_files import make_private

#: Seconds to wait for another process that changes the file.
_PATIENCE = 20.0


@contextlib.contextmanager
def small_database(file: Path, schema: str) -> Iterator[sqlite3.Connection]:
    """Open such a file, and make it where it is missing. Raises JournalError, also for what fails in the block.

    `schema`: statements that change nothing the second time.
    """
    try:
        make_private(file.parent)
        new = not file.exists()
        sql = sqlite3.connect(file, isolation_level=None, timeout=_PATIENCE)
    except (OSError, sqlite3.Error) as error:
        raise as_journal_error(str(file), error) from error
    with contextlib.closing(sql), AsJournalError(str(file)):
        if new:  # the mode stays with the file; memory that a write-ahead log needs cannot be shared over a network
            sql.execute(f"PRAGMA journal_mode = {'TRUNCATE' if on_network(file.parent) else 'WAL'}")
        sql.executescript(schema)
        yield sql
