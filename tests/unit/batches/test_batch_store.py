"""Batches by their directories."""

from __future__ import annotations

import contextlib
from pathlib import Path

from yatagan.batches.batch_store import Batches
from yatagan.batches.journal_data import Header
from yatagan.batches.states import BatchState
from yatagan.batches.steps import Prove


def test_few_of_many_batches_are_opened(tmp_path: Path) -> None:
    """What is finished is known without its journal; and a mark is never there for one that goes on again."""
    batches = Batches(tmp_path)
    names = []
    for number in range(4):
        batch = batches.accept(Header("", 0, ("stage",), "", "heron", b"/d", Prove.AUTO), [])
        batch.unlock()
        names.append(batch.name)
        with contextlib.closing(batch.journal()) as journal:
            if number < 3:
                journal.settle(BatchState.MOVING)
                journal.settle(BatchState.FINISHED)
            if number == 1:
                journal.settle(BatchState.QUEUED)
    assert [batch.name for batch in batches] == names
    assert [batch.name for batch, _ in batches.opened(finished=False)] == [names[3], names[1]]
    for mark in tmp_path.rglob("accepted"):
        mark.unlink()
    for mark in tmp_path.rglob("finished"):
        mark.unlink()
    assert [batch.name for batch in batches] == names, "as before there were marks"
    assert len(list(batches.opened(finished=False))) == 4
