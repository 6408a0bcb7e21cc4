"""Digests of a part file's beginning, at several lengths: so that a later session sees whether it still holds them.

They cost nothing: the digest of a file that arrives is made in its order, and can be read off on the way. No I/O.
"""

from __future__ import annotations

from collections.abc import Iterator

#: Bytes between two that are kept, at least; and how many are kept of one file, so that the journal stays small.
_APART, _MOST = 64 << 20, 256


class Checkpoints:
    """(length, digest of so many first bytes), in the order of length."""

    def __init__(self, points: list[tuple[int, str]] | None = None) -> None:
        self._points = points or []

    def add(self, length: int, digest: str, size: int) -> None:
        """One more, of a file of this size; the last one gives way to it unless it is far enough behind."""
        apart = max(_APART, size // _MOST)
        before = self._points[-2][0] if len(self._points) > 1 else 0
        if self._points and self._points[-1][0] - before < apart:
            self._points.pop()
        self._points.append((length, digest))

    @property
    def end(self) -> int:
        """The greatest length."""
        return self._points[-1][0] if self._points else 0

    def up_to(self, length: int) -> Checkpoints:
        """Those of no more than this length."""
        return Checkpoints([point for point in self._points if point[0] <= length])

    def __iter__(self) -> Iterator[tuple[int, str]]:
        return iter(self._points)

    def encode(self) -> str:
        """As the journal keeps them: `67108864:9f86…,80000000:60303…`."""
        return ",".join(f"{length}:{digest}" for length, digest in self._points)

    @classmethod
    def decode(cls, text: str) -> Checkpoints:
        """The reverse of `encode`."""
        pairs = (point.split(":") for point in text.split(",") if point)
        return cls([(int(length), digest) for length, digest in pairs])
