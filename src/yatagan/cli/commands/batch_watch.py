"""`yatagan batch watch`: batches as they move, from any terminal. Watching changes nothing, and leaving it neither.

The process that carries a batch is not asked: its journal says what is done, and a small file beside it what is under
way. Both are polled, and changes go to the same view that a stage has.
"""

from __future__ import annotations

import asyncio
import contextlib
import signal
import sys
import time

import click

from yatagan.background.leaving import attend
from yatagan.batches import events as ev
from yatagan.batches.activity import Activity
from yatagan.batches.batch_store import Batch, Batches
from yatagan.batches.counts import BatchCounts, outcome_of
from yatagan.batches.snapshot import Snapshot
from yatagan.batches.states import BatchState
from yatagan.cli import shell_completion
from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.answers.json_fields import batch_json
from yatagan.cli.context import App, as_json, run
from yatagan.cli.terminal import terminal, text
from yatagan.cli.views import batch_summary
from yatagan.cli.views.progress import Progress
from yatagan.cli.views.report import Report, json_lines, say_event
from yatagan.cli.views.strip_view import strip_of
from yatagan.cli.words.batch_words import by_itself, from_to, state_words, trouble
from yatagan.cli.words.conclusions import conclude_batch
from yatagan.cli.words.exit_status import ExitStatus

#: Seconds between looks; a look takes no more than a tenth of the time.
_LOOK, _SHARE = 0.5, 10
#: Seconds for which a batch whose worker has ended is watched for the next one.
_LONE = 10.0
#: Seconds between plain lines, and between lines of JSON.
_LINES, _JSON_LINES = 10.0, 1.0


@click.command(
    "watch",
    epilog="""\b
Examples:
  yatagan batch watch
  yatagan batch watch k7qd""",
)
@click.argument("ids", nargs=-1, metavar="[ID]...", shell_complete=shell_completion.batches)
@as_json
@json_lines
def watch_command(ids: tuple[str, ...], json_: bool, lines: bool) -> None:
    """Watch batches, without ID all that move or are queued, until they do nothing more by themselves.

    Ctrl-C leaves: the batches go on. The exit status is that of the batch, or of the first that is not good.
    """
    app = App.start(questions=False)
    report = Report.chosen(quiet=False, json_=json_, lines=lines)
    batches = Batches(app.home.batches)
    chosen = [batches.find(id) for id in dict.fromkeys(ids)] if ids else _active(app, batches)
    if not chosen:
        _tell_none(report)
        return
    attend(app)
    status = run(_Watch(app, chosen, report).run())
    if status:
        raise click.exceptions.Exit(status)


def _active(app: App, batches: Batches) -> list[Batch]:
    """The batches that move or are queued, oldest first."""
    activities = app.activities()
    found = [
        batch
        for batch, journal in batches.opened(finished=False)
        if _waits_or_moves(activities.of(batch, journal.standing().state))
    ]
    return found[::-1]


def _waits_or_moves(now: Activity) -> bool:
    return by_itself(now) or (now.state is BatchState.QUEUED and now.entry is not None)


def _tell_none(report: Report) -> None:
    if report.for_scripts:
        say_json({"batches": []})
    else:
        terminal.say("No batch moves. What there is: yatagan batch list")


class Watched:
    """One batch that is watched: its progress, and what is said of it."""

    def __init__(self, batch: Batch) -> None:
        self.batch = batch
        self.progress = Progress(0, 0)
        self.title = batch.name
        self.goes_on = True
        self.status = ExitStatus.GOOD
        self._snapshot: Snapshot | None = None
        self._next = 0.0
        self._alone_since: float | None = None
        #: What it waits for where nothing will carry it; "" otherwise.
        self.alone = ""

    def look(self, app: App, *, drawn: bool) -> None:
        """Look at it. Its strip is read only if it is `drawn`. Raises JournalError."""
        began = time.monotonic()
        if began < self._next:
            return
        with contextlib.closing(self.batch.journal()) as journal:
            outcome = outcome_of(journal)
            strip = strip_of(journal) if drawn else None
            now = app.activities().of(self.batch, outcome.standing.state)
        self.title = f"{self.batch.name}  {from_to(outcome.header)}"
        if by_itself(now):
            self._alone_since = None
        elif self._alone_since is None:
            self._alone_since = time.monotonic()
        self.alone = "" if by_itself(now) else state_words(outcome, now)
        queued = now.entry is not None and now.state is BatchState.QUEUED
        lone = time.monotonic() - self._alone_since if self._alone_since is not None else 0.0
        self.goes_on = self._alone_since is None or (queued and lone < _LONE)
        if not self.goes_on:
            self.status = conclude_batch(outcome).status
        self._under_way(now)
        files = outcome.moved + outcome.waiting + outcome.failed_files
        size = outcome.moved_size + outcome.waiting_size
        self.progress.look(files, size, files - outcome.waiting, outcome.moved_size, strip)
        self._say(outcome, now)
        self._next = time.monotonic() + max(_LOOK, _SHARE * (time.monotonic() - began))

    def _under_way(self, now: Activity) -> None:
        """Tell the progress of what is under way."""
        progress, snapshot = self.progress, now.snapshot
        moving = snapshot.moving if snapshot is not None else {}
        for number in set(progress.moving) - set(moving):
            progress.forget(number)
        for number, each in moving.items():
            if number not in progress.moving:
                began = ev.BundleMade(number, each.label, each.done, each.size)
                started = ev.StepStarted(number, each.kind, each.label, each.size, each.done)
                progress.take(began if each.made else started)
                progress.moving[number].began = time.monotonic() - (time.time() - each.began)
            elif (more := each.done - progress.moving[number].done) > 0:
                progress.take(ev.BytesMoved(number, more))
        self._snapshot = snapshot

    def _say(self, outcome: BatchCounts, now: Activity) -> None:
        """What is the matter, if it does not move."""
        progress, snapshot = self.progress, now.snapshot
        progress.trouble = progress.quiet = ""
        if not now.is_carried or (now.holder is not None and now.holder.is_stopped):
            progress.trouble = state_words(outcome, now)
        elif snapshot is not None and snapshot.fault is not None:
            progress.trouble = trouble(snapshot)
        elif snapshot is not None and snapshot.quiet:
            name = text.show(snapshot.quiet_node) or "the disk"
            progress.quiet = f"{name} has not answered for {text.duration(snapshot.quiet)}"


class _Watch:
    """Watches several batches until none goes on."""

    def __init__(self, app: App, batches: list[Batch], report: Report) -> None:
        self._app = app
        self._watched = [Watched(batch) for batch in batches]
        self._report = report
        self._left = asyncio.Event()

    async def run(self) -> int:
        """Returns the exit status."""
        loop = asyncio.get_running_loop()
        loop.add_signal_handler(signal.SIGINT, self._left.set)
        drawn = self._report.in_words and sys.stderr.isatty()
        view = _drawn(self._watched) if drawn else contextlib.nullcontext()
        told = 0.0
        with view:
            while not self._left.is_set():
                for each in self._watched:
                    each.look(self._app, drawn=drawn)
                if not any(each.goes_on for each in self._watched):
                    break
                if not drawn and time.monotonic() - told >= (_LINES if self._report.in_words else _JSON_LINES):
                    told = time.monotonic()
                    self._tell()
                with contextlib.suppress(TimeoutError):
                    async with asyncio.timeout(_LOOK):
                        await self._left.wait()
        return self._end()

    def _tell(self) -> None:
        """Where nothing is drawn: a line for each batch."""
        for each in self._watched:
            if self._report is Report.JSON_LINES:
                say_event("batch", {"batch": _answer(self._app, each.batch)})
            elif self._report.in_words:
                name = f"{each.batch.name}  " if len(self._watched) > 1 else ""
                words = each.progress.trouble or each.progress.counts()
                terminal.say(f"{time.strftime('%H:%M:%S')}  {name}{words}", err=True)

    def _end(self) -> int:
        """Say how it ended, or that it goes on."""
        if self._report is Report.JSON:
            say_json({"batches": [_answer(self._app, each.batch) for each in self._watched]})
        elif self._report is Report.JSON_LINES:
            self._tell()
        else:
            for each in self._watched:
                if each.goes_on and each.alone:
                    resume = text.command("batch", "resume", each.batch.name)
                    terminal.say(f"Batch {each.batch.name} {each.alone}. Go on with: {resume}")
                elif each.goes_on:
                    terminal.say(f"Batch {each.batch.name} goes on without you.")
                else:
                    _summary(self._app, each.batch)
        return next((each.status for each in self._watched if each.status), ExitStatus.GOOD)


def _answer(app: App, batch: Batch) -> dict[str, object]:
    with contextlib.closing(batch.journal()) as journal:
        outcome = outcome_of(journal)
        return batch_json(outcome, app.activities().of(batch, outcome.standing.state))


def _summary(app: App, batch: Batch) -> None:
    with contextlib.closing(batch.journal()) as journal:
        batch_summary.summary(app, journal, outcome_of(journal), None)


def _drawn(watched: list[Watched]) -> contextlib.AbstractContextManager[object]:
    from yatagan.cli.views.live_view import several

    return several([(lambda each=each: each.title, each.progress) for each in watched])  # type: ignore[misc]
