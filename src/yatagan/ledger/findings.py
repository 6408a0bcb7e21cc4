"""What a check of a ledger can find. No I/O."""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import StrEnum
from typing import NamedTuple

from yatagan.ledger.directory import Strange


class Problem(StrEnum):
    """What is wrong with records."""

    NO_RECORD = "no record"
    OF_ANOTHER_FILE = "of another file"
    CHANGED = "changed"
    ONE_OF_TWO_CHANGED = "one of two changed"
    MISSING = "missing"
    CUT_OFF = "cut off"
    REWRITTEN = "rewritten"
    OUT_OF_ORDER = "out of order"
    TWICE = "twice"
    ADDED = "added"
    DOES_NOT_FOLLOW = "does not follow"
    FILE_MISSING = "file missing"
    FILE_UNREADABLE = "file unreadable"
    NOT_PLAIN = "not plain"
    KEYS_UNREADABLE = "keys unreadable"
    FORK = "fork"
    LIST_CHANGED = "list changed"
    LIST_MISSING = "list missing"
    BAD_SIGNATURE = "bad signature"
    NOT_FOUND = "not found"


class Witness(NamedTuple):
    """Who has seen what is not there: a record of a file, or this machine (an empty file)."""

    file: str
    number: int


@dataclass(frozen=True, slots=True)
class LedgerFinding:
    """Something that is wrong: with records `first` to `last` of a file (0: none that has a number).

    `line`: where in the file. `id`: of the record, if it can be read. `witness`: who has seen otherwise; a record that
    nothing else confirms may be the wrong one itself. `detail`: the reason of a bad signature, the
    other file of a fork, the digest of a list.
    """

    file: str
    problem: Problem
    first: int = 0
    last: int = 0
    line: int = 0
    id: str = ""
    witness: Witness | None = None
    detail: str = ""


class Fork(NamedTuple):
    """Two continuations of one writer's file: the first record that differs, and its digest in both, sorted."""

    writer: str
    number: int
    digests: tuple[str, str]


@dataclass(slots=True)
class FileEnd:
    """The last record that others have seen as it is, and the last that is signed by a trusted key; 0 for none."""

    file: str
    records: int
    seen: int
    signed: int


@dataclass(slots=True)
class Checked:
    """What a check found.

    `signers`: how many records each trusted name has signed. `unknown`: how many were signed with keys, by fingerprint,
    while no key is trusted. `forks`: those that were accepted, and by whom. `newest`: when the newest
    record was written, and its digest.
    """

    records: int = 0
    unsigned: int = 0
    lists: int = 0
    findings: list[LedgerFinding] = field(default_factory=list)
    strange: list[Strange] = field(default_factory=list)
    ends: list[FileEnd] = field(default_factory=list)
    signers: dict[str, int] = field(default_factory=dict)
    unknown: dict[str, int] = field(default_factory=dict)
    forks: dict[Fork, str] = field(default_factory=dict)
    odd_lines: list[tuple[str, int]] = field(default_factory=list)
    newest: tuple[str, str] = ("", "")

    @property
    def good(self) -> bool:
        """Whether nothing is wrong."""
        return not self.findings
