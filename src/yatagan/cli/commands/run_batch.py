"""Carrying a batch from the command line, for `stage` and `batch resume`: view, signals, and the summary."""

from __future__ import annotations

import os
import sys

from yatagan.batches.counts import BatchCounts
from yatagan.batches.journal import Journal
from yatagan.cli.context import App
from yatagan.cli.terminal import stop_signals, terminal, text
from yatagan.cli.views.login_questions import AtTerminal, confirm
from yatagan.cli.views.progress import Progress
from yatagan.cli.views.progress_view import view_for
from yatagan.cli.views.report import EventLines, Report
from yatagan.cli.views.strip_view import strip_of
from yatagan.errors import CannotReach, JournalError
from yatagan.faults import Fault
from yatagan.operations.accepted_batch import AcceptedBatch


async def carry(app: App, accepted: AcceptedBatch, report: Report) -> tuple[BatchCounts, CannotReach | None]:
    """Carry a batch. Returns its counts, and why the last try to connect failed."""
    before, journal = accepted.outcome, accepted.journal
    progress = _progress(journal, before, drawn=report.in_words and sys.stderr.isatty())
    view = EventLines(progress) if report is Report.JSON_LINES else view_for(progress, quiet=not report.in_words)

    if isinstance(app.questions, AtTerminal):
        app.questions.aside, app.questions.stop = view.paused, accepted.stop
    warned = False

    def stop() -> None:
        nonlocal warned
        if not warned:
            view.say("stopping: what has arrived is made safe first")
        warned = True
        accepted.stop()

    try:
        async with view:
            with stop_signals.handled(stop):
                problem = await accepted.carry(view.take)
    except JournalError as error:
        error.batch = accepted.name
        raise
    outcome = accepted.outcome
    if (
        report.in_words
        and app.questions.attended
        and outcome.standing.fault is Fault.DESTINATION_GONE
        and _carries_again(outcome)
    ):
        journal.make_again(wanted=True)
        return await carry(app, accepted, report)
    return outcome, problem


def _progress(journal: Journal, before: BatchCounts, *, drawn: bool) -> Progress:
    """The progress of a batch, of which some may be in place already. Its strip is read only if it is `drawn`."""
    files, size = before.moved + before.waiting, before.moved_size + before.waiting_size
    progress = Progress(files, size, strip_of(journal) if drawn else None)
    progress.limit = float(journal.header().max_rate)
    progress.done_before(before.moved, before.moved_size)
    return progress


def _carries_again(outcome: BatchCounts) -> bool:
    """Ask whether a destination that is gone is to be made again."""
    where = text.place(outcome.header.destination_node, os.fsencode(outcome.standing.detail))
    terminal.say(f"{where} is gone. If it was only renamed, a second one would hold what is still to come.")
    return confirm("Make it again, and carry everything that was in it?")
