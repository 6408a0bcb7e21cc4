"""Two trees compared, entry by entry: what is the same, and in what others differ. No I/O.

Facts are compared at the coarser time step of the two. Where digests are known contents decide, and a file that has
another name on either side is found again by them; where they are not, size and time do.
"""

from __future__ import annotations

import heapq
import posixpath
from collections import Counter
from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from typing import NamedTuple

from yatagan.faults import Fault
from yatagan.stores.interface import Facts, Kind, same_time
from yatagan.trees.scan import Tree
from yatagan.trees.time_steps import common_step
from yatagan.verdicts.moved import may_have_moved, moved

#: The bit by which a directory gives its group to what is made in it: a directory above may have handed it down.
_HANDED_DOWN = 0o2000


class Outcome(StrEnum):
    """How an entry of two trees compares."""

    SAME = "same"
    DIFFERENT = "different"
    #: The same contents, or as far as size and time tell; another mode, or another time.
    FACTS_DIFFER = "facts differ"
    ONLY_FIRST = "only first"
    ONLY_SECOND = "only second"
    #: The same contents under another name.
    MOVED = "moved"
    UNREADABLE = "unreadable"


class Aspect(StrEnum):
    """In what two entries differ."""

    KIND = "kind"
    SIZE = "size"
    CONTENTS = "contents"
    TARGET = "target"
    TIME = "time"
    MODE = "mode"


class Compared(NamedTuple):
    """An entry that is not the same on both sides.

    `path` is the one in the first tree, or in the second where it is only there. `new_path`: where it was moved to, in
    the second. `fault`: why it could not be read.
    """

    path: bytes
    outcome: Outcome
    aspects: tuple[Aspect, ...] = ()
    new_path: bytes = b""
    fault: Fault | None = None


@dataclass(frozen=True, slots=True)
class Digests:
    """What is known of the contents of a side's files: digests by path, and why others could not be read."""

    values: Mapping[bytes, str]
    faults: Mapping[bytes, Fault]


@dataclass(slots=True)
class TreeTotals:
    """What is in a tree, its root included; `size` in bytes, of the files."""

    files: int = 0
    size: int = 0
    directories: int = 0
    links: int = 0
    others: int = 0

    @classmethod
    def of(cls, tree: Tree) -> TreeTotals:
        """Count a tree."""
        totals = cls()
        for facts in tree.entries.values():
            if facts.kind is Kind.FILE:
                totals.files += 1
                totals.size += facts.size
            elif facts.kind is Kind.DIRECTORY:
                totals.directories += 1
            elif facts.kind is Kind.LINK:
                totals.links += 1
            else:
                totals.others += 1
        return totals


@dataclass(slots=True)
class Comparison:
    """Two trees compared. `entries`: those that are not the same, parents before children.

    `counts` and `sizes` (bytes of files) by outcome; of files that are on both sides the larger size counts. `step_ns`:
    how finely times could be compared.
    """

    first: Tree
    second: Tree
    by_digest: bool
    step_ns: int
    entries: list[Compared] = field(default_factory=list)
    counts: Counter[Outcome] = field(default_factory=Counter)
    sizes: Counter[Outcome] = field(default_factory=Counter)

    @property
    def same(self) -> bool:
        """Whether both sides hold the same, facts included."""
        return not self.entries

    @property
    def contents_same(self) -> bool:
        """Whether both sides hold the same, whatever the modes (and times, where contents were compared)."""
        return all(each.outcome is Outcome.FACTS_DIFFER for each in self.entries)


def to_hash(first: Tree, second: Tree) -> tuple[list[bytes], list[bytes]]:
    """The files of either tree of which contents must be known to compare them.

    Files with one name on both sides and one size, and files that may be the other's under another name.
    """
    files = ((path, first.entries[path], second.entries.get(path)) for path in first.entries.of_kind(Kind.FILE))
    both = [path for path, one, other in files if other and other.kind is Kind.FILE and other.size == one.size]
    gone, came = may_have_moved(first, second)
    return both + gone, both + came


def compare(
    first: Tree,
    second: Tree,
    digests: tuple[Digests, Digests] | None,
    *,
    step_ns: int,
    modeless: Collection[bytes] | None = (),
    renamed: Mapping[bytes, bytes] | None = None,
    handed_down: int = _HANDED_DOWN,
) -> Comparison:
    """Compare two trees. `digests` of the files that `to_hash` names; None to go by size and time.

    `step_ns`: the coarser time step of the two, unless their times show one that is coarser still. `modeless`: paths
    whose modes are not known on either side; None: all. `renamed`: what has another name in the second tree; None: what
    the digests say. `handed_down`: bits that a directory may have from the one above it, on either side.
    """
    files = ((path, second.entries.get(path)) for path in first.entries.of_kind(Kind.FILE))
    both = ((first.entries[path].mtime_ns, other.mtime_ns) for path, other in files if other is not None)
    step_ns = common_step(both, step_ns)
    comparing = _TwoTrees(first, second, digests, step_ns, modeless, handed_down)
    unread = first.unread.keys() | second.unread.keys()  # what is below says nothing
    result = Comparison(first, second, digests is not None, step_ns)
    if renamed is None:
        renamed = moved(first, second, (digests[0].values.items(), digests[1].values.items())) if digests else {}
    arrived = set(renamed.values())
    alone = sorted((path for path in second.entries if path not in first.entries), key=in_order)
    for path in heapq.merge(first.entries.in_order(), alone, key=in_order):
        if path in arrived or (unread and unread & set(above(path))):
            continue
        one, other = first.entries.get(path), second.entries.get(path)
        found = comparing.entry(path, one, other, renamed.get(path))
        result.counts[found.outcome] += 1
        result.sizes[found.outcome] += max(_size(one), _size(other))
        if found.outcome is not Outcome.SAME:
            result.entries.append(found)
    return result


def _size(facts: Facts | None) -> int:
    return facts.size if facts is not None and facts.kind is Kind.FILE else 0


def in_order(path: bytes) -> bytes:
    """A key that sorts paths: parents before children, those of one directory together."""
    return path.replace(b"/", b"\0")


def above(path: bytes) -> Iterator[bytes]:
    """The directories above a path, the root included."""
    while path:
        path = posixpath.dirname(path)
        yield path


@dataclass(frozen=True, slots=True)
class _TwoTrees:
    first: Tree
    second: Tree
    digests: tuple[Digests, Digests] | None
    step_ns: int
    modeless: Collection[bytes] | None
    handed_down: int

    def entry(self, path: bytes, one: Facts | None, other: Facts | None, new_path: bytes | None) -> Compared:
        """How one entry compares, by its facts on either side."""
        if new_path is not None:
            return Compared(path, Outcome.MOVED, new_path=new_path)
        if fault := self.first.unread.get(path) or self.second.unread.get(path):
            return Compared(path, Outcome.UNREADABLE, fault=fault)
        if one is None or other is None:
            return Compared(path, Outcome.ONLY_SECOND if one is None else Outcome.ONLY_FIRST)
        if one.kind is not other.kind:
            return Compared(path, Outcome.DIFFERENT, (Aspect.KIND,))
        match one.kind:
            case Kind.FILE:
                return self._file(path, one, other)
            case Kind.LINK if self.first.targets.get(path) != self.second.targets.get(path):
                return Compared(path, Outcome.DIFFERENT, (Aspect.TARGET,))
            case Kind.DIRECTORY if not self._same_mode(path, one, other, but=self.handed_down):
                return Compared(path, Outcome.FACTS_DIFFER, (Aspect.MODE,))
        return Compared(path, Outcome.SAME)

    def _file(self, path: bytes, one: Facts, other: Facts) -> Compared:
        aspects = []
        if one.size != other.size:
            aspects.append(Aspect.SIZE)
        elif self.digests is not None:
            if fault := self.digests[0].faults.get(path) or self.digests[1].faults.get(path):
                return Compared(path, Outcome.UNREADABLE, fault=fault)
            if self.digests[0].values[path] != self.digests[1].values[path]:
                aspects.append(Aspect.CONTENTS)
        if not same_time(one.mtime_ns, other.mtime_ns, self.step_ns):
            aspects.append(Aspect.TIME)
        if not self._same_mode(path, one, other):
            aspects.append(Aspect.MODE)
        if not aspects:
            return Compared(path, Outcome.SAME)
        decisive = {Aspect.SIZE, Aspect.CONTENTS} if self.digests is not None else {Aspect.SIZE, Aspect.TIME}
        outcome = Outcome.DIFFERENT if decisive & set(aspects) else Outcome.FACTS_DIFFER
        return Compared(path, outcome, tuple(aspects))

    def _same_mode(self, path: bytes, one: Facts, other: Facts, but: int = 0) -> bool:
        if self.modeless is None or path in self.modeless:
            return True
        return one.mode | but == other.mode | but
