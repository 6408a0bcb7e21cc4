"""How contents are compared, and who sees how far that is."""

from __future__ import annotations

from dataclasses import dataclass

from yatagan.trees.hashing_watcher import HashingWatcher
from yatagan.trees.remembered_digests import RememberedDigests


@dataclass(frozen=True, slots=True)
class ContentsComparison:
    """How contents are compared: with which remembered digests, and what receives the progress."""

    memory: RememberedDigests
    watcher: HashingWatcher
