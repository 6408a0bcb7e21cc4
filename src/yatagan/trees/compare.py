"""Two trees side by side: what is only here, the same, different, or in the way. No I/O."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from enum import StrEnum

from yatagan.stores.interface import Facts, Kind
from yatagan.trees.scan import Tree


class Verdict(StrEnum):
    """How an entry of the first tree stands in the second, as far as facts tell."""

    NEW = "new"
    SAME = "same"
    DIFFERENT = "different"
    #: Facts do not tell: the size agrees, but the file is too new for that, or its contents are asked for.
    UNDECIDED = "undecided"
    #: Another kind of thing has the name.
    IN_THE_WAY = "in-the-way"


@dataclass(frozen=True, slots=True)
class Difference:
    """One entry of the first tree, what is under its name in the second, and the verdict."""

    path: bytes
    facts: Facts
    other: Facts | None
    verdict: Verdict


def compare(
    tree: Tree,
    other: Tree,
    *,
    step_ns: int,
    fresh_since_ns: int | None,
    arrival_times: bool = False,
    by_digest: bool = False,
) -> Iterator[Difference]:
    """Every entry of `tree` against `other`, parents before children.

    Times are compared at `step_ns`, the coarser of the two stores. A file of `tree` that was changed at or
    after `fresh_since_ns` (by its own machine's clock) is never called the same by size and time. With
    `arrival_times` the times of `other` say when a file arrived: one that is not older than its source will do.
    With `by_digest` no file of the same size is judged by its times.
    """
    for path in sorted(tree.entries, key=lambda path: path.split(b"/")):
        facts = tree.entries[path]
        found = other.entries.get(path)
        held_against = found
        if arrival_times and found is not None and found.mtime_ns // step_ns >= facts.mtime_ns // step_ns:
            held_against = replace(found, mtime_ns=facts.mtime_ns)
        if by_digest and found is not None and Kind.FILE is found.kind is facts.kind and found.size == facts.size:
            verdict = Verdict.UNDECIDED
        else:
            verdict = _verdict(tree, other, path, facts, held_against, step_ns, fresh_since_ns)
        yield Difference(path, facts, found, verdict)


#: A file that was changed less than this before the clock of its machine may change again unnoticed.
FRESH_NS = 2_000_000_000


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
    if found is None:
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
