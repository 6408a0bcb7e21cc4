"""Extents: a set of byte offsets as sorted ranges that do not touch. No I/O."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Iterator


class Extents:
    """A set of byte offsets, kept as half-open ranges."""

    __slots__ = ("_ends", "_starts")

    def __init__(self, ranges: Iterator[tuple[int, int]] | list[tuple[int, int]] = ()) -> None:  # type: ignore[assignment]
        self._starts: list[int] = []
        self._ends: list[int] = []
        for start, end in ranges:
            self.add(start, end)

    def add(self, start: int, end: int) -> None:
        """Add the bytes from `start` up to, not including, `end`."""
        if start >= end:
            return
        first = bisect_left(self._ends, start)
        last = bisect_right(self._starts, end)
        if first < last:
            start = min(start, self._starts[first])
            end = max(end, self._ends[last - 1])
        self._starts[first:last] = [start]
        self._ends[first:last] = [end]

    def covers(self, start: int, end: int) -> bool:
        """Whether every byte of the range is in."""
        if start >= end:
            return True
        at = bisect_right(self._starts, start) - 1
        return at >= 0 and self._ends[at] >= end

    def edge_after(self, offset: int, end: int) -> int:
        """The next offset after `offset` where a range begins or ends, or `end` if that comes first."""
        for edges in (self._starts, self._ends):
            at = bisect_right(edges, offset)
            end = min(end, edges[at]) if at < len(edges) else end
        return end

    @property
    def total(self) -> int:
        """Number of bytes in the set."""
        return sum(self._ends) - sum(self._starts)

    @property
    def prefix(self) -> int:
        """Number of bytes from offset 0 to the first gap."""
        return self._ends[0] if self._starts and self._starts[0] == 0 else 0

    @property
    def end(self) -> int:
        """One past the last byte; 0 if the set is empty."""
        return self._ends[-1] if self._ends else 0

    def copy(self) -> Extents:
        """A copy that later additions do not touch."""
        return Extents(list(self))

    def __iter__(self) -> Iterator[tuple[int, int]]:
        return iter(zip(self._starts, self._ends, strict=True))

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Extents) and list(self) == list(other)

    __hash__ = None  # type: ignore[assignment]

    def __repr__(self) -> str:
        return f"Extents({list(self)})"

    def encode(self) -> str:
        """The text that the journal keeps: `0-1048576,2097152-3145728`."""
        return ",".join(f"{start}-{end}" for start, end in self)

    @classmethod
    def decode(cls, text: str) -> Extents:
        """The reverse of `encode`."""
        pairs = (part.split("-") for part in text.split(",") if part)
        return cls([(int(start), int(end)) for start, end in pairs])
