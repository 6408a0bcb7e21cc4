"""Bringing the records of another copy of a ledger into this one. Nothing that is here is ever changed.

A file grows by what another copy has behind its end. Where two copies go on differently from one record on, as when a
machine was restored from a backup, both continuations are kept: the other one as `WRITER.fork-HEX.jsonl`, named after
its first record that differs. Our own file is never written: what another copy has behind its end is kept like a fork.
"""

from __future__ import annotations

import os
import secrets
from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import NamedTuple

from yatagan.ledger.directory import WRITER_FILE, LedgerDirectory
from yatagan.ledger.handles import WRITERS
from yatagan.ledger.lists import write_list
from yatagan.ledger.records import digest_of, parse
from yatagan.ledger.whole_writes import append_whole

#: Digits of a digest in the name of a fork.
_DIGITS = 16


@dataclass(slots=True)
class Merged:
    """How many records and lists a merge has added.

    `forks`: files of other continuations that were made or have grown. `refused`: files of the other copy that were
    left out, with the number of the first record that does not fit; 0 where it is the whole file.
    """

    records: int = 0
    lists: int = 0
    forks: list[str] = field(default_factory=list)
    refused: list[tuple[str, int]] = field(default_factory=list)


class _History(NamedTuple):
    """The lines of a file of ours, by their digests."""

    name: str
    digests: list[str]


def merge(ours: LedgerDirectory, theirs: LedgerDirectory, own: str | None) -> Merged:
    """Bring their records and lists into our ledger. `own`: our own writer. Raises OSError."""
    merged = Merged()
    ours.make()
    for digest in sorted(set(theirs.list_names()) - set(ours.list_names())):
        if theirs.list_digest(digest) == digest:
            write_list(ours, theirs.list_blocks(digest))
            merged.lists += 1
    histories: dict[str, list[_History]] = {}
    for name in ours.writer_files():
        histories.setdefault(_writer(name), []).append(_History(name, [digest_of(line) for line in ours.lines(name)]))
    for name in theirs.writer_files():
        lines, writer = list(theirs.lines(name)), _writer(name)
        if wrong := _first_unfit(lines, writer):
            merged.refused.append((name, wrong))
        elif lines:
            _bring(ours, histories.setdefault(writer, []), writer, lines, writer == own, merged)
    return merged


def _bring(
    ours: LedgerDirectory, histories: list[_History], writer: str, lines: list[bytes], is_own: bool, merged: Merged
) -> None:
    """Bring one file's records: into a file that it continues, or into a new one."""
    digests, main = [digest_of(line) for line in lines], f"{writer}.jsonl"
    if any(history.digests[: len(digests)] == digests for history in histories):
        return
    for history in sorted(histories, key=lambda history: history.name != main):
        known = len(history.digests)
        if digests[:known] == history.digests and not (history.name == main and is_own):
            _extend(ours, history.name, lines, known, merged)
            histories[histories.index(history)] = _History(history.name, digests)
            if history.name != main:
                merged.forks.append(history.name)
            return
    name = main
    if any(history.name == main for history in histories):
        known = max(_common(history.digests, digests) for history in histories)
        name = f"{writer}.fork-{digests[known][:_DIGITS]}.jsonl"
        merged.forks.append(name)
    _extend(ours, name, lines, 0, merged)
    histories.append(_History(name, digests))


def _extend(ours: LedgerDirectory, name: str, lines: list[bytes], known: int, merged: Merged) -> None:
    """Append the lines behind the `known` ones, or make a file of them that appears whole. Raises OSError."""
    new = lines[known:]
    if not new:
        return
    data = b"".join(line + b"\n" for line in new)
    if known:
        _append(ours, name, data)
    else:
        made = f".new-{secrets.token_hex(8)}"
        descriptor = ours.handles.create(WRITERS, made, ours.file_mode())
        try:
            append_whole(descriptor, 0, data)
            ours.handles.link(WRITERS, made, name)  # refuses a name that is taken by now
        finally:
            os.close(descriptor)
            ours.handles.remove(WRITERS, made)
        ours.handles.sync(WRITERS)
    merged.records += len(new)


def _append(ours: LedgerDirectory, name: str, data: bytes) -> None:
    descriptor = ours.handles.open_file(WRITERS, name, os.O_RDWR | os.O_APPEND)
    try:
        size = os.fstat(descriptor).st_size
        if size and os.pread(descriptor, 1, size - 1) != b"\n":
            raise OSError(f"{name} ends within a record")
        append_whole(descriptor, size, data)
    finally:
        os.close(descriptor)


def _first_unfit(lines: Iterable[bytes], writer: str) -> int:
    """The number of the first line that does not continue the chain of a writer; 0 if all do."""
    previous = ""
    for number, line in enumerate(lines, 1):
        record = parse(line)
        if record is None or (record.fields["writer"], record.number, record.previous) != (writer, number, previous):
            return number
        previous = record.digest
    return 0


def _common(one: list[str], other: list[str]) -> int:
    """How many records two histories have in common from the first on."""
    return next((at for at, (a, b) in enumerate(zip(one, other, strict=False)) if a != b), min(len(one), len(other)))


def _writer(name: str) -> str:
    match = WRITER_FILE.fullmatch(name)
    assert match is not None
    return match[1]
