"""Digests that were made before, kept on this machine, each with the facts that the file had then.

They only save work: the caller must show that nothing of its file has moved since. A memory that cannot be
read or written is done without.
"""

from __future__ import annotations

import sqlite3
import threading
import time
from collections.abc import Iterable, Sequence
from contextlib import suppress
from pathlib import Path

from yatagan.config.own_files import make_private
from yatagan.stores.interface import Facts, Kind

#: Seconds after which a digest is made anew: a disk may lose what no time stamp shows.
_DAY, _LONG = 86400, 180 * 86400
_SCHEMA = """
CREATE TABLE IF NOT EXISTS digest (
    store TEXT NOT NULL, path BLOB NOT NULL, algorithm TEXT NOT NULL, size INTEGER NOT NULL, mtime_ns INTEGER NOT NULL,
    changed_ns INTEGER NOT NULL, inode TEXT NOT NULL, mode INTEGER NOT NULL, digest TEXT NOT NULL, day INTEGER NOT NULL,
    PRIMARY KEY (store, path, algorithm)) WITHOUT ROWID;
"""


class RememberedDigests:
    """The remembered digests of one user. Any thread may call its methods; none of them raises.

    `seconds`: how long a digest counts, in whole days, or to the second where it is less than two days.
    """

    def __init__(self, file: Path, seconds: int = _LONG) -> None:
        self._lock = threading.Lock()
        unit = _DAY if seconds >= 2 * _DAY else 1
        self._day, self._units = int(time.time() // unit), seconds // unit
        self._sql: sqlite3.Connection | None = None
        with suppress(OSError, sqlite3.Error):
            make_private(file.parent)
            self._sql = _open(file)

    def recall(self, store: str, algorithm: str, paths: Sequence[bytes]) -> dict[bytes, tuple[Facts, str]]:
        """Known digests of files of a store (a node's name, "" for this machine), each with the facts it belongs to."""
        found: dict[bytes, tuple[Facts, str]] = {}
        if self._sql is None:
            return found
        with self._lock, suppress(sqlite3.Error):
            for path in paths:
                row = self._sql.execute(
                    "SELECT size, mtime_ns, mode, changed_ns, inode, digest FROM digest"
                    " WHERE store = ? AND path = ? AND algorithm = ? AND day >= ?",
                    (store, path, algorithm, self._day - self._units),
                ).fetchone()
                if row is not None:
                    size, mtime_ns, mode, changed_ns, inode, digest = row
                    found[path] = Facts(Kind.FILE, size, mtime_ns, mode, changed_ns, int(inode)), digest
        return found

    def keep(self, store: str, algorithm: str, digests: Iterable[tuple[bytes, Facts, str]]) -> None:
        """Remember digests, each with the facts that its file had before and after it was read."""
        rows = [
            # An inode may have all 64 bits, of which a column has 63.
            (store, path, algorithm, facts.size, facts.mtime_ns, facts.changed_ns, str(facts.inode), facts.mode, digest)
            for path, facts, digest in digests
        ]
        if self._sql is None or not rows:
            return
        with self._lock, suppress(sqlite3.Error), self._sql:
            command = f"INSERT OR REPLACE INTO digest VALUES ({', '.join('?' * 10)})"
            self._sql.executemany(command, [(*row, self._day) for row in rows])

    def forget(self, store: str, root: bytes) -> None:
        """Forget the digests of a file, or of all below a directory."""
        if self._sql is None:
            return
        below = root.rstrip(b"/") + b"/"
        with self._lock, suppress(sqlite3.Error), self._sql:
            command = "DELETE FROM digest WHERE store = ? AND (path = ? OR (path >= ? AND path < ?))"
            self._sql.execute(command, (store, root, below, below[:-1] + b"0"))

    def close(self) -> None:
        """Drop old digests and close the file."""
        if self._sql is None:
            return
        with self._lock, suppress(sqlite3.Error):
            with self._sql:
                self._sql.execute("DELETE FROM digest WHERE day < ?", (self._day - self._units,))
            self._sql.close()


def _open(file: Path) -> sqlite3.Connection:
    """Open the file; one that is damaged is created anew. Raises OSError, sqlite3.Error."""
    try:
        return _prepared(file)
    except sqlite3.OperationalError:
        raise  # in use, or no room: nothing is wrong with the file
    except sqlite3.DatabaseError:
        file.unlink()
        return _prepared(file)


def _prepared(file: Path) -> sqlite3.Connection:
    sql = sqlite3.connect(file, timeout=5, check_same_thread=False)
    try:
        sql.executescript(_SCHEMA)
    except sqlite3.Error:
        sql.close()
        raise
    return sql
