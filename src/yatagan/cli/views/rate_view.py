"""A batch's rate over time, drawn with block characters."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from yatagan.batches.pace import PaceRow
from yatagan.cli.terminal import text

#: Rows of the drawing, eighths of a character, and the same in plain ASCII.
_HIGH = 6
_EIGHTHS = " ▁▂▃▄▅▆▇█"
_PLAIN = " ......##"
#: What stands below the drawing where the connection was lost.
_LOST = "×", "x"


def rate_lines(rows: Sequence[PaceRow], lost: Sequence[str], wide: int, *, plain: bool) -> list[str]:
    """The drawing, in so many columns. `lost`: when the connection was lost (RFC 3339)."""
    if not rows:
        return []
    began, end = rows[0].at, rows[-1].at + rows[-1].seconds
    span = max(end - began, 1)
    most = max(row.sent / row.seconds for row in rows)
    label = f"{text.size(round(most))}/s"
    room = max(10, min(wide - len(label) - 3, span if span > 10 else 10))
    rates = _columns(rows, began, span, room)
    top = max(rates) or 1.0
    shapes = _PLAIN if plain else _EIGHTHS
    side = "|" if plain else "│"
    lines = []
    for level in reversed(range(_HIGH)):
        cells = "".join(shapes[_eighths(rate / top * _HIGH - level)] for rate in rates)
        head = f"{text.size(round(top))}/s" if level == _HIGH - 1 else "0" if level == 0 else ""
        lines.append(f"{head:>{len(label)}} {side}{cells}".rstrip())
    corner = "+" + "-" * room if plain else "└" + "─" * room
    lines.append(" " * (len(label) + 1) + corner)
    if marks := _marks(lost, began, span, room, _LOST[plain]):
        lines.append(" " * (len(label) + 2) + marks)
    first, last = _clock(began), f"{_clock(end)}, {text.duration(span)}"
    gap = max(1, room - len(first) - len(last))
    lines.append(" " * (len(label) + 2) + first + " " * gap + last)
    if marks:
        lines.append(" " * (len(label) + 2) + f"{_LOST[plain]} the connection was lost, and tried again")
    return lines


def _columns(rows: Sequence[PaceRow], began: int, span: int, room: int) -> list[float]:
    """The mean rate of each column, in bytes a second."""
    sent = [0.0] * room
    for row in rows:
        first, last = (row.at - began) * room / span, (row.at + row.seconds - began) * room / span
        at = int(first)
        while at < last and at < room:
            share = (min(last, at + 1) - max(first, at)) / (last - first)
            sent[at] += row.sent * share
            at += 1
    return [each * room / span for each in sent]


def _eighths(value: float) -> int:
    """How much of one character is filled."""
    return max(0, min(8, round(value * 8)))


def _marks(lost: Sequence[str], began: int, span: int, room: int, mark: str) -> str:
    cells = [" "] * room
    for when in lost:
        at = int((datetime.fromisoformat(when).timestamp() - began) * room / span)
        if 0 <= at < room:
            cells[at] = mark
    return "".join(cells).rstrip()


def _clock(seconds: int) -> str:
    """Local time of day."""
    return datetime.fromtimestamp(seconds).strftime("%H:%M:%S")
