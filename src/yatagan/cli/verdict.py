"""What a command comes to, in one clause, and the exit status that goes with it: both follow from the counts."""

from __future__ import annotations

from dataclasses import dataclass

from yatagan.batches.outcome import Outcome
from yatagan.batches.plan import Summary
from yatagan.batches.states import BatchState
from yatagan.cli import text
from yatagan.cli.words import Exit
from yatagan.errors import CannotReach, Fault


@dataclass(frozen=True, slots=True)
class Verdict:
    """A clause, and what the program ends with."""

    text: str
    status: Exit


def of_plan(counts: Summary) -> Verdict:
    """Of a plan that moves nothing, or is only shown."""
    wrong = [
        f"{_many(counts.in_the_way, 'name is', 'names are')} taken by something of another kind",
        f"{_many(counts.unread, 'entry', 'entries')} could not be read",
        f"{_many(counts.newer, 'file is', 'files are')} newer there",
    ]
    found = [
        clause for clause, many in zip(wrong, (counts.in_the_way, counts.unread, counts.newer), strict=True) if many
    ]
    status = Exit.DIFFERENCES if found else Exit.GOOD
    if counts.anything:
        return Verdict("", status)
    if found:
        return Verdict(f"Nothing moved: {'; '.join(found)}.", status)
    if counts.not_carried:
        return Verdict(f"Nothing moved: {_many(counts.not_carried, 'entry', 'entries')} of a kind not carried.", status)
    if counts.left or not counts.skipped:
        return Verdict("Nothing to move: everything is there already.", status)
    return Verdict("Nothing to move: nothing is chosen.", status)


def of_batch(outcome: Outcome, problem: CannotReach | None = None) -> Verdict:
    """Of a batch as it stands."""
    state, fault = outcome.standing.state, outcome.standing.fault
    if state is BatchState.FINISHED:
        parts = []
        if outcome.failed:
            parts.append(f"{text.count(outcome.failed, 'step')} failed")
        if outcome.newer:
            parts.append(f"{_many(outcome.newer, 'file', 'files')} left that {_is(outcome.newer)} newer there")
        status = Exit.DIFFERENCES if parts else Exit.GOOD
        return Verdict(", ".join(["finished", *parts]), status)
    words = {BatchState.NEEDS_LOGIN: "waiting for somebody to log in"}.get(state, state.value)
    if fault is Fault.DESTINATION_MOVED:
        return Verdict(words, Exit.REFUSED)
    if fault in (Fault.OTHER_DISK, Fault.NO_PROOF):
        return Verdict(words, Exit.DIFFERENCES)
    if problem is not None and not problem.passing:
        return Verdict(words, Exit.NO_LOGIN)
    return Verdict(words, Exit.INTERRUPTED)


def _many(many: int, one: str, more: str) -> str:
    return f"{text.number(many)} {one if many == 1 else more}"


def _is(many: int) -> str:
    return "is" if many == 1 else "are"
