"""What an earlier batch has left at its destination."""

from __future__ import annotations

import asyncio
import os
from pathlib import Path

import pytest

from yatagan.batches.journal import Journal
from yatagan.batches.journal_data import Header
from yatagan.batches.states import StepState
from yatagan.batches.steps import Prove, Step, StepKind
from yatagan.errors import StoreError
from yatagan.faults import Fault
from yatagan.planning.takeover import remove_parts
from yatagan.stores.interface import Facts, Kind
from yatagan.stores.local import LocalStore

STATES = [StepState.IN_PLACE, *[StepState.WAITING] * 199]


class LostLine(LocalStore):
    """A store whose line is lost at some removal."""

    left = 150

    async def remove(self, path: bytes) -> None:
        self.left -= 1
        if self.left < 0:
            raise StoreError(Fault.CONNECTION_LOST)
        await super().remove(path)


@pytest.mark.parametrize("kind", [LocalStore, LostLine])
def test_as_many_as_are_removed_are_counted(kind: type[LocalStore], tmp_path: Path) -> None:
    """Each once, though it is in the journal and beside a file that is in place; before a lost line, most of them."""
    top = os.fsencode(tmp_path)
    facts = Facts(Kind.FILE, 10, 0, 0o644)
    steps = [
        Step(number, 1, StepKind.FILE, b"/s", top + b"/f%d" % number, b"f", facts, state=state, generation=1)
        for number, state in enumerate(STATES, 1)
    ]
    journal = Journal.in_memory(Header("261124-abcd", 0, ("stage",), "", "", top, Prove.AUTO), steps)
    for step in steps[1:]:
        Path(os.fsdecode(step.part("261124-abcd"))).write_text("half")
    removed = asyncio.run(remove_parts(journal, kind(b"/")))
    gone = 199 - len(list(tmp_path.iterdir()))
    if kind is LocalStore:
        assert removed == gone == 199
    else:
        assert removed == 2 * 64 <= gone < 199  # those of the handful that was asked when it was lost are not known
