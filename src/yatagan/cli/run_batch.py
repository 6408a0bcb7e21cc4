"""Carrying a batch from the command line, for `stage` and `batch resume`: view, signals, and the summary."""

from __future__ import annotations

import asyncio
import os
import posixpath
import signal
import sys
from collections.abc import Iterator
from typing import Any

import click

from yatagan.batches.batch_store import Batch
from yatagan.batches.counts import BatchCounts, outcome_of
from yatagan.batches.journal import Journal
from yatagan.batches.states import BatchState, Evidence, StepState
from yatagan.cli import messages, text
from yatagan.cli.conclusions import conclude_batch
from yatagan.cli.context import App, OpenSession
from yatagan.cli.json_fields import batch_json
from yatagan.cli.ledger_record import of_batch, record_json, record_row, warn_of
from yatagan.cli.login_questions import AtTerminal, confirm
from yatagan.cli.progress import Progress
from yatagan.cli.progress_view import view_for
from yatagan.cli.report import EventLines, Report
from yatagan.cli.strip_view import drawn, legend, strip_of
from yatagan.engine.run import BatchRun
from yatagan.errors import CannotReach, JournalError, Refused
from yatagan.faults import DESTINATION_FAULTS, SPACE_FAULTS, Fault
from yatagan.keeper.client import KeeperRun
from yatagan.places import KEPT_DIRECTORY
from yatagan.stores.interface import Source

#: Signals that stop a batch cleanly. The last is what `batch hold` and `batch cancel` send.
_STOPPING = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP, signal.SIGUSR1)
#: Failed steps named one by one before the rest are only counted.
_FAILURES_SHOWN = 10
#: Cells of the strip of a batch that is not finished, or not good.
_SUMMARY_CELLS = 40


async def carry(
    app: App, batch: Batch, journal: Journal, ends: tuple[Source, Source], report: Report
) -> tuple[BatchCounts, CannotReach | None]:
    """Run a batch whose lock is held. Returns its counts. An open node's keeper carries it."""
    before = outcome_of(journal)
    progress = _progress(journal, before, drawn=report.in_words and sys.stderr.isatty())
    view = EventLines(progress) if report is Report.JSON_LINES else view_for(progress, quiet=not report.in_words)

    nodes = [node for node in (before.header.source_node, before.header.destination_node) if node]
    keeper = app.keeper(nodes[0]) if len(nodes) == 1 else None  # no keeper has the other node
    run: BatchRun | KeeperRun
    if keeper is not None:
        run = KeeperRun(keeper, app.nodes().get(keeper.node), batch, journal, view.take)
        for end in ends:
            if isinstance(end, OpenSession):
                await end.release()
    else:
        run = BatchRun(batch, journal, ends, view.take, app.ledger(), app.connection().patience)
    if isinstance(app.answers, AtTerminal):
        app.answers.aside, app.answers.stop = view.paused, run.stop
    loop, warned = asyncio.get_running_loop(), False

    def stop() -> None:
        nonlocal warned
        if not warned:
            view.say("stopping: what has arrived is made safe first")
        warned = True
        run.stop()

    for number in _STOPPING:
        loop.add_signal_handler(number, stop)
    try:
        async with view:
            problem = await run.run()
    except JournalError as error:
        error.batch = batch.name
        raise
    finally:
        for number in _STOPPING:
            loop.remove_signal_handler(number)
    outcome = outcome_of(journal)
    if (
        report.in_words
        and app.questions
        and outcome.standing.fault is Fault.DESTINATION_GONE
        and _carries_again(outcome)
    ):
        journal.make_again(wanted=True)
        return await carry(app, batch, journal, ends, report)
    return outcome, problem


def _progress(journal: Journal, before: BatchCounts, *, drawn: bool) -> Progress:
    """The progress of a batch, of which some may be in place already. Its strip is read only if it is `drawn`."""
    files, size = before.moved + before.waiting, before.moved_size + before.waiting_size
    progress = Progress(files, size, strip_of(journal) if drawn else None)
    progress.done_before(before.moved, before.moved_size)
    return progress


def _carries_again(outcome: BatchCounts) -> bool:
    """Ask whether a destination that is gone is to be made again."""
    where = text.place(outcome.header.destination_node, os.fsencode(outcome.standing.detail))
    click.echo(f"{where} is gone. If it was only renamed, a second one would hold what is still to come.")
    return confirm("Make it again, and carry everything that was in it?")


def summary(app: App, journal: Journal, outcome: BatchCounts, problem: CannotReach | None) -> None:
    """Show the end of a run: what moved, was left, failed and why; the proof; the record."""
    header, standing = outcome.header, outcome.standing
    record = of_batch(app, standing.recorded)
    click.echo(
        click.style(f"Batch {header.id} is ", bold=True) + tinted(outcome, conclude_batch(outcome, problem).text)
    )
    if not outcome.good:
        show_strip(journal, _SUMMARY_CELLS)
    seconds = standing.seconds
    # Where not all of it was sent, the bytes of the files and those on the connection would make no sense together.
    rate = text.rate(outcome.moved, outcome.sent, seconds) if not outcome.reusing else f"{text.size(outcome.sent)} sent"
    text.facts(
        [
            (
                place_label(outcome),
                f"{text.count(outcome.moved, 'file')}, {text.size(outcome.moved_size)}"
                f" in {text.duration(seconds)}" + (f", {rate}" if rate else ""),
            ),
            ("", _besides(outcome)),
            ("stored", stored(outcome)),
            ("left as is", _left(outcome)),
            ("parts", parts(outcome)),
            *rest(outcome),
            ("sent again", f"{text.size(outcome.again)}, interrupted or changed meanwhile" if outcome.again else ""),
            ("proof", proof(outcome)),
            ("took", took(outcome)),
            record_row(record),
        ]
    )
    failures(journal, text.command("batch", "show", header.id, "--failed"))
    warn_of(record)
    if standing.state is not BatchState.FINISHED:
        what_next(outcome, problem)


def ended_json(app: App, outcome: BatchCounts) -> dict[str, Any]:
    """A batch at the end of a run, and what became of its record."""
    return {**record_json(of_batch(app, outcome.standing.recorded)), **batch_json(outcome)}


def refuse_cancelled(outcome: BatchCounts) -> None:
    """Raise Refused for a cancelled batch."""
    standing = outcome.standing
    if standing.state is BatchState.CANCELLED:
        raise Refused(
            f"batch {outcome.header.id} is cancelled"
            + (f": {standing.detail} took its place" if standing.detail else ""),
            f"go on with: {text.command('batch', 'resume', standing.detail)}" if standing.detail else "stage again",
        )


def took(outcome: BatchCounts) -> str:
    """The row for how long it took, against how long the plan said; "" for a batch that is not finished."""
    said, seconds = outcome.header.expected_seconds, outcome.standing.seconds
    if outcome.standing.state is not BatchState.FINISHED or not said:
        return ""
    return f"{text.duration(seconds)}; the plan said about {text.about(said)}"


def tinted(outcome: BatchCounts, words: str) -> str:
    """The state of a batch in the colour of its verdict."""
    tone = text.Tone.GOOD if outcome.good else text.Tone.TROUBLE if outcome.failed else text.Tone.WARNING
    return text.tinted(words, tone)


def show_strip(journal: Journal, count: int) -> None:
    """On a terminal, show the strip of a batch with what its shapes mean."""
    strip = strip_of(journal) if sys.stdout.isatty() else None
    if strip is not None and (cells := drawn(strip, count)):
        text.facts([("", f"{cells}  {legend(strip, count)}")])


def _besides(outcome: BatchCounts) -> str:
    parts = []
    if outcome.directories:
        parts.append(text.count(outcome.directories, "directory", "directories"))
    if outcome.links:
        parts.append(text.count(outcome.links, "link"))
    return "and " + ", ".join(parts) if parts else ""


def stored(outcome: BatchCounts) -> str:
    """The row for directories that were stored as bundles."""
    if not outcome.bundles:
        return ""
    return f"in {text.count(outcome.bundles, 'bundle')} of {text.size(outcome.bundles_size)}"


def parts(outcome: BatchCounts) -> str:
    """The row for files of which only changed parts were sent."""
    if not outcome.reusing:
        return ""
    return f"{text.size(outcome.reused)} of {text.count(outcome.reusing, 'file')} were there already and not sent"


def _left(outcome: BatchCounts) -> str:
    if not outcome.left:
        return ""
    return f"{text.count(outcome.left, 'file')}, {text.size(outcome.left_size)} not sent"


def place_label(outcome: BatchCounts) -> str:
    """What to call files with final names: if the destination is gone or another, they *were* in place."""
    return "was there" if outcome.standing.fault in DESTINATION_FAULTS else "in place"


def rest(outcome: BatchCounts) -> list[tuple[str, str]]:
    """Rows for what is not in place, and what was replaced."""
    waiting = f"{text.count(outcome.waiting, 'file')}, {text.size(outcome.waiting_size)}"
    return [
        ("given up" if _is_cancelled(outcome) else "waiting", waiting if outcome.waiting else ""),
        ("safe", _safe(outcome)),
        ("zeros", f"{text.size(outcome.holes)} of zeros left out: they are holes there" if outcome.holes else ""),
        ("replaced", _replaced(outcome)),
        ("newer there", _newer(outcome)),
        ("not carried", _not_carried(outcome)),
        ("failed", str(outcome.failed) if outcome.failed else ""),
    ]


def _is_cancelled(outcome: BatchCounts) -> bool:
    return outcome.standing.state is BatchState.CANCELLED


def _safe(outcome: BatchCounts) -> str:
    """How much of what is waiting is on the destination's disk already."""
    if not outcome.safe or outcome.standing.fault in DESTINATION_FAULTS or _is_cancelled(outcome):
        return ""
    return f"{text.size(outcome.safe)} of that is there already, and need not be sent again"


def _replaced(outcome: BatchCounts) -> str:
    """The row for what was replaced, and where it is kept."""
    if not outcome.replaced:
        return ""
    header = outcome.header
    kept = posixpath.join(header.destination, KEPT_DIRECTORY, header.id.encode())
    return (
        f"{text.count(outcome.replaced, 'file')}; what was there is kept in {text.place(header.destination_node, kept)}"
    )


def _newer(outcome: BatchCounts) -> str:
    """The row for files that stayed because they are newer."""
    if not outcome.newer:
        return ""
    return f"{text.count(outcome.newer, 'file')} left as it was there; --if-newer-there replace brings yours"


def _not_carried(outcome: BatchCounts) -> str:
    """The row for kinds that are not carried."""
    rest = outcome.not_carried - outcome.newer
    return text.count(rest, "entry", "entries") if rest else ""


_PROOFS = {
    Evidence.ON_NODE: "hashed on the node once synced, and equal (on-node)",
    Evidence.READ_BACK: "read back, hashed here, and equal (read-back)",
    Evidence.ON_ARRIVAL: "hashed here during the transfer (on-arrival)",
    Evidence.SENT: "in place, contents not looked at (sent)",
}


def proof(outcome: BatchCounts) -> str:
    """How the files in place were proven."""
    parts = [
        f"{text.count(many, 'file')} {_PROOFS.get(evidence, evidence.value)}"
        for evidence, many in sorted(outcome.evidence.items())
    ]
    return "; ".join(parts)


def failures(journal: Journal, more_by: str) -> None:
    """Show failed steps with their reasons. Many are only counted, as are those that failed because of another.

    `more_by`: the command that shows them all.
    """
    for line in failure_lines(journal, _FAILURES_SHOWN, more_by):
        click.echo(line)


def failure_lines(journal: Journal, most: int | None = None, more_by: str = "") -> Iterator[str]:
    """The lines of `failures`, for `most` failed steps, or for all."""
    shown = more = in_bundles = below = 0
    for step in journal.steps(StepState.FAILED):
        if step.fault is Fault.WITH_BUNDLE:
            in_bundles += 1
        elif step.fault is Fault.WITH_DIRECTORY:
            below += 1
        elif shown == most or step.fault is None:
            more += 1
        else:
            shown += 1
            why = messages.fault(step.fault, step.detail)
            yield text.tinted("  failed  ", text.Tone.TROUBLE) + f"{text.show(step.label)}: {why}"
            if advice := messages.step_remedy(step.fault):
                yield f"          {advice}"
    if in_bundles:
        yield f"          and with that {text.count(in_bundles, 'entry', 'entries')} that were to be in a bundle"
    if below:
        yield f"          and with that {text.count(below, 'entry', 'entries')} below such directories"
    if more:
        yield f"  and {text.number(more)} more: {more_by}"


def _missing(outcome: BatchCounts) -> str:
    """How much space is missing, if that is known."""
    standing = outcome.standing
    if standing.fault is not Fault.NO_SPACE or not standing.detail.isdigit():
        return ""
    free, needed = int(standing.detail), outcome.waiting_size - outcome.safe
    if free >= needed:
        return f", though it tells of {text.size(free)} that are free: a quota may be used up"
    return f": {text.size(needed)} are still to come, and {text.size(free)} were free"


def what_next(outcome: BatchCounts, problem: CannotReach | None, *, by_itself: bool = False) -> None:
    """Say why a batch does not move, and what lets it go on. `by_itself`: it does so without anyone's doing."""
    header, fault, detail = outcome.header, outcome.standing.fault, outcome.standing.detail
    resume = text.command("batch", "resume", header.id)
    if by_itself:
        click.echo(f"  It goes on by itself. At once, in this terminal: {resume}")
        return
    if fault in DESTINATION_FAULTS:
        where = text.place(header.destination_node, os.fsencode(detail))
        click.echo(f"  {where}: {messages.fault(fault)}")
        click.echo(f"  If it was only moved away, put it back; then: {resume}")
        if fault is Fault.DESTINATION_GONE:
            click.echo(f"  To make it again and carry everything that was in it: {resume} --make-again")
        return
    if fault in (Fault.OTHER_DISK, Fault.NO_PROOF):
        click.echo(f"  {header.destination_node}: {messages.fault(fault)}")
        click.echo("  What has arrived has no final names yet. To prove it by reading it back:")
        click.echo(f"    {resume} --prove read-back")
        click.echo(f"  To do without proof: {resume} --prove none")
        return
    if problem is not None:
        click.echo(f"  {messages.explain(problem)}")
    elif fault in SPACE_FAULTS:
        click.echo(f"  {messages.fault(fault)}{_missing(outcome)}; {messages.remedy(fault)}")
    elif fault is not None and outcome.standing.state is BatchState.HELD:
        where = f"{text.place(header.destination_node, os.fsencode(detail))}: " if detail else ""
        advice = messages.step_remedy(fault)
        click.echo(f"  {where}{messages.fault(fault)}{f'; {advice}' if advice else ''}")
    click.echo(f"  Nothing is lost. Go on with: {resume}")
