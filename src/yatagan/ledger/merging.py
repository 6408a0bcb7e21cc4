"""Bringing the records of another copy of a ledger into this one. Nothing that is here is ever changed.

A file grows by what another copy has behind its end. Where two copies go on differently from one record on, as when a
machine was restored from a backup, both continuations are kept: the other one as `WRITER.fork-HEX.jsonl`, named after
its first record that differs. Our own file is never written: what another copy has behind its end is kept like a fork.
"""

from __future__ import annotations

import os
import secrets
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import NamedTuple

from yatagan.config.home import sync_directory
from yatagan.ledger import first_form
from yatagan.ledger.directory import WRITER_FILE, LedgerDirectory
from yatagan.ledger.lists import write_list
from yatagan.ledger.records import digest_of, parse

#: Digits of a digest in the name of a fork.
_DIGITS = 16


@dataclass(slots=True)
class Merged:
    """What a merge has done: records and lists that were added, and files that were not taken over, with the record.

    `forks`: files that were made or have grown because of two continuations. `refused`: files that are no chain from
    their first record on, with the number of the first record that does not fit.
    """

    records: int = 0
    lists: int = 0
    files: int = 0
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
        lines = list(theirs.lines(name))
        if wrong := _first_unfit(lines, _writer(name)):
            merged.refused.append((name, wrong))
        else:
            _bring(ours.writers, histories.setdefault(_writer(name), []), lines, own, merged, ours.file_mode())
    for name in theirs.old_files():
        lines = list(theirs.old_lines(name))
        known = [_History(name, [digest_of(line) for line in ours.old_lines(name)])] if name in ours.old_files() else []
        if any(first_form.parse(line) is None for line in lines):
            merged.refused.append((name, 0))
        elif not known or lines[: len(known[0].digests)] == list(ours.old_lines(name)):
            _extend(ours.path / name, lines, len(known[0].digests) if known else 0, ours.file_mode(), merged)
        else:
            merged.refused.append((name, 0))
    return merged


def _bring(
    directory: Path, histories: list[_History], lines: list[bytes], own: str | None, merged: Merged, mode: int
) -> None:
    """Bring one file's records: into a file that it continues, or into a new one."""
    digests = [digest_of(line) for line in lines]
    if not digests or any(history.digests[: len(digests)] == digests for history in histories):
        return
    writer = _writer_of(lines[0])
    main = f"{writer}.jsonl"
    for history in sorted(histories, key=lambda history: history.name != main):
        known = len(history.digests)
        if digests[:known] == history.digests and not (history.name == main and writer == own):
            _extend(directory / history.name, lines, known, mode, merged)
            histories[histories.index(history)] = _History(history.name, digests)
            if history.name != main:
                merged.forks.append(history.name)
            return
    if any(history.name == main for history in histories):
        known = max(_common(history.digests, digests) for history in histories)
        name = f"{writer}.fork-{digests[known][:_DIGITS]}.jsonl"
        merged.forks.append(name)
    else:
        name = main
    _extend(directory / name, lines, 0, mode, merged)
    histories.append(_History(name, digests))


def _extend(file: Path, lines: list[bytes], known: int, mode: int, merged: Merged) -> None:
    """Append the lines behind the `known` ones, or make a file of them that appears whole. Raises OSError."""
    new = lines[known:]
    if not new:
        return
    data = b"".join(line + b"\n" for line in new)
    if known:
        _append(file, data)
    else:
        made = file.with_name(f".new-{secrets.token_hex(8)}")
        descriptor = os.open(made, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, mode)
        try:
            _write(descriptor, data)
            os.fchmod(descriptor, mode)
            os.link(made, file)  # refuses a name that is taken by now
        finally:
            os.close(descriptor)
            made.unlink()
        sync_directory(file.parent)
        merged.files += 1
    merged.records += len(new)


def _append(file: Path, data: bytes) -> None:
    descriptor = os.open(file, os.O_RDWR | os.O_APPEND | os.O_NOFOLLOW | os.O_CLOEXEC)
    try:
        size = os.fstat(descriptor).st_size
        tail = os.pread(descriptor, 1, size - 1) if size else b"\n"
        if tail != b"\n":
            raise OSError(f"{file} ends within a record")
        try:
            _write(descriptor, data)
        except OSError:
            os.ftruncate(descriptor, size)
            raise
    finally:
        os.close(descriptor)


def _write(descriptor: int, data: bytes) -> None:
    while data:
        data = data[os.write(descriptor, data) :]
    os.fsync(descriptor)


def _first_unfit(lines: Iterable[bytes], writer: str) -> int:
    """The number of the first line that does not continue the chain of a writer; 0 if all do."""
    for number, (before, line) in enumerate(_pairs(lines), 1):
        record = parse(line)
        fits = record is not None and record.fields["writer"] == writer and record.number == number
        if not fits or record is None or record.previous != (digest_of(before) if before is not None else ""):
            return number
    return 0


def _pairs(lines: Iterable[bytes]) -> Iterator[tuple[bytes | None, bytes]]:
    before = None
    for line in lines:
        yield before, line
        before = line


def _common(one: list[str], other: list[str]) -> int:
    """How many records two histories have in common from the first on."""
    return next((at for at, (a, b) in enumerate(zip(one, other, strict=False)) if a != b), min(len(one), len(other)))


def _writer(name: str) -> str:
    match = WRITER_FILE.fullmatch(name)
    assert match is not None
    return match[1]


def _writer_of(line: bytes) -> str:
    record = parse(line)
    assert record is not None
    return str(record.fields["writer"])
