"""A batch on a terminal, redrawn in place: its strip, a line of numbers, and what has been under way longest.

Five lines at most. Every number has a fixed place and width, so that nothing jumps.
"""

from __future__ import annotations

import contextlib
import sys
import time
from collections.abc import Callable, Iterator, Sequence
from datetime import datetime

from rich.console import Console, Group
from rich.live import Live as RichLive
from rich.text import Text

from yatagan.batches import events as ev
from yatagan.batches.time_left import SecondsLeft
from yatagan.cli.terminal import text
from yatagan.cli.terminal.terminal import harmless
from yatagan.cli.views.progress import MovingFile, Progress, event_line
from yatagan.cli.views.strip_view import is_plain, runs

#: Files shown as under way, at most; one less while there is trouble.
_SHOWN = 3
#: Widths of a duration, a rate, bytes of bytes, and a time of day.
_DURATION, _RATE, _BYTES, _END = 10, 12, 15, 5


class BatchLines:
    """One batch as lines: its strip, its numbers, and what is under way. `plain`: in ASCII."""

    def __init__(self, progress: Progress, *, plain: bool) -> None:
        self._progress = progress
        self._plain = plain

    def draw(self, wide: int, files: int) -> Group:
        """The lines, `wide` columns of them, with that many of what is under way."""
        progress = self._progress
        strip = Text("  ", no_wrap=True)
        for shape, colour in runs(progress.cells(wide - 4), plain=self._plain):
            strip.append(shape, f"color({colour})" if colour is not None else "dim")
        rows = [strip, Text("  " + harmless(self._numbers(wide - 3)), no_wrap=True, overflow="crop")]
        trouble = harmless(progress.trouble or progress.quiet)
        if trouble:
            style = _style(text.Tone.WARNING)
            rows.append(
                Text(
                    "  " + harmless(trouble), style=style, overflow="crop" if self._plain else "ellipsis", no_wrap=True
                )
            )
        rows += [self._file(file, wide) for file in progress.longest(max(0, files - bool(trouble)))]
        return Group(*rows)

    def _numbers(self, room: int) -> str:
        """Bytes, files, rate, time left and when it should end; from the right what has no room is left out."""
        progress = self._progress
        digits = len(text.number(progress.files))
        fields = [
            f"{progress.doing}{text.size_of(progress.size_done, progress.size)}",
            f"{text.number(progress.files_done):>{digits}} of {text.count(progress.files, 'file')}",
        ]
        if not (progress.trouble or progress.quiet) and (state := progress.state()):
            return "  ".join([*fields, state])
        moves = not (progress.trouble or progress.quiet)
        left = progress.left if moves else None
        about = left.about if left is not None else None
        fields.append(f"{progress.rate if moves else '0 B/s':>{_RATE}}")
        fields.append(f"{_left(left):>{_DURATION + 6}}")
        if sum(map(len, fields)) + 2 * len(fields) + _END <= room and about is not None:
            fields[-1] += f", {_end(about)}"
        while len(fields) > 1 and sum(map(len, fields)) + 2 * (len(fields) - 1) > room:
            fields.pop()
        return "  ".join(fields)

    def _file(self, file: MovingFile, wide: int) -> Text:
        if file.made:
            amount = "being made"
        elif file.done >= file.size:
            amount = f"{text.size(file.size)}, proving"
        else:
            amount = text.size_of(file.done, file.size)
        taken = text.duration(time.monotonic() - file.began)
        room = max(8, wide - 2 - _DURATION - 2 - _BYTES - 2 - 1)
        name = text.shorten(text.show(file.label), room)
        if self._plain:
            name = name.replace("…", "~").encode("ascii", "replace").decode("ascii")
        return Text(harmless(f"  {taken:>{_DURATION}}  {amount:>{_BYTES}}  {name}"), style="dim", no_wrap=True)


def _left(left: SecondsLeft | None) -> str:
    """`8 s left`, or `>8 s left` where only the least is known."""
    if left is None:
        return ""
    if (about := left.about) is not None:
        return f"{text.duration(about)} left"
    return f">{text.duration(left.least)} left" if left.least >= 1 else ""


class Live:
    """Shows progress on a terminal; see `View`."""

    def __init__(self, progress: Progress) -> None:
        self._progress = progress
        # The same 256 colours as everywhere else; Rich would take the nearest of fewer where TERM names fewer.
        self._console = Console(stderr=True, highlight=False, color_system="256")
        self._lines = BatchLines(progress, plain=is_plain(sys.stderr))
        self._live = RichLive(console=self._console, get_renderable=self._draw, refresh_per_second=6, transient=True)

    def take(self, event: ev.Event) -> None:
        self._progress.take(event)
        line, tone = event_line(self._progress, event)
        if line:
            self._above(line, tone)

    def say(self, line: str) -> None:
        self._above(line, text.Tone.WARNING)

    def _above(self, line: str, tone: text.Tone | None) -> None:
        self._console.print(Text.assemble((time.strftime("%H:%M:%S  "), "dim"), (harmless(line), _style(tone))))

    def _draw(self) -> Group:
        return self._lines.draw(self._console.width, _SHOWN)

    @contextlib.contextmanager
    def paused(self) -> Iterator[None]:
        drawn = self._live.is_started
        self._live.stop()
        try:
            yield
        finally:
            if drawn:
                self._live.start()

    async def __aenter__(self) -> Live:
        self._live.start()
        return self

    async def __aexit__(self, *args: object) -> None:
        self._live.stop()


@contextlib.contextmanager
def several(batches: Sequence[tuple[Callable[[], str], Progress]]) -> Iterator[None]:
    """Show several batches at once, each with a title; of one alone also what is under way."""
    console = Console(stderr=True, highlight=False, color_system="256")
    plain = is_plain(sys.stderr)
    blocks = [(title, BatchLines(progress, plain=plain)) for title, progress in batches]
    files = _SHOWN if len(blocks) == 1 else 0

    def draw() -> Group:
        room = max(1, (console.height - 2) // (3 + files))
        rows: list[Text | Group] = []
        for title, block in blocks[:room]:
            rows += [Text(harmless(text.shorten(title(), console.width - 1)), style="bold", no_wrap=True)]
            rows += [block.draw(console.width, files)]
        if len(blocks) > room:
            rows.append(Text(f"and {len(blocks) - room} more", style="dim"))
        return Group(*rows)

    with RichLive(console=console, get_renderable=draw, refresh_per_second=4, transient=True):
        yield


def _style(tone: text.Tone | None) -> str:
    return f"color({int(tone)})" if tone is not None else "dim"


def _end(left: float) -> str:
    """When it should end: the time of today, or also the day."""
    try:
        end = datetime.fromtimestamp(time.time() + left)
    except (OverflowError, ValueError, OSError):
        return ""
    return f"{end:%H:%M}" if end.date() == datetime.now().date() else f"{end:%a %H:%M}"
