"""Records in JSON Lines, each holding the digest of the one before.

Everybody who writes has a file of their own, so that nobody waits for a lock on a shared disk; reading
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
import secrets
import time
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from enum import StrEnum
from pathlib import Path
from typing import Any

from yatagan.digests.lists import format_list
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
    """One record, with the file that holds it and whether it fits to the one before it there."""

    id: str
    kind: RecordKind
    time: str
    who: str
    body: dict[str, Any]
    file: str
    digest: str
    fits: bool


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

    def append(
        self, id: str, kind: RecordKind, body: dict[str, Any], contents: Iterable[tuple[bytes, str]] = ()
    ) -> None:
        """Write a record and, when there are any, the (path, digest) lines it speaks of. On disk on return.

        Raises JournalError when the ledger cannot be written.
        """
        try:
            self.directory.mkdir(parents=True, exist_ok=True)
            kept = self._keep_list(contents)
            if self._file is None:
                # A file that is nobody else's: a keeper may finish several batches in one second.
                stamp, token = time.strftime("%Y%m%dT%H%M%SZ", time.gmtime()), secrets.token_hex(4)
                self._file = self.directory / f"{stamp}-{platform.node()}-{os.getpid()}-{token}.jsonl"
            record = {
                "format": 1,
                "id": id,
                "kind": kind.value,
                # As fine as the clock: commands that follow each other in one second are told in their order.
                "time": datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%S.%fZ"),
                "who": f"{_user()}@{platform.node()}",
                "previous": self._previous,
                "others": self._heads(),
                "body": {**body, **({"list": kept} if kept else {})},
            }
            line = canonical(record)
            with self._file.open("ab") as stream:
                stream.write(line + b"\n")
                stream.flush()
                os.fsync(stream.fileno())
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
        return value.hexdigest()

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
        return sorted(self.directory.glob("*.jsonl")) if self.directory.is_dir() else []

    def holds(self, id: str) -> bool:
        """Whether a record of this name is there."""
        return any(record.id == id for record in self.records())

    def records(self) -> Iterator[Record]:
        """All records, oldest first. One that cannot be read, or does not fit to the one before, says so."""
        found: list[Record] = []
        known = {file.name: {hashlib.sha256(line).hexdigest() for line in _lines(file)} for file in self._files()}
        for file in self._files():
            found.extend(_read(file, known))
        yield from sorted(found, key=lambda record: (record.time, record.file))


def _read(file: Path, known: dict[str, set[str]]) -> Iterator[Record]:
    previous = ""
    for line in _lines(file):
        digest = hashlib.sha256(line).hexdigest()
        try:
            entry = json.loads(line)
            fits = (
                canonical(entry) == line
                and entry["previous"] == previous
                and all(head in known.get(name, ()) for name, head in entry["others"].items())
            )
            yield Record(
                entry["id"],
                RecordKind(entry["kind"]),
                entry["time"],
                entry["who"],
                entry["body"],
                file.name,
                digest,
                fits,
            )
        except (ValueError, KeyError, TypeError, AttributeError):
            yield Record("", RecordKind.STAGED, "", "", {}, file.name, digest, False)
        previous = digest


def _lines(file: Path) -> list[bytes]:
    """Whole lines only: one that a crash cut short was never a record."""
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
