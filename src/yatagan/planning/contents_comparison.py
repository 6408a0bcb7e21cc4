"""How contents are compared, and who sees how far that is."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

from yatagan.trees.remembered_digests import RememberedDigests


class Watcher(Protocol):
    """Receives the progress of a comparison of contents."""

    def expect(self, files: int, size: int) -> None:
        """`files` more files of `size` bytes are to be read."""

    def hashed(self, size: int) -> None:
        """One file of `size` bytes was hashed."""


class NoWatcher:
    """Nobody looks; see `Watcher`."""

    def expect(self, files: int, size: int) -> None:
        """See `Watcher`."""

    def hashed(self, size: int) -> None:
        """See `Watcher`."""


@dataclass(frozen=True, slots=True)
class ContentsComparison:
    """How contents are compared: with which remembered digests, and what receives the progress."""

    memory: RememberedDigests
    watcher: Watcher
