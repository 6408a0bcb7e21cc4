"""The strip of a batch on a terminal: a cell for each share of its bytes, with a shape and a colour for each state."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterable
from itertools import groupby
from typing import NamedTuple, TextIO

from yatagan.batches.journal import Journal
from yatagan.batches.strip import CellState, Strip
from yatagan.cli.terminal import terminal
from yatagan.cli.terminal.text import Tone
from yatagan.transfer.extents import Extents


class Look(NamedTuple):
    """How a state looks: a shape that needs no colour, the same in ASCII, a colour of 256, and its name.

    The colours can be read on dark and on light backgrounds.
    """

    shape: str
    ascii: str
    colour: int | None
    name: str


LOOKS = {
    CellState.WAITING: Look("·", ".", None, "waiting"),
    CellState.ON_THE_WAY: Look("░", "-", 31, "on the way"),
    CellState.ARRIVED: Look("▒", "=", 31, "arrived"),
    CellState.PROVEN: Look("▓", "+", 30, "proven"),
    CellState.IN_PLACE: Look("█", "#", Tone.GOOD, "in place"),
    CellState.FAILED: Look("×", "x", Tone.TROUBLE, "failed"),
}


def is_plain(stream: TextIO) -> bool:
    """Whether only ASCII may be drawn: the locale or the terminal knows no more."""
    named = os.environ.get("LC_ALL") or os.environ.get("LC_CTYPE") or os.environ.get("LANG") or ""
    if os.environ.get("TERM") in ("dumb", "linux", "vt100") or "utf" not in named.lower().replace("-", ""):
        return True
    return "utf" not in (stream.encoding or "").lower()


def runs(cells: Iterable[CellState], *, plain: bool) -> Iterable[tuple[str, int | None]]:
    """Shapes that are drawn in one colour, and the colour."""
    for state, alike in groupby(cells):
        look = LOOKS[state]
        yield (look.ascii if plain else look.shape) * len(list(alike)), look.colour


def strip_of(journal: Journal) -> Strip:
    """The strip of a batch as its journal says. Raises JournalError."""
    strip = Strip(journal.strip_files())
    for step in journal.begun():
        strip.move(step.number, Extents.decode(step.durable).total)
    return strip


def drawn(strip: Strip, count: int) -> str:
    """A strip of `count` cells for standard output; "" where that is no terminal, or nothing is to be carried."""
    if not sys.stdout.isatty():
        return ""
    return drawn_cells(strip.cells(count))


def drawn_cells(cells: Iterable[CellState]) -> str:
    """Cells of a strip, for standard output."""
    plain = is_plain(sys.stdout)
    return "".join(terminal.style(shape, fg=colour) for shape, colour in runs(cells, plain=plain))


def legend(strip: Strip, count: int) -> str:
    """What the shapes of a drawn strip mean."""
    plain = is_plain(sys.stdout)
    found = sorted(set(strip.cells(count)))
    return "  ".join(f"{LOOKS[state].ascii if plain else LOOKS[state].shape} {LOOKS[state].name}" for state in found)
