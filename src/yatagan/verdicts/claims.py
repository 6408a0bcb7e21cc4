"""What is on record of a tree, as claims: lines of a checksum list, and facts where there are any."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace

from yatagan.digests.checksum_lists import Listed
from yatagan.stores.interface import Facts, Kind
from yatagan.trees.checksum_record import Expected
from yatagan.trees.entries import Entries
from yatagan.trees.scan import Tree

#: The bit by which a directory gives its group to what is made in it.
_HANDED_DOWN = 0o2000


@dataclass(frozen=True, slots=True)
class Claims:
    """What a tree is verified against.

    `contradictions`: files of which the list says two things. `whole`: what it does not name is reported. `modes` and
    `times`: whether those of `expected` are to be found there. `emptied`: whether all that was on record was gone
    when it was last carried.
    """

    listed: Sequence[Listed]
    expected: Mapping[bytes, Expected] | None = None
    contradictions: Collection[bytes] = ()
    whole: bool = True
    modes: bool = True
    times: bool = True
    emptied: bool = False

    def as_tree(self, there: Tree) -> Tree:
        """The tree that is claimed.

        What the record does not say is as it is `there`; a size that nobody knows is 0. A directory there may have been
        given the bit that hands down its group by the one above it.
        """
        entries, targets = Entries(), dict[bytes, bytes]()
        for path, each in (self.expected or {}).items():
            facts, found = each.facts, there.entries.get(path)
            if found is not None and not self.times:
                facts = replace(facts, mtime_ns=found.mtime_ns)
            if found is not None and facts.kind is found.kind is Kind.DIRECTORY:
                facts = replace(facts, mode=facts.mode | found.mode & _HANDED_DOWN)
            entries[path] = facts
            if each.target is not None:
                targets[path] = each.target
        for line in self.listed:
            if line.path not in entries:
                found = there.entries.get(line.path)
                entries[line.path] = found if found and found.kind is Kind.FILE else Facts(Kind.FILE, 0, 0, 0)
        return Tree(there.root, entries, targets)
