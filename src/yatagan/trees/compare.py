"""Two trees side by side: what is only here, the same, different, or in the way. No I/O."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Collection, Iterator, Mapping
from dataclasses import dataclass, replace
from enum import StrEnum

from yatagan.stores.interface import Facts, Kind
from yatagan.trees.scan import Tree


class Verdict(StrEnum):
    """How an entry of one tree compares with what is in another, by facts."""

    NEW = "new"
    SAME = "same"
    DIFFERENT = "different"
    #: Facts do not tell: the size agrees, but the file is too new for that, or its contents are asked for.
    UNDECIDED = "undecided"
    #: A file that was changed later than the one that would replace it, or since that was last put there.
    NEWER_THERE = "newer-there"
    #: Its name is one with another's on the disk there, or that of a directory above it is.
    CLASHES = "clashes"
    #: Another kind of thing has the name.
    IN_THE_WAY = "in-the-way"


_VERDICTS = tuple(Verdict)
_NUMBERS = {verdict: number for number, verdict in enumerate(_VERDICTS)}


@dataclass(frozen=True, slots=True)
class Difference:
    """An entry of the first tree, what has its name in the second, and the verdict."""

    path: bytes
    facts: Facts
    other: Facts | None
    verdict: Verdict


class Differences(Collection[Difference]):
    """The verdicts on all entries of a tree, parents before children; one byte for each."""

    __slots__ = ("_other", "_paths", "_tree", "_verdicts")

    def __init__(self, tree: Tree, other: Tree) -> None:
        self._tree = tree
        self._other = other
        self._paths: list[bytes] = []
        self._verdicts = bytearray()

    def __len__(self) -> int:
        return len(self._paths)

    def __contains__(self, difference: object) -> bool:
        return any(each == difference for each in self)

    def __iter__(self) -> Iterator[Difference]:
        return self.of(*Verdict)

    def of(self, *verdicts: Verdict) -> Iterator[Difference]:
        """The differences with one of these verdicts."""
        wanted = {_NUMBERS[verdict] for verdict in verdicts}
        for path, number in zip(self._paths, self._verdicts, strict=True):
            if number in wanted:
                facts, found = self._tree.entries[path], self._other.entries.get(path)
                yield Difference(path, facts, found, _VERDICTS[number])

    def same_files(self) -> tuple[int, int]:
        """The number of files that are the same, and their bytes."""
        same = _NUMBERS[Verdict.SAME]
        paths = (path for path, number in zip(self._paths, self._verdicts, strict=True) if number == same)
        files = size = 0
        for each in self._tree.entries.file_sizes(paths):
            files, size = files + 1, size + each
        return files, size

    def add(self, path: bytes, verdict: Verdict) -> None:
        """Add the verdict on the next entry."""
        self._paths.append(path)
        self._verdicts.append(_NUMBERS[verdict])

    def decide(self, verdicts: Mapping[bytes, Verdict]) -> None:
        """Change the verdict on some entries."""
        for at, path in enumerate(self._paths):
            if path in verdicts:
                self._verdicts[at] = _NUMBERS[verdicts[path]]

    def grouped(self, group: Callable[[bytes], bytes | None]) -> defaultdict[bytes | None, Differences]:
        """The differences of each group of paths, in order."""
        found = defaultdict[bytes | None, Differences](lambda: Differences(self._tree, self._other))
        for path, number in zip(self._paths, self._verdicts, strict=True):
            found[group(path)].add(path, _VERDICTS[number])
        return found


def compare(
    tree: Tree,
    other: Tree,
    *,
    step_ns: int,
    fresh_since_ns: int | None,
    arrival_times: bool = False,
    by_digest: bool = False,
) -> Differences:
    """Every entry of `tree` against `other`, parents before children.

    Times are compared at `step_ns`, the coarser of the two stores. A file of `tree` that was changed at or
    after `fresh_since_ns` (by its own machine's clock) is never called the same by size and time. With
    `arrival_times` the times of `other` say when a file arrived: one that is not older than its source will do.
    With `by_digest` no file of the same size is judged by its times.
    """
    differences = Differences(tree, other)
    for path in tree.entries.in_order():
        facts, found = tree.entries[path], other.entries.get(path)
        held_against = found
        if arrival_times and found is not None and found.mtime_ns // step_ns >= facts.mtime_ns // step_ns:
            held_against = replace(found, mtime_ns=facts.mtime_ns)
        if by_digest and found is not None and Kind.FILE is found.kind is facts.kind and found.size == facts.size:
            verdict = Verdict.UNDECIDED
        else:
            verdict = _verdict(tree, other, path, facts, held_against, step_ns, fresh_since_ns)
        differences.add(path, verdict)
    return differences


#: A file that was changed less than this before the clock of its machine may change again unnoticed.
FRESH_NS = 2_000_000_000


def still_since(now_ns: int | None, step_ns: int) -> int | None:
    """The moment, by a machine's own clock, up to which any later change to a file shows in times of this step."""
    return None if now_ns is None else now_ns - max(FRESH_NS, step_ns)


def is_fresh(facts: Facts, since_ns: int | None) -> bool:
    """Whether a file was changed at or after a moment of its own machine's clock."""
    changed = facts.mtime_ns if facts.changed_ns is None else facts.changed_ns
    return since_ns is not None and changed >= since_ns


def _verdict(
    tree: Tree,
    other: Tree,
    path: bytes,
    facts: Facts,
    found: Facts | None,
    step_ns: int,
    fresh_since_ns: int | None,
) -> Verdict:
    if found is None or not facts.kind.carried:
        return Verdict.NEW
    if found.kind is not facts.kind:
        # A link and a file may replace each other: either is one name that can be kept aside.
        replaceable = {facts.kind, found.kind} == {Kind.FILE, Kind.LINK}
        return Verdict.DIFFERENT if replaceable else Verdict.IN_THE_WAY
    if facts.kind is Kind.DIRECTORY:
        return Verdict.SAME
    if facts.kind is Kind.LINK:
        return Verdict.SAME if tree.targets.get(path) == other.targets.get(path) else Verdict.DIFFERENT
    if not facts.right_for(found, step_ns):
        return Verdict.DIFFERENT
    return Verdict.UNDECIDED if is_fresh(facts, fresh_since_ns) else Verdict.SAME
