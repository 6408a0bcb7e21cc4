"""Records in JSON Lines, each holding the digest of the one before.

Every writer has a file of its own, so that none waits for a lock on a shared disk; reading
merges them by time. A record also names the newest digest of every other file that was there, so that
a file which is removed or cut short later is missed. A record's digest is the SHA-256 of its line, which
is in RFC 8785 form: keys sorted, no white space, no numbers but integers, UTF-8.

The files that a record speaks of are not in the record but in a checksum list beside it, under its own digest:
`lists/<sha256>` can be checked with the standard commands for as long as there are any.
"""

from __future__ import annotations

import getpass
import hashlib
import json
import os
import platform
import re
import secrets
import time
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from enum import StrEnum
from pathlib import Path
from typing import Any

from yatagan.config.home import sync_directory
from yatagan.digests.checksum_lists import format_list
from yatagan.errors import JournalError


class RecordKind(StrEnum):
    """What a record is about."""

    STAGED = "staged"
    LISTED = "listed"
    VERIFIED = "verified"
    BUNDLED = "bundled"
    UNPACKED = "unpacked"


@dataclass(frozen=True, slots=True)
class Record:
    """One record, its file, and what is wrong with it; "" if nothing."""

    id: str
    kind: RecordKind
    time: str
    who: str
    body: dict[str, Any]
    file: str
    digest: str
    problem: str = ""

    @property
    def fits(self) -> bool:
        """Whether nothing is wrong with it."""
        return not self.problem


def record_name(kind: RecordKind) -> str:
    """A name for a record that is not a batch's."""
    return f"{kind.value}-{time.strftime('%y%m%d-%H%M%S')}-{secrets.token_hex(2)}"


def canonical(value: object) -> bytes:
    """RFC 8785 form of what we write (no floats, ASCII keys)."""
    return json.dumps(value, sort_keys=True, separators=(",", ":"), ensure_ascii=False).encode("utf-8")


class Ledger:
    """The ledger in one directory."""

    def __init__(self, directory: Path) -> None:
        self.directory = directory
        self._file: Path | None = None
        self._previous = ""
        #: What was last named of other writers' files: they are named again when they have moved.
        self._named: dict[str, str] = {}

    def append(
        self, id: str, kind: RecordKind, body: dict[str, Any], contents: Iterable[tuple[bytes, str]] = ()
    ) -> None:
        """Append a record, and the (path, digest) lines that it is about, if any. Durable on return.

        Raises JournalError when the ledger cannot be written.
        """
        try:
            self.directory.mkdir(parents=True, exist_ok=True)
            kept = self._keep_list(contents)
            if self._file is None:
                # A file of its own: a keeper may finish several batches in one second.
                stamp, token = time.strftime("%Y%m%dT%H%M%SZ", time.gmtime()), secrets.token_hex(4)
                self._file = self.directory / f"{stamp}-{platform.node()}-{os.getpid()}-{token}.jsonl"
            record = {
                "format": 1,
                "id": id,
                "kind": kind.value,
                # As fine as the clock: commands that follow each other in one second stay in their order.
                "time": datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%S.%fZ"),
                "who": f"{_user()}@{platform.node()}",
                "previous": self._previous,
                "others": self._moved_heads(),
                "body": {**body, **({"list": kept} if kept else {})},
            }
            line, new = canonical(record), not self._file.exists()
            with self._file.open("ab") as stream:
                stream.write(line + b"\n")
                stream.flush()
                os.fsync(stream.fileno())
            if new:
                sync_directory(self.directory)
        except OSError as error:
            raise JournalError(str(self.directory), error.strerror or str(error)) from error
        self._previous = hashlib.sha256(line).hexdigest()

    def _keep_list(self, contents: Iterable[tuple[bytes, str]]) -> str:
        """Store a checksum list under its own digest; "" for an empty one."""
        lists = self.directory / "lists"
        lists.mkdir(exist_ok=True)
        value, new = hashlib.sha256(), lists / f".new-{os.getpid()}-{secrets.token_hex(4)}"
        empty = True
        with new.open("wb") as stream:
            for line in format_list(contents):
                empty = False
                value.update(line)
                stream.write(line)
            stream.flush()
            os.fsync(stream.fileno())
        if empty:
            new.unlink()
            return ""
        os.replace(new, lists / value.hexdigest())
        sync_directory(lists)
        return value.hexdigest()

    def _moved_heads(self) -> dict[str, str]:
        """The newest digest of each other writer's file that has grown since this writer last named it.

        A writer's first record leaves out what another record names already: one is enough to show a later change.
        """
        heads = self._heads()
        if not self._named:
            self._named = self._named_by_all()
        moved = {name: digest for name, digest in heads.items() if self._named.get(name) != digest}
        self._named.update(moved)
        return moved

    def _named_by_all(self) -> dict[str, str]:
        """The newest digest of each file that any record names."""
        named: dict[str, tuple[str, str]] = {}
        for file in self._files():
            for line in _lines(file):
                try:
                    entry = json.loads(line)
                    for name, digest in entry["others"].items():
                        named[name] = max(named.get(name, ("", "")), (entry["time"], digest))
                except (ValueError, KeyError, TypeError, AttributeError):
                    continue
        return {name: digest for name, (_, digest) in named.items()}

    def _heads(self) -> dict[str, str]:
        """The newest digest of every other file."""
        heads = {}
        for file in self._files():
            if file != self._file:
                lines = _lines(file)
                if lines:
                    heads[file.name] = hashlib.sha256(lines[-1]).hexdigest()
        return heads

    def _files(self) -> list[Path]:
        if not self.directory.is_dir():
            return []
        return sorted(file for file in self.directory.glob("*.jsonl") if file.is_file())  # no FIFO, which would hang

    def holds(self, id: str) -> bool:
        """Whether a record of this name is there."""
        return any(record.id == id for record in self.records())

    def records(self) -> Iterator[Record]:
        """All records, oldest first, each with what is wrong with it.

        A record is vouched for by the next one in its file, and by records of other files that name it: so the newest
        of all can be changed unseen until another one is written.
        """
        files = [_WriterFile(file.name, _lines(file)) for file in self._files()]
        named = _named(files)
        found = [record for file in files for record in file.records(named)]
        yield from sorted(map(self._with_list, found), key=lambda record: (record.time, record.file))

    def missing(self) -> list[str]:
        """Files that records name and that do not exist."""
        files = [_WriterFile(file.name, _lines(file)) for file in self._files()]
        there = {file.name for file in files}
        return sorted({name for name, _, _ in _named(files) if name not in there})

    def _with_list(self, record: Record) -> Record:
        """The record, with what is wrong with its checksum list."""
        name = record.body.get("list")
        if record.problem or not isinstance(name, str) or not re.fullmatch("[0-9a-f]{64}", name):
            return record
        value = hashlib.sha256()
        try:
            with (self.directory / "lists" / name).open("rb") as stream:
                while block := stream.read(1 << 20):
                    value.update(block)
        except OSError:
            return replace(record, problem="its checksum list is missing")
        return record if value.hexdigest() == name else replace(record, problem="its checksum list was changed")


#: That a record of this time names a record of a file, by the file's name and the record's digest.
_Naming = tuple[str, str, str]


class _WriterFile:
    """One writer's file."""

    def __init__(self, name: str, lines: list[bytes]) -> None:
        self.name = name
        self.digests = [hashlib.sha256(line).hexdigest() for line in lines]
        self.entries = [_parse(line) for line in lines]

    def records(self, named: set[_Naming]) -> Iterator[Record]:
        """Its records. `named` are all that records of all files name."""
        vouched = {digest for name, digest, _ in named if name == self.name}
        vouched |= {str(entry["previous"]) for entry in self.entries if entry is not None}
        lost = [when for name, digest, when in named if name == self.name and digest not in self.digests]
        for at, (digest, entry) in enumerate(zip(self.digests, self.entries, strict=True)):
            problem = self._problem(at, vouched, max(lost, default=""))
            if entry is None:
                yield Record("", RecordKind.STAGED, "", "", {}, self.name, digest, problem or "it cannot be read")
            else:
                kind, body = RecordKind(entry["kind"]), entry["body"]
                yield Record(entry["id"], kind, entry["time"], entry["who"], body, self.name, digest, problem)

    def _problem(self, at: int, vouched: set[str], lost: str) -> str:
        """What is wrong with one record. `lost`: when another file last named a record that is no longer here."""
        digest, entry, last = self.digests[at], self.entries[at], at + 1 == len(self.digests)
        if entry is None:
            return "it cannot be read"
        if last and lost and entry["time"] <= lost:
            removed = "records behind it were removed"
            return removed if digest in vouched else f"it was changed, or {removed}"
        if digest in vouched:
            if at and entry["previous"] != self.digests[at - 1] and self.digests[at - 1] in vouched:
                return "records before it were removed"
            return ""
        if not last and (after := self.entries[at + 1]) is not None and after["previous"] != digest:
            return "it was changed" if self.digests[at + 1] in vouched else "it, or the next one, was changed"
        if at and entry["previous"] != self.digests[at - 1] and self.digests[at - 1] in vouched:
            return "it was changed, or records before it were removed"
        return "it was changed" if not at and entry["previous"] else ""


def _named(files: list[_WriterFile]) -> set[_Naming]:
    """The digests of other files that records name."""
    entries = [entry for file in files for entry in file.entries if entry is not None]
    return {(name, digest, entry["time"]) for entry in entries for name, digest in entry["others"].items()}


def _parse(line: bytes) -> dict[str, Any] | None:
    """A record from its line; None if this program would not have written it so."""
    try:
        entry = json.loads(line)
        RecordKind(entry["kind"])
        sound = all(isinstance(entry[key], str) for key in ("id", "time", "who", "previous"))
        sound &= isinstance(entry["body"], dict) and all(isinstance(each, str) for each in entry["others"].values())
        return entry if sound and canonical(entry) == line else None
    except (ValueError, KeyError, TypeError, AttributeError):
        return None


def _lines(file: Path) -> list[bytes]:
    """The complete lines of a file; one that a crash cut short was never a record."""
    try:
        data = file.read_bytes()
    except OSError:
        return []
    return data.split(b"\n")[:-1]


def _user() -> str:
    try:
        return getpass.getuser()
    except (KeyError, OSError):
        return str(os.getuid())
