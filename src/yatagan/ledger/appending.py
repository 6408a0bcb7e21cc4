"""Appending to our own writer's file, whole or not at all.

Only the processes of one account on one machine append to a file, one after the other: the lock is in the state
directory, so that a shared ledger needs none. A line that a crash or a full disk has cut short is cut off before the
next one is written. A file that is not what our last record left, or no plain file of ours any more, is left as it is:
a new writer begins, and its first record names what is missing.
"""

from __future__ import annotations

import base64
import errno
import fcntl
import os
import stat
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import Any, NamedTuple, Protocol

from yatagan.ledger.directory import LedgerDirectory, last_record
from yatagan.ledger.handles import WRITERS
from yatagan.ledger.memory import LedgerMemory, OwnHead, read_own_head, write_own_head
from yatagan.ledger.records import FORMAT, LONGEST_LINE, WRITER, Head, canonical, digest_of
from yatagan.ledger.whole_writes import append_whole

#: Bytes at the end of a file in which the end of its last line is looked for.
_TORN = 2 * LONGEST_LINE
#: Other writers' files that one record names.
_NAMED_AT_ONCE = 4
#: How it looks when something else has the name of a file of ours.
_ODD = (errno.ELOOP, errno.EACCES, errno.ENXIO, errno.EISDIR, errno.EINVAL)


class Unsigned(StrEnum):
    """Why a record is not signed, though signatures were asked for."""

    KEY_MISSING = "key missing"
    KEY_UNREADABLE = "key unreadable"
    NEEDS_TOUCH = "key needs a touch"
    PASS_PHRASE = "pass phrase needed"
    NO_AGENT = "no agent"
    NOT_IN_AGENT = "key not in the agent"
    AGENT_SILENT = "agent silent"
    AGENT_REFUSED = "agent refused"


class CannotSign(Exception):
    """A record cannot be signed. It is still written, and says why it has no signature."""

    def __init__(self, why: Unsigned) -> None:
        super().__init__(why.value)
        self.why = why


class Signer(Protocol):
    """Signs records."""

    def sign(self, message: bytes) -> bytes:
        """The SSH signature of a record. Raises CannotSign."""


class Appended(NamedTuple):
    """A record that is in the ledger: its id, where it stands, and why it has no signature, if one was asked for."""

    id: str
    head: Head
    unsigned: str


@dataclass(slots=True)
class _Own:
    """Our file, open for appending: its writer, its size, and its newest record."""

    writer: str
    descriptor: int
    size: int
    head: Head | None


class Appender:
    """Appends to our own file in one ledger."""

    def __init__(self, directory: LedgerDirectory, memory: LedgerMemory, signer: Signer | None) -> None:
        self._directory = directory
        self._memory = memory
        self._signer = signer

    def append(self, lock: int, records: Sequence[Mapping[str, Any]]) -> list[Appended]:
        """Append records, given without what binds them to the file. Durable on return.

        `lock`: of our writer, held (`LedgerMemory.locked`). Returns where each stands. Raises OSError if none was
        written, and ValueError for what no record can hold.
        """
        own, lost = self._open(lock)
        try:
            named, moved = self._moved(own, lost)
            lines, appended = self._lines(own, records, moved)
            self._write(own, b"".join(lines))
            write_own_head(lock, own.writer, OwnHead(own.size, appended[-1].head))
        finally:
            os.close(own.descriptor)
        if moved:
            self._memory.keep_named(named)
        return appended

    def _open(self, lock: int) -> tuple[_Own, dict[str, Head]]:
        """Open our file, and say what was lost of an earlier one, by its writer. Raises OSError."""
        noted = read_own_head(lock)
        writer, remembered = noted if noted is not None else (self._memory.writer(), None)
        if writer is not None and (own := self._reopen(writer, remembered)) is not None:
            return own, {}
        lost = {writer: remembered.head} if writer is not None and remembered is not None else {}
        writer = self._memory.new_writer(lock)
        own = self._reopen(writer, None)
        if own is None:
            raise OSError(errno.EEXIST, "another program makes its files")
        return own, lost

    def _reopen(self, writer: str, remembered: OwnHead | None) -> _Own | None:
        """Our file as it is now; None if it is not what it was. Raises OSError where it cannot be opened."""
        flags = os.O_RDWR | os.O_APPEND
        if remembered is None:
            flags |= os.O_CREAT
        name, mode = f"{writer}.jsonl", self._directory.file_mode()
        try:
            descriptor = self._directory.handles.open_file(WRITERS, name, flags, mode)
        except OSError as error:
            if error.errno == errno.ENOENT and remembered is not None:
                return None
            if error.errno in _ODD and self._is_taken(name):
                return None
            raise
        try:
            facts = os.fstat(descriptor)
            own = _Own(writer, descriptor, facts.st_size, None)
            plain = facts.st_nlink == 1 and facts.st_uid == os.geteuid()
            if not plain or not _is_free(descriptor) or not _is_as_left(own, remembered):
                os.close(descriptor)
                return None
            if not own.size and stat.S_IMODE(facts.st_mode) != mode:
                os.fchmod(descriptor, mode)
        except OSError:
            os.close(descriptor)
            raise
        return own

    def _is_taken(self, name: str) -> bool:
        """Whether something else has the name of our file."""
        try:
            self._directory.handles.stat(WRITERS, name)
        except OSError:
            return False
        return True

    def _moved(self, own: _Own, lost: dict[str, Head]) -> tuple[dict[str, OwnHead], dict[str, Head]]:
        """What our records have named of other files by the next one, and what of that the next one has to name.

        A file is read only if its size has changed since it was named last. Our first record names all files, a later
        one only some of those that have moved, the one that was named longest ago first: else records would grow with
        the number of people.
        """
        named, moved = (self._memory.named() if own.head is not None else {}), dict(lost)
        sizes = self._moved_sizes(named, {own.writer, *lost})
        longest_ago = {writer: at for at, writer in enumerate(named, 1)}
        for writer in sorted(sizes, key=lambda writer: longest_ago.get(writer, 0)):
            if own.head is not None and len(moved) >= _NAMED_AT_ONCE:
                break
            head, before = self._directory.head(f"{writer}.jsonl"), named.pop(writer, None)
            if head is not None and (before is None or head.number > before.head.number):
                moved[writer] = head
                named[writer] = OwnHead(sizes[writer], head)
            elif before is not None:
                named[writer] = before
        return named, moved

    def _moved_sizes(self, named: dict[str, OwnHead], without: set[str]) -> dict[str, int]:
        """The sizes of other writers' files that have another one than when they were named."""
        found: dict[str, int] = {}
        try:
            entries = self._directory.handles.entries(WRITERS)
        except OSError:
            return found  # what cannot be read now is named another time
        for name, facts in entries:
            writer = name.removesuffix(".jsonl")
            before = named.get(writer)
            if writer in without or (before is None and not WRITER.fullmatch(writer)):
                continue
            if before is None or facts.st_size != before.size:
                found[writer] = facts.st_size
        return found

    def _lines(
        self, own: _Own, records: Sequence[Mapping[str, Any]], moved: dict[str, Head]
    ) -> tuple[list[bytes], list[Appended]]:
        """The lines of records that follow the newest one, and where each will stand."""
        lines: list[bytes] = []
        appended: list[Appended] = []
        last = own.head or Head(0, "")
        for record in records:
            fields = {
                **record,
                "format": FORMAT,
                "writer": own.writer,
                "number": last.number + 1,
                "previous": last.digest,
            }
            if moved and not lines:
                fields["others"] = {
                    writer: {"number": head.number, "digest": head.digest} for writer, head in moved.items()
                }
            fields = self._signed(fields)
            line = canonical(fields)
            last = Head(last.number + 1, digest_of(line))
            lines.append(line + b"\n")
            appended.append(Appended(record["id"], last, fields.get("unsigned", "")))
        return lines, appended

    def _signed(self, fields: dict[str, Any]) -> dict[str, Any]:
        """The fields with a signature of all others; or with why there is none, if one was asked for."""
        if self._signer is None:
            return fields
        try:
            signature = self._signer.sign(canonical(fields))
        except CannotSign as error:
            return {**fields, "unsigned": error.why.value}
        return {**fields, "signature": base64.b64encode(signature).decode("ascii")}

    def _write(self, own: _Own, data: bytes) -> None:
        """Append whole lines durably, or leave the file as it was. Raises OSError."""
        append_whole(own.descriptor, own.size, data)
        if not own.size:
            self._directory.handles.sync(WRITERS)
        own.size += len(data)


def _is_free(descriptor: int) -> bool:
    """Whether no other process writes to our file, as one of a machine that was cloned from this one; until closed."""
    try:
        fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return False
    except OSError:
        pass  # a disk without locks; the lock in the state directory is what counts
    return True


def _is_as_left(own: _Own, remembered: OwnHead | None) -> bool:
    """Whether the file ends as our last record left it; sets its newest record. Cuts off a torn line.

    More lines than that are a clone's, or of a process of ours that died in between: either way a new file is safe.
    """
    if remembered is not None and own.size == remembered.size:
        own.head = remembered.head
        return True
    start = max(0, own.size - _TORN)
    tail = os.pread(own.descriptor, own.size - start, start)
    end = start + tail.rfind(b"\n") + 1
    if (start and end == start) or (remembered is not None and end != remembered.size):
        return False
    if end < own.size:
        os.ftruncate(own.descriptor, end)
        own.size = end
    if own.size:
        record = last_record(own.descriptor, own.size)
        if record is None or record.fields["writer"] != own.writer:
            return False
        own.head = Head(record.number, record.digest)
    return True
