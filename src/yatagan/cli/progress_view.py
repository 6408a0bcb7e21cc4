"""Watching a batch: one view for the whole on a terminal, a plain line now and then without one.

`Progress` counts what the events say and knows nothing of how it is drawn.
"""

from __future__ import annotations

import asyncio
import contextlib
import sys
import time
from collections import deque
from collections.abc import Iterator
from contextlib import AbstractContextManager
from types import TracebackType
from typing import TYPE_CHECKING, Protocol, Self

import click

from yatagan.batches import events as ev
from yatagan.batches.states import StepState
from yatagan.batches.steps import StepKind
from yatagan.cli import messages, text
from yatagan.errors import CONSEQUENCES, CannotReach, Fault

if TYPE_CHECKING:
    from rich.console import Group
    from rich.text import Text

#: The rate is taken over this many seconds.
_RATE_SECONDS = 3.0
#: A file costs about as much time as this many bytes more, whatever its size: its requests and its proof.
_FILE_COST = 64 << 10
#: Files shown as moving, at most.
_SHOWN = 4
#: Faults of a file's facts that say themselves what is the matter.
_SAID_WHOLE = frozenset({Fault.BITS_DROPPED, Fault.TIME_RANGE})
#: Seconds between lines where there is no terminal.
_LINE_SECONDS = 5.0


class MovingFile:
    """A file that is being carried."""

    __slots__ = ("done", "label", "made", "size", "worth")

    def __init__(self, label: bytes, size: int, done: int, worth: int | None = None, *, made: bool = False) -> None:
        self.label = label
        self.size = size
        self.done = done
        #: What all of it counts for: of a bundle, what is in it; while it is being `made`, nothing.
        self.worth = size if worth is None else worth
        self.made = made

    def counted(self, carried: int) -> int:
        """Bytes of the plan that so many bytes on the connection stand for."""
        return carried if self.worth == self.size else carried * self.worth // max(self.size, 1)


class Progress:
    """How far a batch is. Totals in bytes and files come from the plan; the rest from events."""

    def __init__(self, files: int, size: int) -> None:
        self.files = files
        self.size = size
        self.files_done = 0
        self.failed = 0
        self.moving: dict[int, MovingFile] = {}
        self.doing = ""
        self.line = ""
        self.ageing_until = 0.0
        self._settled_size = 0
        self._in_bundles: dict[int, int] = {}
        self._samples: deque[tuple[float, int, int, int]] = deque([(time.monotonic(), 0, 0, 0)])
        self._carried = 0
        self._counted = 0

    @property
    def size_done(self) -> int:
        """Bytes in place, or acknowledged."""
        return min(self.size, self._settled_size + sum(file.counted(file.done) for file in self.moving.values()))

    def _recent(self) -> tuple[float, int, int, int]:
        """Seconds, bytes sent, bytes of the plan, and files of the last moments."""
        now = time.monotonic()
        while len(self._samples) > 1 and now - self._samples[0][0] > _RATE_SECONDS:
            self._samples.popleft()
        began, carried, counted, files = self._samples[0]
        seconds = max(now - began, 0.2)
        return seconds, self._carried - carried, self._counted - counted, self.files_done - files

    @property
    def share(self) -> float:
        """How much of the work is done, 0 to 1: bytes and files both count, as both take time."""
        whole = _work(self.size, self.files)
        return _work(self.size_done, self.files_done) / whole if whole else 0.0

    @property
    def left_seconds(self) -> float | None:
        """Seconds left at this rate; None when nothing moves."""
        seconds, _, counted, files = self._recent()
        rate = _work(counted, files) / seconds
        left = _work(self.size - self.size_done, self.files - self.files_done)
        return left / rate if rate > 0 else None

    def _sample(self) -> None:
        self._samples.append((time.monotonic(), self._carried, self._counted, self.files_done))

    def take(self, event: ev.Event) -> None:
        """Count an event."""
        match event:
            case ev.StepStarted(number, StepKind.FILE, label, size, done):
                self.moving[number] = MovingFile(label, size, done)
            case ev.StepStarted(number, StepKind.BUNDLE, label, size, done):
                self.moving[number] = MovingFile(label + b"/ (small files together)", size, done)
            case ev.BundleMade(number, label, done, size):
                self._in_bundles[number] = size
                self.moving[number] = MovingFile(label, size, done, 0, made=True)
            case ev.StepStarted(number, StepKind.ARCHIVE, label, size, done):
                self.moving[number] = MovingFile(label, size, done, self._in_bundles.get(number, size))
            case ev.BytesMoved(number, count):
                self._counted += self.moving[number].counted(count) if number in self.moving else count
                if number in self.moving:
                    self.moving[number].done += count
                self._carried += count
                self._sample()
            case ev.StepPostponed(number):
                self.moving.pop(number, None)
            case ev.StepSettled(number, kind, _, size, state):
                self.moving.pop(number, None)
                if kind is StepKind.FILE:
                    self.files_done += 1
                    self._settled_size += size
                self.failed += state is StepState.FAILED
            case ev.RetryWaiting(seconds):
                self.line = _line_text(event)
                self.ageing_until = 0.0
            case ev.ConnectionOpened():
                self.line = ""
            case ev.Ageing(seconds):
                self.ageing_until = time.monotonic() + seconds

    def expect(self, files: int, size: int) -> None:
        """More is to be done than was known."""
        self.files += files
        self.size += size

    def hashed(self, size: int, files: int = 1) -> None:
        """Count a file, or part of one, that was only read."""
        self.files_done += files
        self._settled_size += size
        self._carried += size
        self._counted += size
        self._sample()

    def counts(self) -> str:
        """As text: `25.1 of 58.3 MB, 612 of 1,496 files, 12.3 MB/s, 3 s left`."""
        parts = [
            f"{self.doing}{text.size(self.size_done)} of {text.size(self.size)}",
            f"{text.number(self.files_done)} of {text.count(self.files, 'file')}",
        ]
        if self.line:
            return ", ".join(parts)
        seconds, carried, _, files = self._recent()
        if carried or files:
            if rate := text.rate(files, carried, seconds):
                parts.append(rate)
            if (left := self.left_seconds) is not None and self.size_done < self.size:
                parts.append(f"{text.duration(left)} left")
        elif made := [file for file in self.moving.values() if file.made]:
            parts.append(f"making {text.count(len(made), 'bundle')}")
        elif self.ageing_until > time.monotonic():
            parts.append("giving new files time to show a change")
        return ", ".join(parts)


def _work(size: int, files: int) -> int:
    return size + files * _FILE_COST


def _parts_text(event: ev.PartsFound) -> str:
    """How much of a file that replaces one is sent."""
    if not event.there:
        return f"{text.show(event.label)}: little of it is in what it replaces, so all of it is sent"
    left = text.size(event.size - event.there)
    return f"{text.show(event.label)}: {left} of {text.size(event.size)} to send, the rest is in what it replaces"


def _line_text(event: ev.RetryWaiting) -> str:
    why = messages.fault(event.fault) if event.fault is not None else "the connection was lost"
    if isinstance(event.error, CannotReach):
        why = messages.explain(event.error).message
    return f"{why}; trying again {f'in {text.duration(event.seconds)}' if event.seconds >= 0.05 else 'now'}"


def _note_text(event: ev.Note) -> str:
    """Which fact could not be set."""
    why = messages.fault(event.fault, event.detail)
    said = why if event.fault in _SAID_WHOLE else f"mode and time could not be set: {why}"
    return f"{text.show(event.label)}: {said}"


class View(Protocol):
    """Shows progress while a batch runs."""

    def take(self, event: ev.Event) -> None:
        """Take an event."""

    def say(self, line: str) -> None:
        """Show a line of text that is no event."""

    def paused(self) -> AbstractContextManager[None]:
        """Stop drawing while a question is asked."""

    async def __aenter__(self) -> Self:
        """Start showing."""

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        """Stop showing."""


class Silent:
    """Shows nothing."""

    def take(self, event: ev.Event) -> None:
        """See `View.take`."""

    def say(self, line: str) -> None:
        """See `View.say`."""

    def paused(self) -> AbstractContextManager[None]:
        """See `View`."""
        return contextlib.nullcontext()

    async def __aenter__(self) -> Self:
        """See `View`."""
        return self

    async def __aexit__(self, *args: object) -> None:
        """See `View`."""


class Lines:
    """A plain line every few seconds, and one for each event of the connection. To standard error."""

    def __init__(self, progress: Progress) -> None:
        self._progress = progress
        self._task: asyncio.Task[None] | None = None

    def take(self, event: ev.Event) -> None:
        """See `View.take`."""
        self._progress.take(event)
        match event:
            case ev.RetryWaiting():
                self.say(self._progress.line)
            case ev.ConnectionOpened(again=True):
                self.say("the connection is back")
            case ev.StepSettled(state=StepState.FAILED, fault=fault) if fault is not None and fault not in CONSEQUENCES:
                self.say(f"{text.show(event.label)}: {messages.fault(fault, event.detail)}")
            case ev.PartsFound():
                self.say(_parts_text(event))
            case ev.Note():
                self.say(_note_text(event))

    def say(self, line: str) -> None:
        """See `View.say`."""
        click.echo(f"{time.strftime('%H:%M:%S')}  {line}", err=True)

    def paused(self) -> AbstractContextManager[None]:
        """See `View`. A line between is no harm."""
        return contextlib.nullcontext()

    async def _repeat(self) -> None:
        while True:
            await asyncio.sleep(_LINE_SECONDS)
            if not self._progress.line:
                self.say(self._progress.counts())

    async def __aenter__(self) -> Self:
        """See `View`."""
        self._task = asyncio.ensure_future(self._repeat())
        return self

    async def __aexit__(self, *args: object) -> None:
        """See `View`."""
        if self._task is not None:
            self._task.cancel()


class Live:
    """One view of the whole batch, redrawn in place: a bar, counts, and the files that are moving."""

    def __init__(self, progress: Progress) -> None:
        from rich.console import Console
        from rich.live import Live as RichLive

        self._progress = progress
        self._console = Console(stderr=True, highlight=False)
        self._live = RichLive(console=self._console, get_renderable=self._draw, refresh_per_second=6, transient=True)

    def take(self, event: ev.Event) -> None:
        """See `View.take`."""
        self._progress.take(event)
        match event:
            case ev.RetryWaiting():
                self._above(self._progress.line, "yellow")
            case ev.ConnectionOpened(again=True):
                self._above("the connection is back", "green")
            case ev.StepSettled(state=StepState.FAILED, fault=fault) if fault is not None and fault not in CONSEQUENCES:
                self._above(f"{text.show(event.label)}: {messages.fault(fault, event.detail)}", "red")
            case ev.PartsFound():
                self._above(_parts_text(event), "dim")
            case ev.Note():
                self._above(_note_text(event), "yellow")

    def say(self, line: str) -> None:
        """See `View.say`."""
        self._above(line, "yellow")

    def _above(self, line: str, style: str) -> None:
        from rich.text import Text

        self._console.print(Text.assemble((time.strftime("%H:%M:%S  "), "dim"), (line, style)))

    def _draw(self) -> Group:
        from rich.console import Group
        from rich.text import Text

        wide = min(self._console.width, 120)
        rows = [self._bar(wide), Text("  " + self._progress.counts())]
        if self._progress.line:
            rows.append(Text("  " + self._progress.line, style="yellow", overflow="ellipsis", no_wrap=True))
        moving = list(self._progress.moving.values())
        largest = sorted(moving, key=lambda file: -file.size)[:_SHOWN]
        rows += [self._file(file, wide) for file in largest]
        if len(moving) > len(largest):
            rows.append(Text(f"  and {text.count(len(moving) - len(largest), 'more file')} on the way", style="dim"))
        return Group(*rows)

    def _bar(self, wide: int) -> Text:
        from rich.text import Text

        share = self._progress.share
        room = wide - 11
        full = int(room * share)
        return Text.assemble("  ", ("━" * full, "cyan"), ("━" * (room - full), "grey30"), (f" {share:4.0%}", "bold"))

    @staticmethod
    def _file(file: MovingFile, wide: int) -> Text:
        from rich.text import Text

        share = file.done / file.size if file.size else 1.0
        name = text.shorten(text.show(file.label), wide - 36)
        if file.made:
            amount = "being made"
        elif file.done >= file.size:
            amount = f"{text.size(file.size)}, being proven"
        else:
            amount = f"{text.size(file.done)} of {text.size(file.size)}"
        return Text(f"  {name:<{wide - 36}}  {amount:>22}  {share:4.0%}", style="dim", no_wrap=True)

    @contextlib.contextmanager
    def paused(self) -> Iterator[None]:
        """See `View`."""
        drawn = self._live.is_started
        self._live.stop()
        try:
            yield
        finally:
            if drawn:
                self._live.start()

    async def __aenter__(self) -> Self:
        """See `View`."""
        self._live.start()
        return self

    async def __aexit__(self, *args: object) -> None:
        """See `View`."""
        self._live.stop()


def view_for(progress: Progress, *, quiet: bool) -> View:
    """The view that fits where standard error goes."""
    if quiet:
        return Silent()
    if sys.stderr.isatty():
        return Live(progress)
    return Lines(progress)
