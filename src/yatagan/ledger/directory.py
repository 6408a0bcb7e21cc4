"""A ledger's directory: where its files are, and how they are read. Looking never locks and never writes.

    writers/WRITER.jsonl             the records of one writer, to which that writer alone appends
    writers/WRITER.fork-HEX.jsonl    another continuation of that file, which a merge has brought
    lists/SHA256                     the checksum list of a record, under its own digest
    allowed_signers, revoked_keys    whose signatures hold, in the form of the OpenSSH key tool

Links, FIFOs and whatever else is found besides are named as strange and never opened. Nothing is reached through a
link below the directory (`handles.py`).
"""

from __future__ import annotations

import errno
import hashlib
import os
import re
import stat
import sys
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path
from typing import NamedTuple

from yatagan.config.guarded_files import read_within
from yatagan.config.own_files import make_private
from yatagan.ledger.handles import LISTS, ROOT, WRITERS, LedgerHandles
from yatagan.ledger.records import DIGEST, LONGEST_LINE, WRITER, Head, Record, parse

WRITER_FILE = re.compile(rf"({WRITER.pattern})(\.fork-[0-9a-f]{{16}})?\.jsonl")
#: Files beside the records, which are not strange.
_PARTS = (WRITERS, LISTS)
KEY_FILES = ("allowed_signers", "revoked_keys")
_KEY_FILE = re.compile("|".join(KEY_FILES))
_BLOCK = 1 << 20
#: Bytes at the end of a file in which its last line is looked for first.
_TAIL = 1 << 14


class Strange(NamedTuple):
    """Something that belongs to no ledger: its name below the directory, and what it is, as `a link`.

    `in_place`: it stands where records, lists or keys are looked for.
    """

    name: str
    what: str
    in_place: bool = False


class LedgerDirectory:
    """The files of a ledger.

    `may_be_made`: whether the directory itself is made when it is missing. `links`: whether links of ours may lead to
    it.
    """

    def __init__(self, path: Path, *, may_be_made: bool = False, links: bool = True) -> None:
        self.path = path
        self.may_be_made = may_be_made
        self.handles = LedgerHandles(path, links=links)
        self.writers = path / WRITERS
        self.lists = path / LISTS
        self.allowed_signers = path / KEY_FILES[0]
        self.revoked_keys = path / KEY_FILES[1]

    def writer_files(self) -> list[str]:
        """The names of the writers' files, forks included, sorted."""
        return self._plain(WRITERS, WRITER_FILE)

    def list_names(self) -> list[str]:
        """The digests of the checksum lists that are there."""
        return self._plain(LISTS, DIGEST)

    def _plain(self, part: str, name: re.Pattern[str]) -> list[str]:
        """The plain files of a part whose names match; what is there besides, `strange` names. Raises OSError."""
        owner = self._only_owner(part)
        entries = ((each, facts) for each, facts in self._entries(part) if name.fullmatch(each))
        return sorted(each for each, facts in entries if not _oddity(facts, owner))

    def _entries(self, part: str) -> list[tuple[str, os.stat_result]]:
        """What is in a part; nothing where it is missing, or something else has its name. Raises OSError else."""
        try:
            return self.handles.entries(part)
        except OSError as error:
            if error.errno not in (errno.ENOENT, errno.ENOTDIR, errno.ELOOP):
                raise
            return []

    def _only_owner(self, part: str) -> int | None:
        """The account that alone may put files into a part; None where others may too."""
        try:
            facts = self.handles.stat(part)
        except OSError:
            return None
        return None if facts.st_mode & 0o022 else facts.st_uid

    def look(self) -> None:
        """Raise OSError where the directory, or a part of it, cannot be read; FileNotFoundError where there is none."""
        self.handles.entries(ROOT)
        for part in _PARTS:
            try:
                self.handles.entries(part)
            except (FileNotFoundError, NotADirectoryError):
                continue
            except OSError as error:
                if error.errno != errno.ELOOP:  # a link is a finding, and hinders nobody from reading the rest
                    raise

    def sizes(self) -> dict[str, int | None]:
        """How many bytes each writer's file has, all as of one moment; None for one that cannot be read.

        A check reads no more than that: else a record that is written meanwhile could name one that was not yet there.
        """
        found: dict[str, int | None] = {}
        for name in self.writer_files():
            try:
                descriptor = self.handles.open_file(WRITERS, name)  # on a network disk opening asks the server anew
            except OSError:
                found[name] = None
                continue
            found[name] = os.fstat(descriptor).st_size
            os.close(descriptor)
        return found

    def strange(self) -> list[Strange]:
        """What is there and belongs to no ledger. Raises OSError."""
        found = []
        for part, known in ((ROOT, _KEY_FILE), (WRITERS, WRITER_FILE), (LISTS, DIGEST)):
            owner = self._only_owner(part)
            for each, facts in self._entries(part):
                name = f"{part}/{each}" if part else each
                if each.startswith(".new-"):
                    continue  # a list that is being written
                if part == ROOT and each in _PARTS:
                    if not stat.S_ISDIR(facts.st_mode):
                        found.append(Strange(name, _oddity(facts, None) or "a file", in_place=True))
                    continue
                in_place = known.fullmatch(each) is not None
                if what := _oddity(facts, owner):
                    found.append(Strange(name, what, in_place))
                elif not in_place:
                    found.append(Strange(name, "not a ledger's"))
        return sorted(found)

    def keys(self, name: str) -> bytes:
        """What the file of allowed signers, or of revoked keys, says; nothing where there is none.

        Raises OSError and NotBelieved where it cannot be read: that is no less than a key that is not known to hold.
        """
        try:
            descriptor = self.handles.open_file(ROOT, name)
        except FileNotFoundError:
            return b""
        try:
            return read_within(descriptor, str(self.path / name))
        finally:
            os.close(descriptor)

    def lines(self, name: str, size: int | None = None) -> Iterator[bytes]:
        """The complete lines of a writer's file, or of its first `size` bytes, without their ends. Raises OSError.

        A line that a crash cut short was never a record. One that is too long to be ours is shortened.
        """
        return _lines(partial(self.handles.open_file, WRITERS, name), size)

    def lines_backwards(self, name: str, wanted: Callable[[bytes], bool]) -> Iterator[bytes]:
        """As `lines`, from the last one on, without blocks of lines that are not `wanted`. Raises OSError."""
        return _lines_backwards(partial(self.handles.open_file, WRITERS, name), wanted)

    def head(self, name: str) -> Head | None:
        """The newest record of a writer's file; None where there is none that can be read."""
        try:
            descriptor = self.handles.open_file(WRITERS, name)
        except OSError:
            return None
        try:
            record = last_record(descriptor, os.fstat(descriptor).st_size, name)
        except OSError:
            return None
        finally:
            os.close(descriptor)
        return Head(record.number, record.digest) if record is not None else None

    def list_digest(self, name: str) -> str | None:
        """The SHA-256 that a checksum list has now; None where it cannot be read."""
        try:
            value = hashlib.sha256()
            for block in self.list_blocks(name):
                value.update(block)
        except OSError:
            return None
        return value.hexdigest()

    def list_blocks(self, name: str) -> Iterator[bytes]:
        """The bytes of a checksum list, in blocks. Raises OSError."""
        return _blocks(partial(self.handles.open_file, LISTS, name))

    def make(self) -> None:
        """Make the directories that are missing; in a shared one, only a file's owner can remove it. Raises OSError."""
        if self.may_be_made:
            make_private(self.path)
        mode = stat.S_IMODE(self.handles.stat(ROOT).st_mode)
        for part in _PARTS:
            try:
                with self.handles.open(part):
                    continue
            except FileNotFoundError:
                self.handles.make(part, mode | stat.S_ISVTX if mode & 0o022 else mode)

    def file_mode(self) -> int:
        """The mode of new files: all who may read the directory may read them; only their owner writes."""
        return 0o600 | stat.S_IMODE(self.handles.stat(ROOT).st_mode) & 0o044


def last_record(descriptor: int, size: int, name: str = "") -> Record | None:
    """The record of the last complete line within the first `size` bytes; None where that is no record.

    Raises OSError.
    """
    length = _TAIL
    while True:
        start = max(0, size - length)
        data = os.pread(descriptor, size - start, start)
        end = data.rfind(b"\n")
        begin = data.rfind(b"\n", 0, max(end, 0))
        if end >= 0 and (begin >= 0 or not start):
            return parse(data[begin + 1 : end], name)
        if not start or length > 2 * LONGEST_LINE:
            return None
        length *= 8


def _oddity(facts: os.stat_result, owner: int | None) -> str:
    """What something is, unless it is a plain file; "" for a plain one, of that owner or root."""
    kinds = ((stat.S_ISLNK, "a link"), (stat.S_ISDIR, "a directory"), (stat.S_ISFIFO, "a FIFO"))
    for is_kind, what in kinds:
        if is_kind(facts.st_mode):
            return what
    if not stat.S_ISREG(facts.st_mode):
        return "a socket or device"
    return "another account's" if owner is not None and facts.st_uid not in (owner, 0) else ""


def _blocks(opened: Callable[[], int], size: int | None = None) -> Iterator[bytes]:
    """The bytes of a file, which is opened when they are asked for."""
    descriptor = opened()
    try:
        left = sys.maxsize if size is None else size
        while block := os.read(descriptor, min(_BLOCK, left)):
            left -= len(block)
            yield block
    finally:
        os.close(descriptor)


def _lines_backwards(opened: Callable[[], int], wanted: Callable[[bytes], bool]) -> Iterator[bytes]:
    descriptor = opened()
    try:
        position, rest, is_last = os.fstat(descriptor).st_size, b"", True
        while position:
            start = max(0, position - _BLOCK)
            data = os.pread(descriptor, position - start, start) + rest
            end = data.rfind(b"\n") + 1 if is_last else len(data)  # what is behind the last line end was torn
            begin = data.find(b"\n", 0, end) + 1 if start else 0
            if begin < end and (begin or not start):
                is_last = False
                if wanted(data[begin:end]):
                    yield from reversed(data[begin:end].removesuffix(b"\n").split(b"\n"))
                end = begin
            position, rest = start, data[:end][: 2 * LONGEST_LINE]
    finally:
        os.close(descriptor)


def _lines(opened: Callable[[], int], size: int | None = None) -> Iterator[bytes]:
    rest = b""
    for block in _blocks(opened, size):
        *lines, rest = (rest + block).split(b"\n")
        yield from lines
        rest = rest[: 2 * LONGEST_LINE]
