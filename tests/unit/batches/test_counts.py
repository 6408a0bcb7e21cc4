"""The counts of a batch's states."""

from __future__ import annotations

import random
from dataclasses import replace

from hypothesis import given
from hypothesis import strategies as st

from yatagan.batches.counts import outcome_of
from yatagan.batches.journal import Journal
from yatagan.batches.journal_data import Header
from yatagan.batches.states import STEP_MOVES, BatchState, StepState
from yatagan.batches.steps import Change, Prove, Step, StepKind
from yatagan.faults import Fault
from yatagan.stores.interface import Facts, Kind


def history(seed: int) -> Journal:
    """A journal in which every step has gone some way, at random, that the states allow."""
    rng = random.Random(seed)
    kinds = [StepKind.FILE, StepKind.FILE, StepKind.LINK, StepKind.DIRECTORY]
    steps = []
    for number in range(1, rng.randint(2, 40)):
        kind = rng.choice(kinds)
        facts = Facts(Kind.FILE, rng.randrange(1000), 0, 0o644)
        seen = Facts(Kind.FILE, 1, 0, 0o644) if rng.random() < 0.3 else None
        name = b"%d" % number
        step = Step(number, 1_000_000, kind, b"/s/" + name, b"/d/" + name, name, facts, seen=seen)
        if rng.random() < 0.2:
            step = replace(step, state=StepState.NOT_CARRIED, fault=rng.choice([Fault.SPECIAL, Fault.NEWER_THERE]))
        steps.append(step)
    journal = Journal.in_memory(Header("261127-hist", 0, ("stage",), "", "", b"/d", Prove.AUTO), steps)
    for step in steps:
        state = step.state
        for _ in range(rng.randrange(5)):
            moves = sorted(STEP_MOVES[state])
            if not moves:
                break
            state = rng.choice(moves)
            fault = rng.choice([Fault.DENIED, Fault.WITH_DIRECTORY]) if state is StepState.FAILED else None
            journal.apply([Change(step.number, state=state, fault=fault)])
    return journal


@given(st.integers(0, 2**32))
def test_the_counts_of_every_state_add_up_to_the_whole(seed: int) -> None:
    journal = history(seed)
    outcome = outcome_of(journal)
    files = [step for step in journal.steps() if step.kind is StepKind.FILE]
    others = sum(step.state is StepState.NOT_CARRIED and step.kind is not StepKind.FILE for step in journal.steps())
    assert outcome.files == len(files)
    parts = outcome.moved + outcome.left + outcome.waiting + outcome.failed_files + outcome.not_carried - others
    assert parts == outcome.files
    assert outcome.failed >= outcome.failed_files
    assert outcome.standing.state is BatchState.QUEUED and not outcome.good
