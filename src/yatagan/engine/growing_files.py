"""Files that only grow, such as a logger's: carried as far as they were when the plan was made.

They never hold still, so what is asked of them is less: the same file, and no shorter. If anything has changed while
one was read, its first bytes are read again: a file that was rewritten meanwhile does not arrive as a mixture.

What an earlier batch has put there need not be sent again where the source still begins with it. Then what is replaced
is the beginning of what replaces it, and is not kept.
"""

from __future__ import annotations

import posixpath

from yatagan.batches.steps import Change, Step
from yatagan.digests.checksum_lists import ALGORITHM
from yatagan.engine.session import RetryStep
from yatagan.engine.step_context import StepContext
from yatagan.errors import FileTrouble, StoreError
from yatagan.faults import Fault
from yatagan.trees.hashing import digest_by_reading


class GrowingFiles:
    """The growing files of one session."""

    def __init__(self, context: StepContext) -> None:
        self._context = context
        self._source = context.source
        self._destination = context.destination

    async def begins_as_before(self, step: Step) -> bool:
        """Whether the source still begins with what an earlier batch has put at the destination.

        Raises StoreError when the connection is lost.
        """
        before, machine = step.beginning, self._source.machine
        if before is None or not before.size or before.size > step.facts.size or machine is None:
            return False
        try:
            made = await machine.digest_start(step.source, before.size, ALGORITHM)
        except FileTrouble:
            return False
        return made.digest == before.digest

    async def check_read(self, step: Step, digest: str) -> None:
        """Check that the source, of which `step.facts.size` bytes were read, still begins with them.

        Raises RetryStep if it does not, and StoreError.
        """
        found = await self._source.look_closely(step.source)
        if found is None or not step.still_is(found):
            raise RetryStep(Fault.SOURCE_CHANGED)
        if not found.same_as(step.facts) and await self._digest_source(step) != digest:
            raise RetryStep(Fault.SOURCE_CHANGED)

    async def let_go(self) -> None:
        """Remove what was kept of growing files that have grown: all of it is in what has replaced it.

        That is shown by what was carried and proven, or by digests. Raises StoreError when the connection is lost.
        """
        emptied = set[bytes]()
        for step in self._context.journal.grown():
            kept = self._context.kept.path_of(step)
            try:
                if await self._is_within(step, kept):
                    await self._context.commits.note(Change(step.number, continues=True))
                    await self._destination.remove(kept)
                    emptied.add(posixpath.dirname(kept))
            except FileTrouble:
                pass
        await self._context.kept.remove_empty(emptied)

    async def _is_within(self, step: Step, kept: bytes) -> bool:
        """Whether a kept file is what the step has replaced, and the beginning of what is there now."""
        found = await self._destination.look(kept)
        if found is None or step.seen is None or not found.named_again(step.seen) or found.size > step.facts.size:
            return False
        if step.evidence is None or not step.evidence.is_proof:
            return False
        if step.reused >= found.size:  # it was copied from there, and proven as a part of the whole
            return True
        size = found.size
        return (await self._context.digest_at(kept, size))[0] == (await self._context.digest_at(step.path, size))[0]

    async def _digest_source(self, step: Step) -> str:
        """The digest of what was read of the source, made again: by its machine where that can be had."""
        path, size = step.source, step.facts.size
        if self._source.machine is not None:
            try:
                return (await self._source.machine.digest_start(path, size, ALGORITHM)).digest
            except StoreError as error:
                if error.fault not in (Fault.UNSUPPORTED, Fault.OTHER_DISK):
                    raise
        return await digest_by_reading(self._source, path, ALGORITHM, size)
