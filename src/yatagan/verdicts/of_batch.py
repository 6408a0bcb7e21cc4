"""What a batch has put into its destination, as claims: so that it can be asked, long after, whether that is so."""

from __future__ import annotations

from yatagan.batches.journal import Journal
from yatagan.batches.states import StepState
from yatagan.batches.steps import MEMBERS_PHASE, Modes, StepKind, Times
from yatagan.digests.checksum_lists import Listed
from yatagan.trees.checksum_record import Expected
from yatagan.trees.patterns import Choice
from yatagan.verdicts.claims import Claims

_WITH_CONTENTS = frozenset({StepKind.FILE, StepKind.ARCHIVE, StepKind.INDEX})
_WITH_FACTS = frozenset({StepKind.FILE, StepKind.LINK, StepKind.DIRECTORY})


def claims_of_batch(journal: Journal, choice: Choice) -> Claims:
    """What a batch has put there, or found right already; by paths below its destination. Raises JournalError.

    Of files that were never hashed there are sizes and times alone. Of directories that become bundles it is the bundle
    that is on record, not its members.
    """
    listed: list[Listed] = []
    expected: dict[bytes, Expected] = {}
    for step in journal.steps(StepState.IN_PLACE, StepState.LEFT):
        if step.phase == MEMBERS_PHASE or not choice.chooses(step.label) or not step.label:
            continue
        if step.kind in _WITH_CONTENTS and step.digest:
            listed.append(Listed(step.label, step.digest))
        if step.kind in _WITH_FACTS:
            expected[step.label] = Expected(step.facts, step.target)
    header = journal.header()
    keeps_modes, keeps_times = header.modes is Modes.KEEP, header.times is Times.KEEP
    return Claims(listed, expected, whole=False, modes=keeps_modes, times=keeps_times)
