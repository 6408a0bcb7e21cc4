"""The digest of a file, built while its blocks pass."""

from __future__ import annotations

import hashlib
from typing import Protocol

from yatagan.digests.checksum_lists import ALGORITHM
from yatagan.stores.interface import Piece


class Hash(Protocol):
    """A digest in the making."""

    def update(self, data: Piece, /) -> None:
        """Take in more."""

    def hexdigest(self) -> str:
        """The value."""

    def checkpoint(self) -> str:
        """What tells whether the same has been taken in so far; more may be taken in afterwards."""

    def anew(self) -> Hash:
        """Another one for the same, with nothing taken in."""


class FileDigest:
    """The SHA-256 of one file."""

    def __init__(self) -> None:
        self._value = hashlib.new(ALGORITHM)
        self.update = self._value.update
        self.hexdigest = self._value.hexdigest

    def checkpoint(self) -> str:
        return self._value.hexdigest()

    def anew(self) -> FileDigest:
        return FileDigest()
