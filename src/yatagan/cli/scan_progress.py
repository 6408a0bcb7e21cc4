"""Shows what is being read and how much, and stops where it is more than the user can have meant."""

from __future__ import annotations

import sys
import time
from collections.abc import AsyncIterator, Callable, Iterator, Sequence
from contextlib import AbstractAsyncContextManager, asynccontextmanager, contextmanager
from types import TracebackType
from typing import Self

from yatagan.cli import terminal, text
from yatagan.cli.context import App
from yatagan.cli.login_questions import AtTerminal, confirm
from yatagan.cli.progress import Progress
from yatagan.cli.progress_view import view_for
from yatagan.errors import Refused
from yatagan.places import Place
from yatagan.planning.contents_comparison import ContentsComparison
from yatagan.trees.remembered_digests import RememberedDigests

#: Seconds until something is said, between changes on a terminal, and between lines where there is none.
_PATIENT, _CHANGED, _LINES = 1.0, 0.25, 20.0


class EntryCount:
    """Counts the entries that are read of some places, for one command.

    On a terminal one line is written over and over, else a line now and then; with `quiet` neither. Beyond the
    setting `tree.entries` it asks whether to go on; without a terminal it raises Refused.
    """

    def __init__(self, app: App, places: list[Place], *, quiet: bool) -> None:
        self._app = app
        self._what = ", ".join(text.place(each.node, each.path or b".") for each in places[:2])
        self._what += f" and {len(places) - 2} more" if len(places) > 2 else ""
        self._quiet = quiet
        self._terminal = sys.stderr.isatty()
        self._most = app.settings().tree.entries
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
        if self._app.questions.attended and not self._quiet and confirm(f"{what[0].upper()}{what[1:]}. Go on?"):
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


class AtPlanning:
    """Shows how far a plan is; see `PlanWatcher`. With `quiet` it only stops what is too much."""

    def __init__(self, app: App, *, quiet: bool) -> None:
        self._app = app
        self._quiet = quiet

    @contextmanager
    def reading(self, places: Sequence[Place]) -> Iterator[Callable[[int], None]]:
        """See `PlanWatcher`."""
        with EntryCount(self._app, list(places), quiet=self._quiet) as count:
            yield count.heard

    def comparing(self, *, wanted: bool) -> AbstractAsyncContextManager[ContentsComparison | None]:
        """See `PlanWatcher`."""
        return comparing_contents(self._app, wanted=wanted, quiet=self._quiet)


@asynccontextmanager
async def comparing_contents(app: App, *, wanted: bool, quiet: bool) -> AsyncIterator[ContentsComparison | None]:
    """How contents are compared, if that was asked for, and the view that shows it."""
    if not wanted:
        yield None
        return
    progress = Progress(0, 0)
    progress.doing = "comparing contents: "
    memory = RememberedDigests(app.home.digests)
    view = view_for(progress, quiet=quiet)
    if isinstance(app.questions, AtTerminal):
        app.questions.aside = view.paused
    try:
        async with view:
            yield ContentsComparison(memory, progress)
    finally:
        memory.close()
