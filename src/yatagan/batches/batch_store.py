"""Batches on disk: one directory each, with the journal, a log and a lock.

A batch is named by its day and four letters (`261124-k7qd`); any part of the name that no other
batch has will do when it is asked for. Only the process that holds the lock may carry a batch.
"""

from __future__ import annotations

import contextlib
import os
import secrets
import shutil
import time
from collections.abc import Iterable, Iterator
from dataclasses import replace
from pathlib import Path

from yatagan.batches.journal import FINISHED_MARK, Journal
from yatagan.batches.journal_data import Header
from yatagan.batches.locks import Holder, Lock, LockTaken
from yatagan.batches.steps import Step
from yatagan.config.own_files import make_private
from yatagan.errors import BatchInUse, JournalError, NoSuchBatch

#: The file whose time is that of the acceptance.
_ACCEPTED = "accepted"
_LETTERS = "abcdefghjkmnpqrstvwxyz23456789"


def new_name() -> str:
    """A name for a new batch: its date and four random characters."""
    return time.strftime("%y%m%d-", time.localtime()) + "".join(secrets.choice(_LETTERS) for _ in range(4))


class Batch:
    """The directory of one batch."""

    def __init__(self, directory: Path) -> None:
        self.directory = directory
        self.name = directory.name
        self._lock = Lock(directory / "lock")

    @property
    def journal_file(self) -> Path:
        """The path of its journal."""
        return self.directory / "journal.db"

    @property
    def log_file(self) -> Path:
        """The path of its log, one JSON object a line."""
        return self.directory / "log.jsonl"

    @property
    def snapshot_file(self) -> Path:
        """The path of what tells how it is getting on, while it is carried."""
        return self.directory / "now.json"

    @property
    def said_file(self) -> Path:
        """The path of what a person has said of it, see `said.py`."""
        return self.directory / "said.json"

    @property
    def is_surely_finished(self) -> bool:
        """Whether it is known to be finished without opening its journal. Not every finished batch is known so."""
        return (self.directory / FINISHED_MARK).exists()

    def journal(self) -> Journal:
        """Open the journal. Raises JournalError."""
        return Journal.open(self.journal_file)

    def note_accepted(self, created_ns: int) -> None:
        """Note when it was accepted, where that can be seen without its journal, as far as possible."""
        file = self.directory / _ACCEPTED
        with contextlib.suppress(OSError):
            file.touch(mode=0o600)
            os.utime(file, ns=(created_ns, created_ns))

    def accepted_ns(self) -> int:
        """When it was accepted; as far as its journal tells, for one of an earlier version."""
        with contextlib.suppress(OSError):
            return os.stat(self.directory / _ACCEPTED).st_mtime_ns
        try:
            with contextlib.closing(self.journal()) as journal:
                return journal.header().created_ns
        except JournalError:  # which must not hide other batches
            return self.directory.stat().st_mtime_ns

    def lock(self, *, take_over: bool = False) -> None:
        """Become the one process that carries this batch. Raises BatchInUse, NoLocks or JournalError.

        `take_over`: also if a process of another host has left its name in the lock.
        """
        try:
            self._lock.take(over=take_over)
        except LockTaken as taken:
            holder = str(taken.holder or "another process")
            raise BatchInUse(self.name, holder, elsewhere=taken.elsewhere) from None
        except OSError as error:
            raise JournalError(str(self._lock.file), error.strerror or str(error)) from error

    def unlock(self) -> None:
        """Release the lock."""
        self._lock.release()

    def is_carried(self) -> bool:
        """Whether a process of this machine holds the lock."""
        return self._lock.is_held()

    def carrier(self) -> Holder | None:
        """The process that carries it: here, or by the name in the lock on another host. None if none does."""
        if self._lock.is_free():
            return None
        holder = self._lock.holder()
        if self._lock.is_held():
            return holder or Holder("?", "", 0, 0)
        return holder if holder is not None and not holder.is_of(self.directory) else None

    def delete(self) -> None:
        """Delete the directory of a batch that is locked by us; the journal first, without which there is no batch."""
        for name in ("journal.db", "journal.db-wal", "journal.db-shm"):
            (self.directory / name).unlink(missing_ok=True)
        shutil.rmtree(self.directory, ignore_errors=True)


class Batches:
    """All batches of one user, in one directory."""

    def __init__(self, directory: Path) -> None:
        self._directory = directory

    def accept(self, header: Header, steps: Iterable[Step], earlier: Journal | None = None) -> Batch:
        """Write a plan as a new batch, and lock it. Raises JournalError.

        The header's name and time are empty; they are set here. With `earlier`, a journal whose lock we hold, the new
        batch takes that one's place. It is cancelled first, so that no two batches go on with one part file; if we die
        before the new one is written, it names a batch that does not exist.
        """
        try:
            make_private(self._directory)
            while True:
                directory = self._directory / new_name()
                try:
                    directory.mkdir(mode=0o700)
                    break
                except FileExistsError:
                    continue
            batch = Batch(directory)
            batch.lock()
        except OSError as error:
            raise JournalError(str(self._directory), error.strerror or str(error)) from error
        header = replace(header, id=batch.name, created_ns=time.time_ns())
        batch.note_accepted(header.created_ns)
        try:
            witnesses = []
            if earlier is not None:
                witnesses = earlier.witnesses()
                earlier.cancel(batch.name)
            Journal.create(batch.journal_file, header, steps, witnesses).close()
        except BaseException:
            batch.unlock()
            shutil.rmtree(directory, ignore_errors=True)
            raise
        return batch

    def __iter__(self) -> Iterator[Batch]:
        """Every batch that was accepted, oldest first."""
        yield from sorted(self.unsorted(), key=Batch.accepted_ns)

    def unsorted(self) -> Iterator[Batch]:
        """Every batch that was accepted, in no order: no journal is opened for it."""
        if self._directory.is_dir():
            yield from (Batch(path) for path in self._directory.iterdir() if (path / "journal.db").exists())

    def opened(self, *, finished: bool = True) -> Iterator[tuple[Batch, Journal]]:
        """Every batch whose journal can be read, newest first. Each journal is closed before the next is opened.

        Without `finished`, those are left out that are known to be so: of many batches nearly all.
        """
        for batch in reversed(list(self)):
            if not finished and batch.is_surely_finished:
                continue
            with contextlib.suppress(JournalError):
                journal = batch.journal()
                with contextlib.closing(journal):
                    journal.header()
                    yield batch, journal

    def holds(self, name: str) -> bool:
        """Whether there is a batch of exactly this name."""
        return bool(name) and (self._directory / name / "journal.db").exists()

    def get(self, name: str) -> Batch:
        """The batch of exactly this name. Raises NoSuchBatch."""
        if not self.holds(name):
            raise NoSuchBatch(name)
        return Batch(self._directory / name)

    def find(self, name: str | None) -> Batch:
        """The batch of this name, or the only one whose name has this in it. Raises NoSuchBatch.

        For None the newest one that can be read, else the newest.
        """
        if name is None:
            batches = list(self)
            if not batches:
                raise NoSuchBatch("")
            return next((batch for batch, _ in self.opened()), batches[-1])
        batches = list(self.unsorted())
        found = [batch for batch in batches if name and name.lower() in batch.name]
        found = [batch for batch in found if batch.name == name] or found
        if len(found) != 1:
            names = tuple(sorted(batch.name for batch in found))
            raise NoSuchBatch(name, names, tuple(sorted(batch.name for batch in batches)))
        return found[0]
