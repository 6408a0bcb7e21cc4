"""Checkpoints: digests of a part file's beginning at several lengths, by which a later session checks it.

They cost nothing: a file that arrives is hashed in its order, and the digest so far can be read at any block. No I/O.
"""

from __future__ import annotations

from collections.abc import Iterator

#: The least bytes between two checkpoints, and the most checkpoints of one file: the journal must stay small.
_SPACING, _MOST = 64 << 20, 256


class Checkpoints:
    """Pairs (length, digest of the first `length` bytes), by length."""

    def __init__(self, points: list[tuple[int, str]] | None = None) -> None:
        self._points = points or []

    def add(self, length: int, digest: str, size: int) -> None:
        """Add one, of a file of `size` bytes. It replaces the last one where that is closer than the spacing."""
        spacing = max(_SPACING, size // _MOST)
        before = self._points[-2][0] if len(self._points) > 1 else 0
        if self._points and self._points[-1][0] - before < spacing:
            self._points.pop()
        self._points.append((length, digest))

    @property
    def end(self) -> int:
        """The greatest length; 0 without checkpoints."""
        return self._points[-1][0] if self._points else 0

    def up_to(self, length: int) -> Checkpoints:
        """The checkpoints of at most `length` bytes."""
        return Checkpoints([point for point in self._points if point[0] <= length])

    def __iter__(self) -> Iterator[tuple[int, str]]:
        return iter(self._points)

    def encode(self) -> str:
        """The text that the journal keeps: `67108864:9f86…,80000000:60303…`."""
        return ",".join(f"{length}:{digest}" for length, digest in self._points)

    @classmethod
    def decode(cls, text: str) -> Checkpoints:
        """The reverse of `encode`."""
        pairs = (point.split(":") for point in text.split(",") if point)
        return cls([(int(length), digest) for length, digest in pairs])
