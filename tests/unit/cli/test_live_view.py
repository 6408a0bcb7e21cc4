"""The live view: five lines, as wide as the window, and nothing in them that jumps or that a terminal would obey."""

from __future__ import annotations

import io

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from rich.console import Console

from yatagan.batches import events as ev
from yatagan.batches.states import StepState
from yatagan.batches.steps import StepKind
from yatagan.batches.strip import Strip, StripFile
from yatagan.batches.time_left import Span
from yatagan.cli.views import live_view
from yatagan.cli.views.progress import Progress
from yatagan.faults import Fault

FILES = [StripFile(number, number * 7919 % 5_000_000, StepState.WAITING, 0) for number in range(1, 121)]
EVIL = b"M\xc3\xb6\xc3\xb6r/\x1b[31mplot\n/\xe2\x80\xae" + b"x" * 200


def rows(progress: Progress, width: int, *, plain: bool = False) -> list[str]:
    """What is drawn, line by line."""
    view, out = live_view.Live(progress), io.StringIO()
    view._lines = live_view.BatchLines(progress, plain=plain)
    view._console = Console(width=width, file=out, force_terminal=True, color_system=None)
    view._console.print(view._draw())
    return out.getvalue().splitlines()


def carried(started: int, settled: int, failing: int = 9) -> Progress:
    """A batch of which some files are on the way and some are done."""
    progress = Progress(len(FILES), sum(file.size for file in FILES), Strip(FILES))
    for number, size, _, _ in FILES[:started]:
        progress.take(ev.StepStarted(number, StepKind.FILE, EVIL + b"%d" % number, size, 0))
        progress.take(ev.BytesMoved(number, size // (1 + number % 2)))
    for span in (Span(5.0, 100, 1), Span(5.0, 1, 50_000_000)):
        progress._speed._spans.add(span)
    for number, size, _, _ in FILES[:settled]:
        state, fault = (StepState.IN_PLACE, None) if number % failing else (StepState.FAILED, Fault.DENIED)
        progress.take(ev.StepSettled(number, StepKind.FILE, EVIL, size, state, None, fault, ""))
    return progress


@settings(max_examples=60, deadline=None)
@given(
    width=st.integers(20, 200),
    started=st.integers(0, 120),
    share=st.floats(0, 1),
    plain=st.booleans(),
    quiet=st.booleans(),
)
def test_five_lines_that_fit(width: int, started: int, share: float, plain: bool, quiet: bool) -> None:
    progress = carried(started, int(started * share))
    if quiet:
        progress.take(ev.Quiet("heron", 12.0))
    drawn = rows(progress, width, plain=plain)
    assert 2 <= len(drawn) <= 5 and all(len(line) <= width for line in drawn), drawn
    assert all(line.isprintable() for line in drawn), "no control character reaches the terminal"
    assert not plain or all(line.isascii() for line in drawn)
    assert len(drawn[0].strip()) == width - 4 and set(drawn[0].strip()) <= set(".-=+#x" if plain else "·░▒▓█×")
    if quiet and width >= 80:
        assert "heron has not answered for 12 s" in drawn[2] and "0 B/s" in drawn[1]


@pytest.mark.parametrize("width", [80, 200])
def test_numbers_hold_still(width: int) -> None:
    lines = [rows(carried(started, settled), width)[1] for started, settled in ((20, 1), (60, 50), (119, 110))]
    for word in (" of ", " files", "left, "):
        assert len({line.index(word) for line in lines}) == 1, lines


def test_a_batch_that_was_begun_shows_what_is_there() -> None:
    files = [file._replace(state=StepState.IN_PLACE) for file in FILES[:60]] + FILES[60:]
    progress = Progress(120, sum(file.size for file in files), Strip(files))
    progress.done_before(60, sum(file.size for file in files[:60]))
    drawn = rows(progress, 80)
    assert "60 of 120 files" in drawn[1] and drawn[0].strip().startswith("███") and drawn[0].strip().endswith("···")
    progress.take(ev.RetryWaiting(4.0, Fault.CONNECTION_LOST, None))
    assert "the connection was lost; trying again in 4.0 s" in rows(progress, 80)[2]
