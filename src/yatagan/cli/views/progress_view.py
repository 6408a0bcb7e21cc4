"""Watching a batch: one view for the whole on a terminal, a plain line now and then without one."""

from __future__ import annotations

import asyncio
import contextlib
import sys
import time
from abc import ABC, abstractmethod
from contextlib import AbstractContextManager
from types import TracebackType
from typing import Protocol, Self

from yatagan.batches import events as ev
from yatagan.cli.terminal import terminal
from yatagan.cli.views.progress import Progress, event_line

#: Seconds between lines that say that a node does not answer.
_QUIET_LINES = 30.0


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
        pass

    def say(self, line: str) -> None:
        pass

    def paused(self) -> AbstractContextManager[None]:
        return contextlib.nullcontext()

    async def __aenter__(self) -> Self:
        return self

    async def __aexit__(self, *args: object) -> None:
        pass


class Repeating(ABC):
    """A view that says something every few `seconds` while it is shown."""

    seconds = 5.0
    _task: asyncio.Task[None] | None = None

    @abstractmethod
    def again(self) -> None:
        """Say how far it is."""

    async def _repeat(self) -> None:
        while True:
            await asyncio.sleep(self.seconds)
            self.again()

    def paused(self) -> AbstractContextManager[None]:
        """A line between is no harm."""
        return contextlib.nullcontext()

    async def __aenter__(self) -> Self:
        self._task = asyncio.ensure_future(self._repeat())
        return self

    async def __aexit__(self, *args: object) -> None:
        if self._task is not None:
            self._task.cancel()


class Lines(Repeating):
    """A plain line every few seconds, and one for each event of the connection. To standard error."""

    def __init__(self, progress: Progress) -> None:
        self._progress = progress
        self._quiet_at = 0.0

    def take(self, event: ev.Event) -> None:
        self._progress.take(event)
        line, _ = event_line(self._progress, event)
        if line:
            self.say(line)

    def say(self, line: str) -> None:
        terminal.say(f"{time.strftime('%H:%M:%S')}  {line}", err=True)

    def again(self) -> None:
        """A silent node is said now and then."""
        if self._progress.trouble:
            return
        if self._progress.quiet:
            if time.monotonic() - self._quiet_at < _QUIET_LINES:
                return
            self._quiet_at = time.monotonic()
        self.say(self._progress.counts())


def view_for(progress: Progress, *, quiet: bool) -> View:
    """The view that fits where standard error goes."""
    if quiet:
        return Silent()
    if sys.stderr.isatty():
        from yatagan.cli.views.live_view import Live

        return Live(progress)
    return Lines(progress)
