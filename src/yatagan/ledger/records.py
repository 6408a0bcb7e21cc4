"""The records of a ledger and their lines. No I/O.

A record is one line of a writer's file: a JSON object in the canonical form of RFC 8785, so that the same record has
the same bytes on every machine. Its digest is the SHA-256 of the line. It carries its number in the file, the digest of
the record before it, and the newest digests of other writers' files where those have moved.
`docs/reference/formats.md` describes every field.

Numbers are whole and below 2**53, names of fields are ASCII: then the standard library's encoder, with sorted keys and
no white space, writes the canonical form exactly, at a fifth of the cost of a general one.
"""

from __future__ import annotations

import hashlib
import json
import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime
from enum import StrEnum
from typing import Any, NamedTuple

from yatagan.places import name_fields, name_from

#: The form of records that is written.
FORMAT = 2
#: A line of more bytes is not read: nothing of ours is so long.
LONGEST_LINE = 1 << 20
#: Words of a command, and sources, that are put on record; of more only the number is. Letters of a word.
MOST_WORDS = 100
_MOST_LETTERS = 300

_LARGEST = 2**53 - 1
#: What a writer's file is named after, and what may be a digest.
WRITER = re.compile(r"[A-Za-z0-9_-]{1,64}-[0-9a-f]{16}")
DIGEST = re.compile(r"[0-9a-f]{64}")


class RecordKind(StrEnum):
    """What a record is about. A reader shows a kind that it does not know by its name."""

    STAGED = "staged"
    RESTORED = "restored"
    LISTED = "listed"
    VERIFIED = "verified"
    BUNDLED = "bundled"
    UNPACKED = "unpacked"
    REMOVED = "removed"
    RENAMED = "renamed"
    REPLACED = "replaced"
    EDITED = "edited"
    #: Two continuations of one file were looked at, and both are to stay.
    FORK_ACCEPTED = "fork accepted"


class RecordedPlace(NamedTuple):
    """A node ("" for the machine that wrote the record) and an absolute path there."""

    node: str
    path: bytes

    def as_json(self) -> dict[str, str]:
        """`{"node": "heron", "path": "/scratch/fen"}`."""
        return {"node": self.node, **name_fields(self.path)}


@dataclass(frozen=True, slots=True)
class Statement:
    """What a command puts on record.

    `origins` and `target`: from where to where. `counts`: files and what became of them. `size`: bytes of the files.
    `evidence`: how many files are known by which evidence. `command`: what was typed, word by word. `details`: what
    only this kind has. `id`: names the record; by it a record is never written twice.
    """

    id: str
    kind: RecordKind
    outcome: str
    origins: tuple[RecordedPlace, ...] = ()
    target: RecordedPlace | None = None
    counts: Mapping[str, int] = field(default_factory=dict)
    size: int = 0
    evidence: Mapping[str, int] = field(default_factory=dict)
    command: tuple[str, ...] = ()
    batch: str = ""
    details: Mapping[str, Any] = field(default_factory=dict)

    def fields(self) -> dict[str, Any]:
        """The fields of the record; those that are empty are left out."""
        counts = dict(self.counts)
        if len(self.origins) > MOST_WORDS:
            counts["sources"] = len(self.origins)
        words = [_printable(word) for word in self.command[:MOST_WORDS]]
        if more := len(self.command) - len(words):
            words.append(f"… and {more} more words")
        given = {
            "command": words,
            "from": [place.as_json() for place in self.origins[:MOST_WORDS]],
            "to": self.target.as_json() if self.target is not None else None,
            "counts": counts,
            "evidence": {name: count for name, count in self.evidence.items() if count},
            "batch": self.batch,
            **self.details,
        }
        kept = {key: value for key, value in given.items() if value not in ("", [], {}, None)}
        return {"id": self.id, "kind": self.kind.value, "outcome": self.outcome, "size_bytes": self.size, **kept}


class Head(NamedTuple):
    """A record of a writer's file, by its number there and its digest: the newest one, when it was seen."""

    number: int
    digest: str


@dataclass(frozen=True, slots=True)
class Record:
    """A record that was read, the digest of its line, and the name of its file."""

    fields: Mapping[str, Any]
    digest: str
    file: str

    @property
    def id(self) -> str:
        """Its name."""
        return str(self.fields["id"])

    @property
    def kind(self) -> str:
        """What it is about: a RecordKind, or a kind of a later version."""
        return str(self.fields["kind"])

    @property
    def recorded_at(self) -> str:
        """When it was written: UTC, RFC 3339."""
        return str(self.fields["recorded_at"])

    @property
    def who(self) -> str:
        """Account and machine: `mara@moor`."""
        return str(self.fields["who"])

    @property
    def outcome(self) -> str:
        """`good`, or what was not."""
        return str(self.fields.get("outcome", ""))

    @property
    def number(self) -> int:
        """Its number in its writer's file, from 1."""
        return int(self.fields["number"])

    @property
    def previous(self) -> str:
        """The digest of the record before it in its file; "" for the first."""
        return str(self.fields["previous"])

    @property
    def list_digest(self) -> str:
        """The SHA-256 of the checksum list of its files; "" without one."""
        return str(self.fields.get("list", ""))

    @property
    def others(self) -> dict[str, Head]:
        """The newest records of other writers' files that it names."""
        return {name: Head(head["number"], head["digest"]) for name, head in self.fields.get("others", {}).items()}

    @property
    def origins(self) -> list[RecordedPlace]:
        """From where. Raises KeyError or ValueError where another program wrote nonsense."""
        return [RecordedPlace(str(place["node"]), name_from(place)) for place in self.fields.get("from", [])]

    @property
    def target(self) -> RecordedPlace | None:
        """To where. Raises KeyError or ValueError where another program wrote nonsense."""
        place = self.fields.get("to")
        return RecordedPlace(str(place["node"]), name_from(place)) if place is not None else None

    def count(self, name: str) -> int:
        """One of its counts, 0 where it has none."""
        found = self.fields.get("counts", {}).get(name, 0)
        return found if isinstance(found, int) else 0

    @property
    def size(self) -> int:
        """Bytes of its files."""
        found = self.fields.get("size_bytes", 0)
        return found if isinstance(found, int) else 0


def time_text(time_ns: int) -> str:
    """A time in nanoseconds since the epoch as records have it: UTC, to the microsecond."""
    return datetime.fromtimestamp(time_ns // 1000 / 1e6, UTC).strftime("%Y-%m-%dT%H:%M:%S.%fZ")


def canonical(value: object) -> bytes:
    """A value in the form of RFC 8785. Raises ValueError for what a record cannot hold."""
    _refuse_strange(value)
    return _ENCODER.encode(value).encode("utf-8")


def digest_of(line: bytes) -> str:
    """The digest of a line without its end, in hexadecimal."""
    return hashlib.sha256(line).hexdigest()


def parse(line: bytes, file: str = "") -> Record | None:
    """The record of a line without its end; None if no version of this program would have written it so.

    Fields that this version does not know are kept, and so are kinds and forms of later versions.
    """
    record = read(line, file)
    return record if record is not None and _ENCODER.encode(record.fields) == line.decode("utf-8") else None


def read(line: bytes, file: str = "") -> Record | None:
    """As `parse`, for a line whose digest another record carries: that it is canonical need not be looked at then."""
    try:
        fields = json.loads(line.decode("utf-8"))
        number, previous = fields["number"], fields["previous"]
        sound = (
            type(fields["format"]) is int
            and fields["format"] >= FORMAT
            and _is_number(number)
            and WRITER.fullmatch(fields["writer"]) is not None
            and (DIGEST.fullmatch(previous) is not None if number > 1 else previous == "")
            and isinstance(fields["id"], str)
            and isinstance(fields["kind"], str)
            and isinstance(fields["recorded_at"], str)
            and isinstance(fields["who"], str)
        )
        for name, head in fields.get("others", {}).items():
            sound = sound and WRITER.fullmatch(name) is not None and DIGEST.fullmatch(head["digest"]) is not None
            sound = sound and _is_number(head["number"])
    except (ValueError, KeyError, TypeError, AttributeError, RecursionError):
        return None
    return Record(fields, digest_of(line), file) if sound else None


def _is_number(value: object) -> bool:
    return type(value) is int and 0 < value <= _LARGEST


_ENCODER = json.JSONEncoder(sort_keys=True, separators=(",", ":"), ensure_ascii=False)


def _refuse_strange(value: object) -> None:
    """Raise ValueError for what the standard library's encoder would write otherwise than RFC 8785 says."""
    if isinstance(value, Mapping):
        for key, each in value.items():
            if not (isinstance(key, str) and key.isascii()):
                raise ValueError(f"{key!r} is no name of a field")
            _refuse_strange(each)
    elif isinstance(value, list | tuple):
        for each in value:
            _refuse_strange(each)
    elif isinstance(value, float) or (isinstance(value, int) and abs(value) > _LARGEST):
        raise ValueError(f"{value!r} is no number of a record")


def _printable(word: str) -> str:
    """A word of a command in UTF-8, shortened: a file name may hold other bytes."""
    whole = word.encode("utf-8", "surrogateescape").decode("utf-8", "backslashreplace")
    return whole if len(whole) <= _MOST_LETTERS else whole[:_MOST_LETTERS] + "…"
