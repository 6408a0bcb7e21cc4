"""Records that wait in the state directory until their ledger can be written, each with its lists.

A record waits in one file, its checksum list and its facts in others; what keeps them all from the ledger is in a
third. Before a record is appended its file is renamed, so that one that a crash or a hanging disk left behind is looked
for in the ledger first, and never written twice.
"""

from __future__ import annotations

import json
import os
import secrets
import time
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from yatagan.config.guarded_files import parse_json, read_small
from yatagan.config.own_files import make_private, replace_file
from yatagan.ledger.directory import LedgerDirectory
from yatagan.ledger.lists import is_there, spool, write_list

_TRIED = ".tried"
#: The lines of a record's lists, by the field of the record that gets a list's digest.
Lists = Mapping[str, Callable[[], Iterable[bytes]]]
#: These fields.
LIST_FIELDS = ("list", "facts")
_BLOCK = 1 << 20
#: Bytes of a record that waits.
_LARGEST = 1 << 26


@dataclass(slots=True)
class WaitingRecord:
    """A record that waits. `tried`: an earlier try may have written it into the ledger."""

    file: Path
    fields: dict[str, Any]
    tried: bool

    def list_file(self, key: str) -> Path:
        """Where a list of its waits, if it has one: by the field that names it."""
        return self.file.parent / (self.file.name.removesuffix(_TRIED).removesuffix(".json") + "." + key)

    def try_now(self) -> None:
        """Say that it is about to be appended. Raises OSError."""
        if not self.tried:
            new = self.file.with_name(self.file.name + _TRIED)
            os.rename(self.file, new)
            self.file, self.tried = new, True

    def bring_lists(self, directory: LedgerDirectory) -> None:
        """Put its lists into the ledger. Raises OSError."""
        for key in LIST_FIELDS:
            name = self.fields.get(key, "")
            if name and not is_there(directory, name):  # a second copy may not fit on a disk that is full
                write_list(directory, _blocks(self.list_file(key)))

    def remove(self) -> None:
        """Remove it, once it is in the ledger."""
        for key in LIST_FIELDS:
            self.list_file(key).unlink(missing_ok=True)
        self.file.unlink(missing_ok=True)


class WaitingRecords:
    """The records that wait for one ledger."""

    def __init__(self, directory: Path) -> None:
        self._directory = directory

    def put(self, fields: dict[str, Any], lists: Lists) -> None:
        """Let a record wait, with its lists. Durable on return. Raises OSError."""
        make_private(self._directory)
        stem = f"{time.time_ns():020d}-{secrets.token_hex(4)}"
        file, written = self._directory / f"{stem}.json", list[Path]()
        try:
            for key, lines in lists.items():
                written.append(self._directory / f"{stem}.{key}")
                if digest := spool(written[-1], lines()):
                    fields = {**fields, key: digest}
                else:
                    written.pop().unlink()
            new = self._directory / f".{stem}"
            spool(new, [json.dumps(fields).encode()])
            os.rename(new, file)
        except BaseException:
            for each in written:
                each.unlink(missing_ok=True)
            raise

    @property
    def why(self) -> str:
        """What kept records from the ledger when that was tried last; "" where it is not known."""
        try:
            return read_small(self._directory / "why", ours=True).decode("utf-8", "replace")
        except OSError:  # what is missing here is only a reason
            return ""

    def say_why(self, why: str) -> None:
        """Write down what keeps records from the ledger, where that can be written."""
        with suppress(OSError):
            replace_file(self._directory / "why", why.encode(), durable=False)

    def records(self) -> list[WaitingRecord]:
        """All that wait, the oldest first; what makes no sense is left out. Raises OSError, NotBelieved."""
        return list(self._read())

    def _read(self) -> Iterator[WaitingRecord]:
        try:
            names = sorted(os.listdir(self._directory))
        except FileNotFoundError:
            return
        for name in names:
            if name.startswith(".") or not name.removesuffix(_TRIED).endswith(".json"):
                continue
            file = self._directory / name
            with suppress(FileNotFoundError, ValueError, KeyError, TypeError):  # written a moment ago, or torn
                fields = parse_json(read_small(file, ours=True, largest=_LARGEST))
                if isinstance(fields["id"], str):
                    yield WaitingRecord(file, fields, name.endswith(_TRIED))


def _blocks(file: Path) -> Iterator[bytes]:
    with file.open("rb") as stream:
        while block := stream.read(_BLOCK):
            yield block
