"""What a batch comes to: counts over its steps, for summaries and the ledger."""

from __future__ import annotations

from dataclasses import dataclass, field

from yatagan.batches.journal import Journal
from yatagan.batches.journal_data import Header, Standing
from yatagan.batches.states import BatchState, Evidence, StepState
from yatagan.batches.steps import StepKind
from yatagan.faults import CONSEQUENCES, Fault
from yatagan.transfer.extents import Extents


@dataclass(slots=True)
class BatchCounts:
    """Counts over the steps of a batch. Sizes in bytes, of files.

    Of all `files` those in place are `moved`; the rest is `left`, `waiting`, `failed_files` or `not_carried`, of which
    `newer` stayed because what is there is newer. `failed` counts steps of every kind, `failed_along` those of them
    that failed only because another did. Of the directories in place those `above` what was carried count apart.
    `replaced` are files and links in place that took the name of another, which is kept. `safe` bytes of what is
    waiting are on the destination's disk. `sent` is what the connection carried for all steps, `again` how much of it
    had been sent before and could not be trusted. Of `reusing` files in place `reused` bytes were there already, in
    what they have replaced; `holes` are zeros of them that were left out. `facts_set` counts files and directories
    whose modes or times alone were set, `facts_refused` those that refused it. `bundles` are those that directories are
    now stored as. `evidence` counts files in place by how we know of them.
    """

    header: Header
    standing: Standing
    files: int = 0
    moved: int = 0
    moved_size: int = 0
    left: int = 0
    left_size: int = 0
    waiting: int = 0
    waiting_size: int = 0
    safe: int = 0
    failed: int = 0
    failed_along: int = 0
    failed_files: int = 0
    not_carried: int = 0
    newer: int = 0
    replaced: int = 0
    directories: int = 0
    above: int = 0
    links: int = 0
    bundles: int = 0
    bundles_size: int = 0
    sent: int = 0
    again: int = 0
    reusing: int = 0
    reused: int = 0
    holes: int = 0
    facts_set: int = 0
    facts_refused: int = 0
    evidence: dict[Evidence, int] = field(default_factory=dict)

    @property
    def good(self) -> bool:
        """Whether it is finished, no step failed, and nothing was left because it is newer there."""
        return self.standing.state is BatchState.FINISHED and not self.failed and not self.newer


def outcome_of(journal: Journal) -> BatchCounts:
    """Count the steps of a batch."""
    outcome = BatchCounts(journal.header(), journal.standing())
    for row in journal.tally():
        outcome.sent += row.sent
        outcome.again += row.again
        is_file = row.kind is StepKind.FILE
        outcome.facts_set += row.setting if row.state is StepState.IN_PLACE else 0
        outcome.facts_refused += row.setting if row.state is StepState.LEFT else 0
        outcome.files += row.steps if is_file else 0
        if row.replacing and row.state is StepState.IN_PLACE and row.kind in (StepKind.FILE, StepKind.LINK):
            outcome.replaced += row.steps
        match row.state:
            case StepState.FAILED:
                outcome.failed += row.steps
                outcome.failed_along += row.steps if row.fault in CONSEQUENCES else 0
                outcome.failed_files += row.steps if is_file else 0
            case StepState.NOT_CARRIED:
                outcome.not_carried += row.steps
                outcome.newer += row.steps if row.fault is Fault.NEWER_THERE else 0
            case StepState.IN_PLACE if is_file:
                outcome.moved += row.steps
                outcome.moved_size += row.size
                outcome.reusing += row.reusing
                outcome.reused += row.reused
                outcome.holes += row.holes
                if row.evidence is not None:
                    outcome.evidence[row.evidence] = outcome.evidence.get(row.evidence, 0) + row.steps
            case StepState.IN_PLACE:
                outcome.directories += row.steps - row.above if row.kind is StepKind.DIRECTORY else 0
                outcome.above += row.above
                outcome.links += row.steps if row.kind is StepKind.LINK else 0
                if row.kind is StepKind.ARCHIVE:
                    outcome.bundles += row.steps
                    outcome.bundles_size += row.size
            case StepState.LEFT:
                outcome.left += row.steps if is_file else 0
                outcome.left_size += row.size if is_file else 0
            case _ if is_file:
                outcome.waiting += row.steps
                outcome.waiting_size += row.size
    outcome.safe = sum(Extents.decode(step.durable).total for step in journal.begun())
    return outcome
