"""Looking at two continuations of one writer's file."""

from __future__ import annotations

from typing import NamedTuple

from yatagan.ledger.directory import WRITER_FILE, LedgerDirectory
from yatagan.ledger.findings import Fork
from yatagan.ledger.records import Record, parse


class FoundFork(NamedTuple):
    """A fork, and what both files have from there on, by their names."""

    fork: Fork
    continuations: list[tuple[str, list[Record]]]


def find_fork(directory: LedgerDirectory, name: str) -> FoundFork | None:
    """How a file named `WRITER.fork-HEX.jsonl` and its writer's own file differ; None where there is no such file.

    Raises OSError.
    """
    match = WRITER_FILE.fullmatch(name)
    names = directory.writer_files()
    if match is None or not match[2] or name not in names or (main := f"{match[1]}.jsonl") not in names:
        return None
    own, other = ([parse(line, each) for line in directory.lines(each)] for each in (main, name))
    digests = [[record.digest if record is not None else "" for record in records] for records in (own, other)]
    shorter = min(len(own), len(other))
    at = next((at for at in range(shorter) if digests[0][at] != digests[1][at]), shorter)
    if at == len(other):
        return None
    first, second = sorted((digests[0][at] if at < len(own) else "", digests[1][at]))
    continuations = [
        (each, [record for record in records[at:] if record is not None])
        for each, records in ((main, own), (name, other))
    ]
    return FoundFork(Fork(match[1], at + 1, (first, second)), continuations)
