"""What a batch has come to, in words: the summary at the end of a run, and the rows that `batch show` has as well."""

from __future__ import annotations

import os
import posixpath
import sys
from collections.abc import Iterator

from yatagan.batches.counts import BatchCounts
from yatagan.batches.journal import Journal
from yatagan.batches.states import CARRIED, BatchState, Evidence, StepState
from yatagan.cli.terminal import terminal, text
from yatagan.cli.views.strip_view import drawn, legend, strip_of
from yatagan.cli.words import fault_words, messages
from yatagan.cli.words.conclusions import conclude_batch
from yatagan.cli.words.record_words import record_row, warn_of
from yatagan.desk.desk import Desk
from yatagan.errors import Trouble
from yatagan.faults import DESTINATION_FAULTS, SPACE_FAULTS, Fault
from yatagan.operations.put_on_record import record_of_batch
from yatagan.places import KEPT_DIRECTORY

#: Failed steps named one by one before the rest are only counted.
FAILURES_SHOWN = 10
#: Cells of the strip of a batch that is not finished, or not good.
_SUMMARY_CELLS = 40


def summary(desk: Desk, journal: Journal, outcome: BatchCounts, problem: Trouble | None) -> None:
    """Show the end of a run: what moved, was left, failed and why; the proof; the record."""
    verdict = conclude_batch(outcome, problem).text
    terminal.say(terminal.style(f"Batch {outcome.header.id} is ", bold=True) + tinted(outcome, verdict))
    if not outcome.good:
        show_strip(journal, _SUMMARY_CELLS)
    for line in summary_lines(desk, journal, outcome, problem):
        terminal.say(line)
    warn_of(record_of_batch(desk, outcome))


def summary_lines(
    desk: Desk, journal: Journal, outcome: BatchCounts, problem: Trouble | None, *, wide: int | None = None
) -> Iterator[str]:
    """The lines of a summary below its verdict, for the terminal or so many columns."""
    header, standing = outcome.header, outcome.standing
    seconds = standing.seconds
    # Where not all of it was sent, the bytes of the files and those on the connection would make no sense together.
    rate = text.rate(outcome.moved, outcome.sent, seconds) if not outcome.reusing else f"{text.size(outcome.sent)} sent"
    yield from text.fact_lines(
        [
            *_done(outcome, f" in {text.duration(seconds)}" + (f", {rate}" if rate else "")),
            ("stored", stored(outcome)),
            ("left as is", _left(outcome)),
            ("parts", parts(outcome)),
            *rest(outcome),
            ("sent again", f"{text.size(outcome.again)}, interrupted or changed meanwhile" if outcome.again else ""),
            ("proof", proof(outcome)),
            ("took", took(outcome)),
            record_row(record_of_batch(desk, outcome)),
        ],
        wide=wide,
    )
    yield from failure_lines(journal, FAILURES_SHOWN, text.command("batch", "show", header.id, "--failed"))
    if standing.state is not BatchState.FINISHED:
        yield from next_lines(outcome, problem)


def took(outcome: BatchCounts) -> str:
    """The row for how long it took, against how long the plan said; "" for a batch that is not finished."""
    said, seconds = outcome.header.expected_seconds, outcome.standing.seconds
    if outcome.standing.state is not BatchState.FINISHED or not said:
        return ""
    return f"{text.duration(seconds)}; the plan said about {text.about(said)}"


def tinted(outcome: BatchCounts, words: str) -> str:
    """The state of a batch in the colour of its verdict; one that goes on has none yet."""
    if outcome.standing.state in CARRIED and not outcome.failed:
        return words
    tone = text.Tone.GOOD if outcome.good else text.Tone.TROUBLE if outcome.failed else text.Tone.WARNING
    return text.tinted(words, tone)


def show_strip(journal: Journal, count: int) -> None:
    """On a terminal, show the strip of a batch with what its shapes mean."""
    strip = strip_of(journal) if sys.stdout.isatty() else None
    if strip is not None and (cells := drawn(strip, count)):
        text.facts([("", f"{cells}  {legend(strip, count)}")])


def _done(outcome: BatchCounts, took: str) -> Iterator[tuple[str, str]]:
    """The rows for what is in place; where only modes and times were to be set, for that."""
    others = outcome.files - outcome.left - outcome.not_carried
    if outcome.facts_set and not (others or outcome.failed or outcome.directories or outcome.above or outcome.links):
        yield "set", f"modes and times of {_were_there(outcome)}{took}"
        return
    yield place_label(outcome), f"{text.count(outcome.moved, 'file')}, {text.size(outcome.moved_size)}{took}"
    yield "", _besides(outcome)


def _were_there(outcome: BatchCounts) -> str:
    return f"{text.count(outcome.facts_set, 'entry that was', 'entries that were')} there"


def _besides(outcome: BatchCounts) -> str:
    parts = []
    if outcome.directories or outcome.above:
        parts.append(text.directories(outcome.directories, outcome.above))
    if outcome.links:
        parts.append(text.count(outcome.links, "link"))
    if outcome.facts_set:
        parts.append(f"modes and times of {_were_there(outcome)}")
    if outcome.facts_refused:
        parts.append(f"not those of {text.number(outcome.facts_refused)}: refused there")
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


def failure_lines(journal: Journal, most: int | None = None, more_by: str = "") -> Iterator[str]:
    """Failed steps with their reasons, at most so many of them; those that failed because of another are only counted.

    `more_by`: the command that shows them all.
    """
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
            why = fault_words.fault(step.fault, step.detail)
            yield text.tinted("  failed  ", text.Tone.TROUBLE) + f"{text.show(step.label)}: {why}"
            if advice := fault_words.step_remedy(step.fault):
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


def next_lines(
    outcome: BatchCounts, problem: Trouble | None, *, by_itself: bool = False, queued: bool = False
) -> Iterator[str]:
    """Why a batch does not move, and what lets it go on.

    `by_itself`: no person has to do anything. `queued`: it is in the queue, so a login is all that it needs.
    """
    header, fault, detail = outcome.header, outcome.standing.fault, outcome.standing.detail
    resume = text.command("batch", "resume", header.id)
    if by_itself:
        yield f"  It goes on by itself. At once, in this terminal: {resume}"
        return
    if queued and outcome.standing.state is BatchState.NEEDS_LOGIN:
        node = header.destination_node or header.source_node
        yield f"  Nothing is lost. It goes on when you have logged in: {text.command('node', 'open', node)}"
        return
    if fault in DESTINATION_FAULTS:
        where = text.place(header.destination_node, os.fsencode(detail))
        yield f"  {where}: {fault_words.fault(fault)}"
        yield f"  If it was only moved away, put it back; then: {resume}"
        if fault is Fault.DESTINATION_GONE:
            yield f"  To make it again and carry everything that was in it: {resume} --make-again"
        return
    if fault in (Fault.OTHER_DISK, Fault.NO_PROOF):
        yield f"  {header.destination_node}: {fault_words.fault(fault)}"
        yield "  What is not in place gets no final name without proof. To prove it by reading it back:"
        yield f"    {resume} --prove read-back"
        yield f"  To do without proof: {resume} --prove none"
        return
    if problem is not None:
        yield f"  {messages.explain(problem)}"
    elif fault in SPACE_FAULTS:
        yield f"  {fault_words.fault(fault)}{_missing(outcome)}; {fault_words.remedy(fault)}"
    elif fault is not None and outcome.standing.state is BatchState.HELD:
        where = f"{text.place(header.destination_node, os.fsencode(detail))}: " if detail else ""
        advice = fault_words.step_remedy(fault)
        yield f"  {where}{fault_words.fault(fault)}{f'; {advice}' if advice else ''}"
    yield f"  Nothing is lost. Go on with: {resume}"
