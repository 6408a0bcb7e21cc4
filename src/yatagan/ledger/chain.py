"""The records of one writer's file as a chain: which of them are not what was written. No I/O.

Each record carries the digest of the one before it, so one that was changed no longer fits the next one. Which of the
two was changed follows from what else confirms them: the record after the next one, a signature, or what other files
or this machine have seen.
"""

from __future__ import annotations

import sys
from bisect import bisect_left, bisect_right
from collections.abc import Iterable, Set
from typing import Any, NamedTuple

from yatagan.ledger.findings import LedgerFinding, Problem


class Numbers:
    """A set of numbers that is kept as spans: whoever writes a file chooses the numbers in it, and they may be huge."""

    def __init__(self) -> None:
        self._single: set[int] = set()
        self._spans: list[tuple[int, int]] = []
        self.first = 0
        self._merged = 0

    def add(self, first: int, last: int) -> None:
        """Add the numbers from `first` to `last`, which are at least 1."""
        self.first = min(self.first or first, first)
        if first == last:
            self._single.add(first)
        else:
            self._spans.append((first, last))

    def __contains__(self, number: int) -> bool:
        if number in self._single:
            return True
        if self._spans and not self._is_merged:
            self._merge()
        at = bisect_right(self._spans, (number, sys.maxsize)) - 1
        return at >= 0 and number <= self._spans[at][1]

    def __bool__(self) -> bool:
        return bool(self.first)

    @property
    def _is_merged(self) -> bool:
        return self._merged == len(self._spans)

    def _merge(self) -> None:
        """Bring the spans into order, without overlaps."""
        merged: list[tuple[int, int]] = []
        for first, last in sorted(self._spans):
            if merged and first <= merged[-1][1] + 1:
                merged[-1] = (merged[-1][0], max(merged[-1][1], last))
            else:
                merged.append((first, last))
        self._spans, self._merged = merged, len(merged)


class Line(NamedTuple):
    """A record of a file, as far as its chain needs it. `held`: it has a signature that holds."""

    position: int
    number: int
    digest: str
    previous: str
    id: str
    held: bool


class Chain:
    """One writer's file. Lines are added as they stand in it, then put in order with `settle`."""

    def __init__(self, file: str, writer: str) -> None:
        self.file = file
        self.writer = writer
        self.lines: list[Line] = []
        self.findings: list[LedgerFinding] = []
        #: Numbers of records of which something is wrong.
        self.wrong = Numbers()
        #: The digests of the records, by their numbers.
        self.digests: dict[int, str] = {}
        #: Lines that are no record of this file: position, and what is wrong.
        self._bad: list[tuple[int, Problem]] = []

    @property
    def last(self) -> int:
        """The number of the newest record; 0 without any."""
        return self.lines[-1].number if self.lines else 0

    def add(self, line: Line) -> None:
        """Add the next record."""
        self.lines.append(line)

    def add_bad(self, position: int, problem: Problem) -> None:
        """Add a line that is no record of this file."""
        self._bad.append((position, problem))

    def find(self, problem: Problem, first: int, last: int = 0, **more: Any) -> None:
        """Note that something is wrong with records."""
        if first:
            self.wrong.add(first, last or first)
        self.findings.append(LedgerFinding(self.file, problem, first, last or first, **more))

    def settle(self) -> None:
        """Bring the records into the order of their numbers, once each; name those that are not where they belong."""
        if any(line.number != at for at, line in enumerate(self.lines, 1)):
            self.lines = self._sorted()
        self.digests = {line.number: line.digest for line in self.lines}
        self._find_gaps()

    def _sorted(self) -> list[Line]:
        by_number: dict[int, list[Line]] = {}
        for line in self.lines:
            by_number.setdefault(line.number, []).append(line)
        links = _Links(self.lines)
        kept = {}
        for number, alike in by_number.items():
            best = max(alike, key=lambda line: (links.holds(line), links.follows(line), -line.position))
            kept[number] = best
            for line in alike:
                if line is not best and line.digest == best.digest:
                    self.find(Problem.TWICE, number, line=line.position, id=line.id)
                elif line is not best:
                    self.add_bad(line.position, Problem.CHANGED)
        in_place = _in_order([line.number for line in sorted(kept.values())])
        for line in list(kept.values()):
            if line.number in in_place:
                continue
            if links.holds(line) or links.follows(line):
                self.find(Problem.OUT_OF_ORDER, line.number, line=line.position, id=line.id)
            else:
                self.add_bad(line.position, Problem.CHANGED)
                del kept[line.number]
        return [kept[number] for number in sorted(kept)]

    def _find_gaps(self) -> None:
        """Name the records that are missing, and the lines that stand where they were."""
        bad, at = sorted(self._bad), 0
        left = list[tuple[int, Problem]]()
        number, position = 0, 0
        for line in self.lines:
            # Records that are out of order stand before the line of the one before them.
            while at < len(bad) and bad[at][0] < position:
                left.append(bad[at])
                at += 1
            begin = at
            while at < len(bad) and bad[at][0] < line.position:
                at += 1
            if line.number > number + 1 or begin < at:
                self._fill(number + 1, line.number - 1, bad[begin:at])
            number, position = line.number, line.position
        left += bad[at:]
        self._fill(number + 1, number + len(left), left)

    def _fill(self, first: int, last: int, bad: list[tuple[int, Problem]]) -> None:
        """Name the records `first` to `last`, of which only some lines are left that are no records."""
        numbers = range(first, last + 1)
        for number, (position, problem) in zip(numbers, bad, strict=False):
            self.find(problem, number, line=position)
        for position, problem in bad[len(numbers) :]:
            self.find(problem if problem is Problem.OF_ANOTHER_FILE else Problem.ADDED, 0, line=position)
        if len(bad) < len(numbers):
            self.find(Problem.MISSING, numbers[len(bad)], last)

    def follow(self, seen: Set[int]) -> None:
        """Name the records that were changed. `seen`: those that others have seen as they are."""
        lines = self.lines
        broken = {
            at
            for at in range(len(lines) - 1)
            if lines[at + 1].number == lines[at].number + 1 and lines[at + 1].previous != lines[at].digest
        }
        for at in sorted(broken):
            one, other = lines[at], lines[at + 1]
            after = lines[at + 2] if at + 2 < len(lines) else None
            follows = after is not None and after.number == other.number + 1 and at + 1 not in broken
            other_holds = follows or other.held or other.number in seen
            one_holds = one.held or one.number in seen
            if one_holds and other_holds:
                self._find_once(Problem.DOES_NOT_FOLLOW, other)
            elif other_holds or (not one_holds and at - 1 in broken):
                self._find_once(Problem.CHANGED, one)
            elif one_holds or at + 1 in broken:
                self._find_once(Problem.CHANGED, other)
            elif one.number not in self.wrong and other.number not in self.wrong:
                self.find(Problem.ONE_OF_TWO_CHANGED, one.number, other.number, line=one.position, id=one.id)

    def _find_once(self, problem: Problem, line: Line) -> None:
        if line.number not in self.wrong:
            self.find(problem, line.number, line=line.position, id=line.id)

    def confirms(self, number: int, seen: Set[int]) -> bool:
        """Whether anything confirms a record: the next one, a signature, or others who have `seen` it."""
        return number in seen or number < self.last or any(line.held for line in self.lines[-1:])


class _Links:
    """Which records of a file carry each other's digest."""

    def __init__(self, lines: Iterable[Line]) -> None:
        lines = list(lines)
        self._digests = {(line.number, line.digest) for line in lines}
        self._previous = {(line.number, line.previous) for line in lines}

    def holds(self, line: Line) -> bool:
        """Whether the next record carries its digest."""
        return (line.number + 1, line.digest) in self._previous

    def follows(self, line: Line) -> bool:
        """Whether it carries the digest of the record before it."""
        return line.number == 1 or (line.number - 1, line.previous) in self._digests


def _in_order(numbers: list[int]) -> set[int]:
    """The numbers that are where they belong: all but two that were swapped, or but those that were moved."""
    where = {number for number, rank in zip(numbers, sorted(numbers), strict=True) if number == rank}
    return where if len(numbers) - len(where) == 2 else _longest_rising(numbers)


def _longest_rising(numbers: list[int]) -> set[int]:
    """The longest part of a sequence of different numbers that rises: all others are out of order."""
    ends: list[int] = []
    before: dict[int, int] = {}
    for number in numbers:
        at = bisect_left(ends, number)
        before[number] = ends[at - 1] if at else 0
        ends[at : at + 1] = [number]
    found: set[int] = set()
    number = ends[-1] if ends else 0
    while number:
        found.add(number)
        number = before[number]
    return found
