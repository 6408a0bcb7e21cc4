"""Who sees how far a reading of contents is."""

from __future__ import annotations

from typing import Protocol


class HashingWatcher(Protocol):
    """Hears how far a reading of contents is. Sizes in bytes."""

    def expect(self, files: int, size: int) -> None:
        """`files` more files of `size` bytes are to be read."""

    def done_before(self, files: int, size: int) -> None:
        """So many of them need not be read: an earlier run has."""

    def hashed(self, size: int, files: int = 1) -> None:
        """So many bytes more were read, and with them so many files to their ends."""


class NoHashingWatcher:
    """Nobody looks; see `HashingWatcher`."""

    def expect(self, files: int, size: int) -> None:
        pass

    def done_before(self, files: int, size: int) -> None:
        pass

    def hashed(self, size: int, files: int = 1) -> None:
        pass
