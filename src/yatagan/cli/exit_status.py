"""The exit statuses, and what a plan or batch comes to: one clause and its status, both from the counts."""

from __future__ import annotations

from dataclasses import dataclass
from enum import IntEnum

from yatagan.batches.counts import BatchCounts
from yatagan.batches.states import BatchState
from yatagan.cli import text
from yatagan.errors import CannotReach, Fault
from yatagan.planning.plan import Summary


class ExitStatus(IntEnum):
    """What the program's exit status means."""

    GOOD = 0
    DIFFERENCES = 1
    USAGE = 2
    NO_LOGIN = 3
    INTERRUPTED = 4
    REFUSED = 5


@dataclass(frozen=True, slots=True)
class Conclusion:
    """How a command ends: one clause, and the exit status."""

    text: str
    status: ExitStatus


def of_plan(counts: Summary) -> Conclusion:
    """The conclusion of a plan that moves nothing, or is only shown."""
    wrong = [
        (counts.in_the_way, ("name is", "names are"), "taken by something of another kind"),
        (counts.clashes, ("name clashes", "names clash"), "with another on the disk there, which ignores case"),
        (counts.unread, ("entry", "entries"), "could not be read"),
        (counts.newer, ("file is", "files are"), "newer there"),
    ]
    found = [f"{text.count(many, *noun)} {what}" for many, noun, what in wrong if many]
    status = ExitStatus.DIFFERENCES if found else ExitStatus.GOOD
    if counts.anything:
        return Conclusion("", status)
    if found:
        return Conclusion(f"Nothing moved: {'; '.join(found)}.", status)
    if counts.not_carried:
        return Conclusion(
            f"Nothing moved: {text.count(counts.not_carried, 'entry', 'entries')} of a kind not carried.", status
        )
    if counts.left or not counts.skipped:
        return Conclusion("Nothing to move: everything is there already.", status)
    return Conclusion("Nothing to move: nothing is chosen.", status)


def of_batch(outcome: BatchCounts, problem: CannotReach | None = None) -> Conclusion:
    """The conclusion of a batch as it stands."""
    state, fault = outcome.standing.state, outcome.standing.fault
    if state is BatchState.FINISHED:
        parts = []
        if outcome.failed:
            parts.append(f"{text.count(outcome.failed, 'step')} failed")
        if outcome.newer:
            parts.append(
                text.count(outcome.newer, "file that is newer there is left", "files that are newer there are left")
            )
        status = ExitStatus.DIFFERENCES if parts else ExitStatus.GOOD
        return Conclusion(", ".join(["finished", *parts]), status)
    words = {
        BatchState.NEEDS_LOGIN: "waiting for a login",
        BatchState.HELD: "held (no space)",
    }.get(state, state.value)
    if fault is Fault.DESTINATION_MOVED:
        return Conclusion(words, ExitStatus.REFUSED)
    if fault in (Fault.OTHER_DISK, Fault.NO_PROOF):
        return Conclusion(words, ExitStatus.DIFFERENCES)
    if problem is not None and not problem.passing:
        return Conclusion(words, ExitStatus.NO_LOGIN)
    return Conclusion(words, ExitStatus.INTERRUPTED)
