"""Whether the destination is still the one that a batch was planned for, and what to do when it is gone.

Looked at when a session begins. Another directory under the name is never written to. Where the destination is gone,
the batch stops, as it does later when a directory in it is gone (`Performer`): somebody may have renamed it, and a
second one with the rest in it would be a lie. Where the user says that it is to be made again, everything that is
missing is carried again.
"""

from __future__ import annotations

import posixpath

from yatagan.batches.journal import Journal
from yatagan.batches.states import StepState
from yatagan.batches.steps import MEMBERS_PHASE, Change, StepKind
from yatagan.errors import Fault, StoreError
from yatagan.stores.interface import Kind, Store
from yatagan.trees.scan import scan

#: Steps that are put back by one transaction.
_STEPS_PER_COMMIT = 500


async def look_at_destination(journal: Journal, destination: Store, top: bytes) -> None:
    """Remember which directory it is, where that is to be had.

    Raises StoreError: DESTINATION_MOVED when it is another one by now, DESTINATION_GONE when there is none any more.
    """
    found = await destination.look_closely(top)
    known = journal.standing().top_inode
    if found is None:
        if known or journal.has_settled():
            raise StoreError(Fault.DESTINATION_GONE, top, store=destination.name)
        return
    moved = found.kind is not Kind.DIRECTORY or (known and found.inode is not None and found.inode != known)
    if moved or not await destination.is_real(top, top):
        raise StoreError(Fault.DESTINATION_MOVED, top, store=destination.name)
    if found.inode is not None and not known:
        journal.know_top(found.inode)


async def make_again(journal: Journal, destination: Store, top: bytes) -> None:
    """Make the destination where it is missing, and put every step back to waiting whose entry is not there.

    Raises StoreError.
    """
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
