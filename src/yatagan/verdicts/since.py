"""What has changed in a tree since it was put on record, by size and time alone. No file is read."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from yatagan.stores.interface import Kind
from yatagan.trees.checksum_record import Expected, is_record, step_of_record
from yatagan.trees.scan import Tree
from yatagan.verdicts.claims import Claims
from yatagan.verdicts.comparison import Aspect, compare


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
    record = Claims((), recorded, times=times).as_tree(tree)
    compared = compare(record, tree, None, step_ns=step_of_record(recorded, tree, step_ns), modeless=None)
    found, differing = Since(), {entry.path: entry for entry in compared.entries}
    for path, expected in recorded.items():
        entry, facts = differing.get(path), tree.entries.get(path)
        if expected.facts.kind is Kind.DIRECTORY:
            continue
        if facts is None:
            found.missing += 1
        elif entry is None:
            found.same += 1
        elif Aspect.TIME in entry.aspects and facts.mtime_ns > expected.facts.mtime_ns:
            found.newer += 1
        else:
            found.other += 1
    found.added = sum(
        path not in recorded and tree.entries[path].kind in (Kind.FILE, Kind.LINK) and not is_record(path)
        for path in differing
    )
    return found
