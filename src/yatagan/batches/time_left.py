"""How much longer something takes: files left by what a file costs, and bytes left by the rate of bytes. No I/O.

Both are unknown at first. What was seen says only that so many files and so many bytes together took so long; each such
span narrows what a file and a byte can cost. Until both are known the answer is a range.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import combinations
from math import inf
from typing import NamedTuple

#: Spans that are kept: two neighbours that are most alike become one when there are more.
_SPANS = 12
#: How far a span may be from what the costs say: rates waver.
_WAVER = 0.25


class Span(NamedTuple):
    """Files that were finished and bytes that were carried, within so many seconds."""

    seconds: float
    files: int
    size: int


class SecondsLeft(NamedTuple):
    """The least and the most seconds; `most` is infinite where nothing bounds it."""

    least: float
    most: float

    @property
    def known(self) -> bool:
        """Whether the range is narrow enough for one number."""
        return self.most <= 2 * self.least

    @property
    def about(self) -> float | None:
        """One number, where that makes sense."""
        return (self.least * self.most) ** 0.5 if self.known else None


@dataclass(slots=True)
class Spans:
    """What was seen so far, in spans of about equal length, the oldest first."""

    spans: list[Span]

    def add(self, span: Span) -> None:
        """Add what happened since the last one."""
        self.spans.append(span)
        while len(self.spans) > _SPANS:
            at = min(range(len(self.spans) - 1), key=lambda at: _unlike(self.spans[at], self.spans[at + 1]))
            one, other = self.spans[at : at + 2]
            self.spans[at : at + 2] = [
                Span(one.seconds + other.seconds, one.files + other.files, one.size + other.size)
            ]


def _unlike(one: Span, other: Span) -> tuple[float, float]:
    """How far two spans are from the same mixture of files and bytes; and how long both are."""
    apart = 0.0
    for first, second in ((one.files, other.files), (one.size, other.size)):
        rates = first / max(one.seconds, 1e-9), second / max(other.seconds, 1e-9)
        apart += abs(rates[0] - rates[1]) / max(sum(rates), 1e-9)
    return round(apart, 1), one.seconds + other.seconds


def seconds_left(spans: Sequence[Span], files: int, size: int, limit: float = 0.0) -> SecondsLeft | None:
    """How long so many files with so many bytes will take; None before anything was seen.

    `limit`: bytes a second that are allowed at most, 0 for no limit. Where spans contradict each other, as when a
    connection has become slower, the oldest are forgotten.
    """
    seen = [span for span in spans if span.seconds > 0 and (span.files or span.size)]
    if not seen:
        return None
    floor = 1 / limit if limit else 0.0
    while True:
        found = list(_corners(seen, floor))
        if found or len(seen) == 1:
            break
        seen = seen[1:]
    costs = [per_file * files + per_byte * size for per_file, per_byte in found] or [floor * size]
    bounded = (not files or any(span.files for span in seen)) and (not size or any(span.size for span in seen))
    return SecondsLeft(max(min(costs), floor * size), max(costs) if bounded else inf)


def _corners(spans: Sequence[Span], floor: float) -> Iterator[tuple[float, float]]:
    """The corners of what a file and a byte can cost, in seconds: every pair of bounds that meets within all others."""
    #: Each bound is per_file * a + per_byte * b = c.
    lines = [(1.0, 0.0, 0.0), (0.0, 1.0, floor)]
    for span in spans:
        lines += [(span.files, span.size, span.seconds * share) for share in (1 - _WAVER, 1 + _WAVER)]
    for (a, b, c), (d, e, f) in combinations(lines, 2):
        determinant = a * e - b * d
        if abs(determinant) <= 1e-12 * max(abs(a * e), abs(b * d), 1e-300):
            continue
        per_file, per_byte = (c * e - b * f) / determinant, (a * f - c * d) / determinant
        if _is_within(spans, floor, per_file, per_byte):
            yield max(per_file, 0.0), max(per_byte, floor)


def _is_within(spans: Sequence[Span], floor: float, per_file: float, per_byte: float) -> bool:
    tiny = 1e-9
    if per_file < -tiny * max(span.seconds for span in spans) or per_byte < floor * (1 - 1e-6) - 1e-18:
        return False
    for span in spans:
        took = per_file * span.files + per_byte * span.size
        if not span.seconds * (1 - _WAVER - 1e-6) <= took <= span.seconds * (1 + _WAVER + 1e-6):
            return False
    return True
