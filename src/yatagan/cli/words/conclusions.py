"""What a plan or a batch comes to: one clause and its exit status, both from the counts."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from yatagan.batches.counts import BatchCounts
from yatagan.batches.states import BatchState
from yatagan.cli.terminal import text
from yatagan.cli.words import fault_words
from yatagan.cli.words.exit_status import ExitStatus
from yatagan.errors import CannotReach, Trouble
from yatagan.faults import SPACE_FAULTS, Fault
from yatagan.planning.plan import Summary


@dataclass(frozen=True, slots=True)
class Conclusion:
    """How a command ends: one clause, and the exit status."""

    text: str
    status: ExitStatus


def conclude_plan(counts: Summary, unmatched: Sequence[bytes] = ()) -> Conclusion:
    """The conclusion of a plan that moves nothing, or is only shown. `unmatched`: patterns that match nothing."""
    wrong = [
        (counts.in_the_way, ("name is", "names are"), "taken by something of another kind"),
        (counts.clashes, ("name clashes", "names clash"), "with another on the disk there, which ignores case"),
        (counts.unread, ("entry", "entries"), "could not be read"),
        (counts.newer, ("file is", "files are"), "newer there"),
    ]
    found = [f"{text.count(many, *noun)} {what}" for many, noun, what in wrong if many]
    found += [f"{text.show(pattern)} matches nothing" for pattern in unmatched]
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


def conclude_batch(outcome: BatchCounts, problem: Trouble | None = None) -> Conclusion:
    """The conclusion of a batch as it stands."""
    state, fault = outcome.standing.state, outcome.standing.fault
    match state:
        case BatchState.FINISHED:
            return _finished(outcome)
        case BatchState.NEEDS_LOGIN:
            return Conclusion("waiting for a login", ExitStatus.NO_LOGIN)
        case BatchState.HELD if fault is not None:
            return Conclusion(f"held: {fault_words.of_destination(fault)}", _held_status(fault))
    if isinstance(problem, CannotReach) and not problem.passing:
        return Conclusion(state.value, ExitStatus.NO_LOGIN)
    return Conclusion(state.value, ExitStatus.INTERRUPTED)


def _finished(outcome: BatchCounts) -> Conclusion:
    parts = []
    if outcome.failed:
        along = f", and {text.number(outcome.failed_along)} with that" if outcome.failed_along else ""
        parts.append(f"{text.count(outcome.failed - outcome.failed_along, 'step')} failed{along}")
    if outcome.newer:
        parts.append(
            text.count(outcome.newer, "file that is newer there is left", "files that are newer there are left")
        )
    status = ExitStatus.DIFFERENCES if parts else ExitStatus.GOOD
    return Conclusion(", ".join(["finished", *parts]), status)


def _held_status(fault: Fault) -> ExitStatus:
    """What a command ends with whose batch was held by a fault; where only space is missing, as if interrupted."""
    return ExitStatus.INTERRUPTED if fault in SPACE_FAULTS else fault_words.status(fault)
