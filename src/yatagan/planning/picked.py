"""What of a source is carried, entry by entry, where not all of it is."""

from __future__ import annotations

import posixpath
from collections.abc import Mapping
from dataclasses import dataclass

from yatagan.stores.interface import Facts
from yatagan.trees.scan import Tree


@dataclass(frozen=True, slots=True)
class Picked:
    """What of a source is to be brought back, each with the facts of what was there when it was looked at.

    What has changed since then is left.
    """

    entries: Mapping[bytes, Facts | None]

    def prune(self, tree: Tree, there: Tree) -> None:
        """Leave in a tree what was picked, and the directories above it."""
        keep = set[bytes]()
        for path, seen in self.entries.items():
            now = there.entries.get(path)
            if path not in tree.entries or (now is None) != (seen is None):
                continue
            if now is not None and seen is not None and not now.same_as(seen):
                continue
            while path not in keep:
                keep.add(path)
                path = posixpath.dirname(path)
        keep.add(b"")
        for path in [path for path in tree.entries if path not in keep]:
            del tree.entries[path]
            tree.targets.pop(path, None)
        tree.unread.clear()

    def again(self, tree: Tree) -> list[bytes]:
        """The files that replace what is there, though size and time may agree."""
        return [path for path, seen in self.entries.items() if seen is not None and path in tree.entries]
