"""Whether the destination is still the directory that a batch was planned for.

It is looked at when a session begins. Another directory of the name is never written to. If the destination is gone,
the batch stops, as it does when a directory in it is gone (`StepWorker`): it may have been renamed, and a second
one with the rest of the files would mislead. If the user says that it is to be made again, everything that is missing
is carried again.
"""

from __future__ import annotations

import posixpath

from yatagan.batches.journal import Journal
from yatagan.batches.states import StepState
from yatagan.batches.steps import MEMBERS_PHASE, Change, StepKind
from yatagan.errors import StoreError
from yatagan.faults import Fault
from yatagan.stores.interface import Kind, Store
from yatagan.trees.scan import scan

#: Steps that are put back by one transaction.
_STEPS_PER_COMMIT = 500


async def look_at_destination(journal: Journal, destination: Store, top: bytes) -> None:
    """Note the destination's inode when it is first seen, and compare it later.

    Raises StoreError: DESTINATION_MOVED when another directory has the name, DESTINATION_GONE when none has.
    """
    real = await destination.is_real(top, top)  # first: what is looked at last is which directory it is
    found = await destination.look_closely(top)
    known = journal.standing().top_inode
    if found is None:
        if known or journal.has_settled():
            raise StoreError(Fault.DESTINATION_GONE, top, store=destination.name)
        return
    moved = found.kind is not Kind.DIRECTORY or (known and found.inode is not None and found.inode != known)
    if moved or not real:
        raise StoreError(Fault.DESTINATION_MOVED, top, store=destination.name)
    if found.inode is not None and not known:
        journal.know_top(found.inode)


def set_facts_again(journal: Journal) -> None:
    """Put back every step that has set facts: those may be of the directory that had the destination's name then."""
    changes = [Change(number, state=StepState.WAITING) for number in journal.all_facts_set()]
    for at in range(0, len(changes), _STEPS_PER_COMMIT):
        journal.apply(changes[at : at + _STEPS_PER_COMMIT])


async def make_again(journal: Journal, destination: Store, top: bytes) -> None:
    """Make a missing destination, and put back to waiting every step whose entry is not there. Raises StoreError."""
    missing = []
    path = top
    while await destination.look(path) is None:
        missing.append(path)
        path = posixpath.dirname(path)
    for path in reversed(missing):
        await destination.make_directory(path, 0o755)
    there = {posixpath.join(top, path) for path in (await scan(destination, top)).entries}
    gone: set[int] = set()
    changes = []
    for step in journal.steps(StepState.IN_PLACE, StepState.LEFT):
        if step.kind is StepKind.BUNDLE or (step.path == top and step.kind is StepKind.DIRECTORY):
            continue
        inside = step.phase == MEMBERS_PHASE
        if (step.bundle in gone) if inside else (step.path not in there):
            gone.add(step.number)
            changes.append(Change.anew(step.number))
    for at in range(0, len(changes), _STEPS_PER_COMMIT):
        journal.apply(changes[at : at + _STEPS_PER_COMMIT])
    journal.know_top(0)
    journal.make_again(wanted=False)
