"""Which records of a ledger are meant."""

from __future__ import annotations

import posixpath
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime

from yatagan.digests.any_lists import own_list
from yatagan.digests.checksum_lists import format_line
from yatagan.errors import BadList
from yatagan.ledger.directory import LedgerDirectory
from yatagan.ledger.records import DIGEST, Record, RecordedPlace

_ZEROS = "0" * 64


@dataclass(slots=True)
class Selection:
    """What records must have in common; what is empty leaves all.

    `node`: at one of their ends. `person`: the account, or account and machine. `since` and `until`: when they were
    written, from and before. `command`: words that what was typed begins with, or the kind of the record. `trouble`:
    not good. `file`: a path that they name, or that is on their checksum list: absolute, or its last parts.
    """

    node: str = ""
    person: str = ""
    since: datetime | None = None
    until: datetime | None = None
    command: str = ""
    trouble: bool = False
    file: bytes = b""
    #: Hears of a list that cannot be read, and why.
    unread: Callable[[str, str], object] = lambda name, why: None
    _lists: dict[str, set[bytes]] = field(default_factory=dict)

    @property
    def from_time(self) -> str:
        """The time from which on records are meant, in the form that they have it in; "" for all."""
        return _as_recorded(self.since) if self.since is not None else ""

    @property
    def everything(self) -> bool:
        """Whether all records are meant."""
        return not (self.node or self.person or self.since or self.until or self.command or self.trouble or self.file)

    def takes(self, record: Record, directory: LedgerDirectory) -> bool:
        """Whether a record is meant. Reads its checksum list if it must."""
        if record.recorded_at < self.from_time:
            return False
        if self.until is not None and record.recorded_at >= _as_recorded(self.until):
            return False
        if self.person and self.person not in (record.who, record.who.partition("@")[0]):
            return False
        if self.trouble and record.outcome == "good":
            return False
        if self.command and not self._is_command(record):
            return False
        places = _places(record)
        if self.node and self.node not in {place.node for place in places}:
            return False
        return not self.file or self._names_file(record, places, directory)

    def _is_command(self, record: Record) -> bool:
        words = self.command.split()
        typed = record.fields.get("command", [])
        return self.command == record.kind or (isinstance(typed, list) and typed[1 : 1 + len(words)] == words)

    def _names_file(self, record: Record, places: list[RecordedPlace], directory: LedgerDirectory) -> bool:
        absolute = self.file.startswith(b"/")
        for place in places:
            if place.path == self.file or (not absolute and place.path.endswith(b"/" + self.file)):
                return True
        listed = self._listed(record.list_digest, directory)
        if not absolute:
            return any(path == self.file or path.endswith(b"/" + self.file) for path in listed)
        above = {place.path for place in places} | {posixpath.dirname(place.path) for place in places}
        return any(posixpath.join(root, path) == self.file for root in above for path in listed)

    def _listed(self, digest: str, directory: LedgerDirectory) -> set[bytes]:
        """The paths of a checksum list that end in the file's name."""
        if not DIGEST.fullmatch(digest):
            return set()
        if digest not in self._lists:
            name = posixpath.basename(self.file)
            # As the list has it: names with a newline are escaped there.
            sought = format_line(name, _ZEROS).lstrip(b"\\")[len(_ZEROS) + 2 : -1]
            found, rest = set[bytes](), b""
            try:
                for block in directory.list_blocks(digest):
                    *lines, rest = (rest + block).split(b"\n")
                    for line in lines:
                        if line.endswith(sought):
                            found.update(each.path for each in own_list(line + b"\n", digest))
            except (OSError, BadList) as error:
                why = error.strerror if isinstance(error, OSError) else "it is damaged"
                self.unread(f"lists/{digest}", why or str(error))
            self._lists[digest] = {path for path in found if posixpath.basename(path) == name}
        return self._lists[digest]


def _places(record: Record) -> list[RecordedPlace]:
    """From where and to where; nothing where another program wrote nonsense."""
    try:
        target = record.target
        return [*record.origins, *([target] if target is not None else [])]
    except (KeyError, ValueError, TypeError, AttributeError):
        return []


def _as_recorded(when: datetime) -> str:
    return when.astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%S.%fZ")
