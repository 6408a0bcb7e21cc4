"""A ledger's directory: where its files are, and how they are read. Looking never locks and never writes.

    writers/WRITER.jsonl             the records of one writer, to which that writer alone appends
    writers/WRITER.fork-HEX.jsonl    another continuation of that file, which a merge has brought
    lists/SHA256                     the checksum list of a record, under its own digest
    allowed_signers, revoked_keys    whose signatures hold, in the form of the OpenSSH key tool
    *.jsonl                          records of the first form, a file for each process

Links, FIFOs and whatever else is found besides are named as strange and never opened.
"""

from __future__ import annotations

import hashlib
import os
import re
import stat
import sys
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import NamedTuple

from yatagan.config.own_files import sync_directory
from yatagan.ledger.records import DIGEST, LONGEST_LINE, WRITER, Head, Record, parse

WRITER_FILE = re.compile(rf"({WRITER.pattern})(\.fork-[0-9a-f]{{16}})?\.jsonl")
_OLD_FILE = re.compile(r".+\.jsonl")
#: Files beside the records, which are not strange.
_KNOWN = frozenset({"writers", "lists", "allowed_signers", "revoked_keys"})
_BLOCK = 1 << 20
_READ = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC
#: Bytes at the end of a file in which its last line is looked for first.
_TAIL = 1 << 14


class Strange(NamedTuple):
    """Something that belongs to no ledger: its name below the directory, and what it is, as `a link`."""

    name: str
    what: str


class LedgerDirectory:
    """The files of a ledger. `may_be_made`: whether the directory itself is made when it is missing."""

    def __init__(self, path: Path, *, may_be_made: bool = False) -> None:
        self.path = path
        self.may_be_made = may_be_made
        self.writers = path / "writers"
        self.lists = path / "lists"
        self.allowed_signers = path / "allowed_signers"
        self.revoked_keys = path / "revoked_keys"

    def writer_files(self) -> list[str]:
        """The names of the writers' files, forks included, sorted."""
        return self._plain(self.writers, WRITER_FILE)

    def old_files(self) -> list[str]:
        """The names of files of the first form, sorted."""
        return self._plain(self.path, _OLD_FILE)

    def list_names(self) -> list[str]:
        """The digests of the checksum lists that are there."""
        return self._plain(self.lists, DIGEST)

    def _plain(self, directory: Path, name: re.Pattern[str]) -> list[str]:
        """The plain files of a directory whose names match. Empty where it cannot be read."""
        owner = _only_owner(directory)
        entries = (entry for entry in _entries(directory) if name.fullmatch(entry.name))
        return sorted(entry.name for entry in entries if not _oddity(entry, owner))

    def look(self) -> None:
        """Raise OSError where the directory, or one in it, cannot be read; FileNotFoundError where there is none."""
        os.scandir(self.path).close()
        for directory in (self.writers, self.lists):
            if directory.is_dir():
                os.scandir(directory).close()

    def sizes(self) -> dict[str, int | None]:
        """How many bytes each writer's file has, all as of one moment; None for one that cannot be read.

        A check reads no more than that: else a record that is written meanwhile could name one that was not yet there.
        """
        found: dict[str, int | None] = {}
        for name in self.writer_files():
            try:
                descriptor = os.open(self.writers / name, _READ)  # on a network disk opening asks the server anew
            except OSError:
                found[name] = None
                continue
            found[name] = os.fstat(descriptor).st_size
            os.close(descriptor)
        return found

    def strange(self) -> list[Strange]:
        """What is there and belongs to no ledger. Raises nothing."""
        found = []
        for directory, known in ((self.path, None), (self.writers, WRITER_FILE), (self.lists, DIGEST)):
            owner = _only_owner(directory)
            for entry in _entries(directory):
                name = entry.name if directory is self.path else f"{directory.name}/{entry.name}"
                if entry.name.startswith(".new-"):
                    continue  # a list that is being written
                if known is None and entry.name in _KNOWN:
                    if entry.name in ("writers", "lists") and not entry.is_dir(follow_symlinks=False):
                        found.append(Strange(name, "no directory"))
                elif what := _oddity(entry, owner):
                    found.append(Strange(name, what))
                elif not (known or _OLD_FILE).fullmatch(entry.name):
                    found.append(Strange(name, "not a ledger's"))
        return sorted(found)

    def lines(self, name: str, size: int | None = None) -> Iterator[bytes]:
        """The complete lines of a writer's file, or of its first `size` bytes, without their ends. Raises OSError.

        A line that a crash cut short was never a record. One that is too long to be ours is shortened.
        """
        return _lines(self.writers / name, size)

    def lines_backwards(self, name: str, wanted: Callable[[bytes], bool]) -> Iterator[bytes]:
        """As `lines`, from the last one on, without blocks of lines that are not `wanted`. Raises OSError."""
        return _lines_backwards(self.writers / name, wanted)

    def old_lines(self, name: str) -> Iterator[bytes]:
        """As `lines`, of a file of the first form."""
        return _lines(self.path / name)

    def head(self, name: str) -> Head | None:
        """The newest record of a writer's file; None where there is none that can be read."""
        try:
            descriptor = os.open(self.writers / name, _READ)
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
            for block in _blocks(self.lists / name):
                value.update(block)
        except OSError:
            return None
        return value.hexdigest()

    def list_blocks(self, name: str) -> Iterator[bytes]:
        """The bytes of a checksum list, in blocks. Raises OSError."""
        return _blocks(self.lists / name)

    def make(self) -> None:
        """Make the directories that are missing; in a shared one, only a file's owner can remove it. Raises OSError."""
        for directory in (self.writers, self.lists):
            if not directory.is_dir():
                directory.mkdir(parents=self.may_be_made, exist_ok=True)
                mode = stat.S_IMODE(os.stat(self.path).st_mode)
                if mode & 0o022:
                    os.chmod(directory, mode | stat.S_ISVTX)
                sync_directory(self.path)

    def file_mode(self) -> int:
        """The mode of new files: all who may read the directory may read them; only their owner writes."""
        return 0o600 | stat.S_IMODE(os.stat(self.path).st_mode) & 0o044


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


def _entries(directory: Path) -> list[os.DirEntry[str]]:
    try:
        with os.scandir(directory) as entries:
            return list(entries)
    except OSError:
        return []


def _only_owner(directory: Path) -> int | None:
    """The account that alone may put files into a directory; None where others may too."""
    try:
        facts = os.stat(directory)
    except OSError:
        return None
    return None if facts.st_mode & 0o022 else facts.st_uid


def _oddity(entry: os.DirEntry[str], owner: int | None) -> str:
    """What a directory entry is, unless it is a plain file; "" for a plain one, of that owner or root."""
    try:
        facts = entry.stat(follow_symlinks=False)
    except OSError:
        return "gone"
    kinds = ((stat.S_ISLNK, "a link"), (stat.S_ISDIR, "a directory"), (stat.S_ISFIFO, "a FIFO"))
    for is_kind, what in kinds:
        if is_kind(facts.st_mode):
            return what
    if not stat.S_ISREG(facts.st_mode):
        return "a socket or device"
    return "another account's" if owner is not None and facts.st_uid not in (owner, 0) else ""


def _blocks(path: Path, size: int | None = None) -> Iterator[bytes]:
    descriptor = os.open(path, _READ)
    try:
        if not stat.S_ISREG(os.fstat(descriptor).st_mode):
            raise OSError(f"{path}: no plain file")
        left = sys.maxsize if size is None else size
        while block := os.read(descriptor, min(_BLOCK, left)):
            left -= len(block)
            yield block
    finally:
        os.close(descriptor)


def _lines_backwards(path: Path, wanted: Callable[[bytes], bool]) -> Iterator[bytes]:
    descriptor = os.open(path, _READ)
    try:
        facts = os.fstat(descriptor)
        if not stat.S_ISREG(facts.st_mode):
            raise OSError(f"{path}: no plain file")
        position, rest, is_last = facts.st_size, b"", True
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


def _lines(path: Path, size: int | None = None) -> Iterator[bytes]:
    rest = b""
    for block in _blocks(path, size):
        *lines, rest = (rest + block).split(b"\n")
        yield from lines
        rest = rest[: 2 * LONGEST_LINE]
