"""The last look: before a batch is called finished, what it claims is checked against the destination as it is.

That is done by facts, not by hashing all again: the name is there, with the kind, the size and the time that it was
given. Only where facts differ contents are looked at. What the batch has put there is always looked at, and what it
left as it was in the same directories: another directory may have got the name of one meanwhile. All else that it left
is looked at after trouble.

What a power cut has undone is found here, too: a rename that the server had answered, and its disk had not yet written
down. So every directory in which something got a name is synced first: from then on no power cut can undo it.
"""

from __future__ import annotations

import posixpath
from collections import defaultdict
from dataclasses import dataclass, field

from yatagan.batches.events import LookedAgain, StepReopened
from yatagan.batches.journal import Journal
from yatagan.batches.states import StepState
from yatagan.batches.steps import MEMBERS_PHASE, Change, Step, StepKind, Times
from yatagan.engine.part_files import PartFiles
from yatagan.engine.session import Session
from yatagan.engine.step_context import StepContext
from yatagan.errors import LineLost, StoreError
from yatagan.faults import Fault
from yatagan.stores.coalescing import gather_few
from yatagan.stores.interface import Facts, Kind
from yatagan.trees.sync_names import TAKEN_AWAY, sync_directories

#: Claims in one directory from which on it is listed, and not looked at name by name.
_LISTED_FROM = 16
#: Directories that are looked at at once.
_AT_ONCE = 16
#: Claims that are held in memory.
_HANDFUL = 5000
#: Steps that are put back by one transaction.
_STEPS_PER_COMMIT = 500
#: What has a name at the destination that can be looked at.
_NAMED = frozenset({StepKind.DIRECTORY, StepKind.FILE, StepKind.LINK, StepKind.ARCHIVE, StepKind.INDEX})


@dataclass(slots=True)
class _Found:
    """What a look comes to: steps that are to be done again, and those whose files are not what was put there."""

    looked_at: int = 0
    gone: list[Step] = field(default_factory=list)
    changed: list[Step] = field(default_factory=list)


class LastLook:
    """Looks at what a batch claims. Raises StoreError. `again`: what is gone may be carried again; else it failed."""

    def __init__(self, context: StepContext, journal: Journal) -> None:
        self._context = context
        self._session: Session = context.session
        self._destination = context.destination
        self._journal = journal

    async def look(self, *, everything: bool, again: bool) -> bool:
        """Look, and put back or fail the steps that are not as claimed. Returns whether any are to be done again.

        `everything`: also at what was left as it was in directories in which nothing was placed.
        """
        found = _Found()
        claims: list[Step] = []
        written = None if everything else set(map(posixpath.dirname, self._journal.placed_paths()))
        for step in self._journal.steps(StepState.IN_PLACE, StepState.LEFT):
            meant = written is None or step.state is StepState.IN_PLACE or posixpath.dirname(step.path) in written
            if meant and step.kind in _NAMED and step.phase != MEMBERS_PHASE:
                claims.append(step)
            if len(claims) >= _HANDFUL:
                await self._look_at(claims, found)
                claims.clear()
        await self._look_at(claims, found)
        await self._settle(found, again=again)
        if found.gone or found.changed:
            self._context.tell(LookedAgain(found.looked_at, len(found.gone), len(found.changed)))
        return bool(found.gone) and again

    async def sync(self, *, all_names: bool) -> None:
        """Sync the directories in which this session has given names, or the batch has. Raises StoreError."""
        above = set(map(posixpath.dirname, self._journal.named_paths())) if all_names else self._context.unsynced
        await sync_directories(self._destination, above)

    async def _look_at(self, claims: list[Step], found: _Found) -> None:
        by_directory: dict[bytes, list[Step]] = defaultdict(list)
        for step in claims:
            by_directory[posixpath.dirname(step.path)].append(step)
        await gather_few(_AT_ONCE, (self._look_in(above, steps, found) for above, steps in by_directory.items()))

    async def _look_in(self, directory: bytes, steps: list[Step], found: _Found) -> None:
        """Look at the claims in one directory."""
        found.looked_at += len(steps)
        try:
            await self._look_at_each(directory, steps, found)
        except StoreError as error:
            if error.fault not in TAKEN_AWAY:
                raise
            found.changed += steps  # something else has the directory's name

    async def _look_at_each(self, directory: bytes, steps: list[Step], found: _Found) -> None:
        there = await self._listed(directory) if len(steps) >= _LISTED_FROM else None
        gone, changed = [], []
        for step in steps:
            facts = (
                await self._destination.look(step.path) if there is None else there.get(posixpath.basename(step.path))
            )
            if facts is None or await self._is_undone(step, facts):
                gone.append(step)
            elif not await self._is_right(step, facts):
                changed.append(step)
        found.gone += gone
        found.changed += changed

    async def _is_undone(self, step: Step, found: Facts) -> bool:
        """Whether what the step has replaced is there again, as after a power cut."""
        if step.seen is None or not found.same_as(step.seen):
            return False
        exact = None not in (found.changed_ns, step.seen.changed_ns)
        if exact or step.kind is not StepKind.FILE or not self._has_facts(step, found):
            return True
        # What it has replaced had the same size and time: contents tell them apart.
        if step.digest and (await self._context.digest_at(step.path))[0] != step.digest:
            return True
        # Nothing tells equal ones apart; if the rename was undone, the part file is there again.
        await PartFiles(self._context).remove(step, with_present=True)
        return False

    async def _listed(self, directory: bytes) -> dict[bytes, Facts] | None:
        """What is in a directory; None where it cannot be listed."""
        try:
            return {name: facts async for handful in self._destination.entries(directory) for name, facts in handful}
        except StoreError as error:
            if isinstance(error, LineLost) or error.fault in {Fault.IS_LINK, Fault.NOT_A_DIRECTORY}:
                raise
            return {} if error.fault is Fault.MISSING else None

    async def _is_right(self, step: Step, found: Facts) -> bool:
        """Whether what is there is what was put there."""
        match step.kind:
            case StepKind.DIRECTORY:
                return found.kind is Kind.DIRECTORY
            case StepKind.LINK:
                return found.kind is Kind.LINK and await self._destination.read_link(step.path) == step.target
            case StepKind.FILE:
                return found.kind is Kind.FILE and await self._is_right_file(step, found)
            case _:
                return found.kind is Kind.FILE

    async def _is_right_file(self, step: Step, found: Facts) -> bool:
        if found.size != step.facts.size:
            return False
        if self._has_facts(step, found):
            return True
        # Its time could not be set, or was set by another program: contents decide.
        return not step.digest or (await self._context.digest_at(step.path))[0] == step.digest

    def _has_facts(self, step: Step, found: Facts) -> bool:
        """Whether a file has the size and time that it was given."""
        if self._session.times is Times.NOW:
            return found.size == step.facts.size
        return found.size == step.facts.size and self._context.has_time(step, found)

    async def _settle(self, found: _Found, *, again: bool) -> None:
        """Put back what is gone, and fail what has been changed."""
        gone = found.gone if again else []
        # What is left of it, such as a part file that has its name again, is found when it is done again.
        changes = [Change(step.number, state=StepState.WAITING) for step in gone]
        changes += [Change(number, state=StepState.WAITING) for number in self._facts_steps(gone)]
        lost = [] if again else [(step, Fault.GONE_THERE) for step in found.gone]
        lost += [(step, Fault.CHANGED_THERE) for step in found.changed]
        for step, fault in lost:
            changes.append(Change(step.number, state=StepState.WAITING))
            changes.append(Change(step.number, state=StepState.FAILED, fault=fault))
        for at in range(0, len(changes), _STEPS_PER_COMMIT):
            await self._context.commits.note(*changes[at : at + _STEPS_PER_COMMIT])
        for step in gone:
            self._context.tell(StepReopened(step.number, step.kind, step.facts.size))
        for step, fault in lost:
            self._context.tell_settled(step, StepState.FAILED, fault)

    def _facts_steps(self, gone: list[Step]) -> list[int]:
        """The steps that set the facts of directories that are to be made again, or written to again."""
        directories = {posixpath.dirname(step.path) for step in gone}
        directories |= {step.path for step in gone if step.kind is StepKind.DIRECTORY}
        return self._journal.facts_set(directories)
