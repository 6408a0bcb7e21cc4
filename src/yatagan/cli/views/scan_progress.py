"""Shows what is being read and how much, and stops where it is more than the user can have meant."""

from __future__ import annotations

import sys
import time
from collections.abc import AsyncIterator, Callable, Iterator, Sequence
from contextlib import asynccontextmanager, contextmanager
from types import TracebackType
from typing import Self

from yatagan.cli.terminal import terminal, text
from yatagan.cli.views.login_questions import AtTerminal, confirm
from yatagan.cli.views.progress import Progress
from yatagan.cli.views.progress_view import view_for
from yatagan.desk.desk import Desk
from yatagan.errors import Refused
from yatagan.operations.watching import Doing
from yatagan.places import Place
from yatagan.trees.hashing_watcher import HashingWatcher

#: Seconds until something is said, between changes on a terminal, and between lines where there is none.
_PATIENT, _CHANGED, _LINES = 1.0, 0.25, 20.0


class EntryCount:
    """Counts the entries that are read of some places, for one command.

    On a terminal one line is written over and over, else a line now and then; with `quiet` neither. Beyond the
    setting `tree.entries` it asks whether to go on; without a terminal it raises Refused.
    """

    def __init__(self, desk: Desk, places: list[Place], *, quiet: bool) -> None:
        self._desk = desk
        self._what = ", ".join(text.place(each.node, each.path or b".") for each in places[:2])
        self._what += f" and {len(places) - 2} more" if len(places) > 2 else ""
        self._quiet = quiet
        self._terminal = sys.stderr.isatty()
        self._most = desk.settings().tree.entries
        self._count = 0
        self._began = self._said = time.monotonic()
        self._drawn = False

    def heard(self, more: int) -> None:
        """So many more entries have been listed. Raises Refused when they are too many."""
        self._count += more
        if self._count > self._most:
            self._too_many()
        now = time.monotonic()
        pause = _CHANGED if self._terminal else _LINES
        if not self._quiet and now - self._began >= _PATIENT and now - self._said >= pause:
            self._said = now
            line = f"reading {self._what}: {text.number(self._count)} entries"
            self._drawn = self._terminal
            if self._terminal:
                terminal.say_over(line)
            else:
                terminal.say(line, err=True)

    def _too_many(self) -> None:
        self._wipe()
        what = f"there are more than {text.number(self._most)} entries in {self._what}"
        if self._desk.questions.attended and not self._quiet and confirm(f"{what[0].upper()}{what[1:]}. Go on?"):
            self._most *= 4
            return
        raise Refused(what, f"choose with --only, or allow more: yatagan config set tree.entries {self._most * 4}")

    def _wipe(self) -> None:
        if self._drawn:
            terminal.say_over()
            self._drawn = False

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._wipe()


class Shown:
    """Shows how far an operation is; see `Watcher`. With `quiet` it only stops what is too much."""

    def __init__(self, desk: Desk, *, quiet: bool) -> None:
        self._desk = desk
        self._quiet = quiet

    @contextmanager
    def reading(self, places: Sequence[Place]) -> Iterator[Callable[[int], None]]:
        with EntryCount(self._desk, list(places), quiet=self._quiet) as count:
            yield count.heard

    @asynccontextmanager
    async def hashing(self, doing: Doing) -> AsyncIterator[HashingWatcher]:
        progress = Progress(0, 0)
        progress.doing = f"{doing}: "
        view = view_for(progress, quiet=self._quiet)
        if isinstance(self._desk.questions, AtTerminal):
            self._desk.questions.aside = view.paused
        async with view:
            yield progress
