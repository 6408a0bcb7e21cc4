"""What has changed in a tree since it was put on record, by size and time alone. No file is read."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from yatagan.stores.interface import Kind, same_time
from yatagan.trees.checksum_record import Expected, is_record, step_of_record
from yatagan.trees.scan import Tree


@dataclass(slots=True)
class Since:
    """How many files and links have changed, and how.

    `newer`: with a later time. `other`: with another size, target or kind, or an earlier time. `missing`: no longer
    there. `added`: not on record.
    """

    same: int = 0
    newer: int = 0
    other: int = 0
    missing: int = 0
    added: int = 0

    @property
    def nothing(self) -> bool:
        """Whether nothing has changed."""
        return not (self.newer or self.other or self.missing or self.added)

    def as_json(self) -> dict[str, int]:
        """For scripts."""
        return {"same": self.same, "newer": self.newer, "other": self.other, "missing": self.missing, "new": self.added}


def changed_since(recorded: Mapping[bytes, Expected], tree: Tree, step_ns: int, *, times: bool = True) -> Since:
    """Compare a tree with the facts on record. `times`: whether those on record are to be found in it."""
    found = Since()
    step = step_of_record(recorded, tree, step_ns)
    for path, expected in recorded.items():
        wanted, facts = expected.facts, tree.entries.get(path)
        if wanted.kind is Kind.DIRECTORY:
            continue
        if facts is None:
            found.missing += 1
        elif facts.kind is not wanted.kind:
            found.other += 1
        elif facts.kind is Kind.LINK:
            same = tree.targets.get(path) == expected.target
            found.same, found.other = found.same + same, found.other + (not same)
        elif times and not same_time(facts.mtime_ns, wanted.mtime_ns, step):
            later = facts.mtime_ns > wanted.mtime_ns
            found.newer, found.other = found.newer + later, found.other + (not later)
        elif facts.size != wanted.size:
            found.other += 1
        else:
            found.same += 1
    found.added = sum(
        facts.kind in (Kind.FILE, Kind.LINK) and path not in recorded and not is_record(path)
        for path, facts in tree.entries.items()
    )
    return found
