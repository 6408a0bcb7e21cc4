"""Two continuations of one writer's file: found, shown, and accepted."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, NamedTuple

from yatagan.ledger.directory import WRITER_FILE, LedgerDirectory
from yatagan.ledger.findings import Fork
from yatagan.ledger.records import Record, parse


class FoundFork(NamedTuple):
    """A fork, and what both files have from there on, by their names."""

    fork: Fork
    continuations: list[tuple[str, list[Record]]]


def fork_between(writer: str, main: Mapping[int, str], other: Mapping[int, str]) -> Fork | None:
    """Where another file goes on otherwise than its writer's own, or further; None where it is a beginning of that.

    Both are given as digests by the numbers of records.
    """
    number = next((each for each in sorted({*main, *other}) if main.get(each) != other.get(each)), 0)
    if number > max(other, default=0):
        return None
    if not number:
        return None
    first, second = sorted((main.get(number, ""), other.get(number, "")))
    return Fork(writer, number, (first, second))


def find_fork(directory: LedgerDirectory, name: str) -> FoundFork | None:
    """How a file named `WRITER.fork-HEX.jsonl` differs from its writer's own; None where there is no such file.

    Raises OSError.
    """
    match, names = WRITER_FILE.fullmatch(name), directory.writer_files()
    if match is None or not match[2] or not {name, main := f"{match[1]}.jsonl"} <= set(names):
        return None
    files = {each: [parse(line, each) for line in directory.lines(each)] for each in (main, name)}
    own, other = ({record.number: record.digest for record in records if record} for records in files.values())
    fork = fork_between(match[1], own, other)
    if fork is None:
        return None
    rest = [
        (each, [record for record in records if record is not None and record.number >= fork.number])
        for each, records in files.items()
    ]
    return FoundFork(fork, rest)


def fork_fields(fork: Fork) -> dict[str, Any]:
    """The fields of the record by which a fork is accepted."""
    return {"fork_of": fork.writer, "fork_number": fork.number, "fork_digests": list(fork.digests)}


def fork_of(record: Record) -> Fork | None:
    """The reverse of `fork_fields`; None if they make no sense."""
    try:
        first, second = sorted(record.fields["fork_digests"])
        return Fork(str(record.fields["fork_of"]), int(record.fields["fork_number"]), (first, second))
    except (KeyError, TypeError, ValueError):
        return None
