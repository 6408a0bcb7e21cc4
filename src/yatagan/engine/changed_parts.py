"""Only the changed parts of a file are sent: the rest is copied from the file that it replaces.

The remote file's blocks are known by checksums that its node computes; the search is always here, in the local file.
Matches are copied where the old file is, into the new part file, synced, and journalled as durable. From then on it is
a file that was interrupted: the carrier sends the rest and hashes all of it.

Two checksums are no proof. The digest of the whole file is, and if it differs all of the file is sent. Where no proof
was asked for, every match is compared by a digest of its own.

Of a file that only grows nothing is searched for: it begins with what an earlier batch has put there, or all is sent.
"""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from dataclasses import replace

from yatagan.batches.events import PartsFound
from yatagan.batches.states import Evidence
from yatagan.batches.steps import Change, Step
from yatagan.engine.growing_files import GrowingFiles
from yatagan.engine.session import RetryStep
from yatagan.engine.step_context import StepContext
from yatagan.errors import LineLost, StoreError
from yatagan.faults import STOPPING_FAULTS, Fault
from yatagan.portable.block_sums import Blocks, Match, block_size
from yatagan.stores.interface import STRIPE, Reader, Writer, machine_of
from yatagan.transfer.delta import may_reuse
from yatagan.transfer.extents import Extents
from yatagan.transfer.stopping import Stopped
from yatagan.transfer.transfer import Tuning

#: The smallest share of a file that is worth the trouble of not sending it.
_WORTH = 1 / 16


class ChangedParts:
    """Finds matches between a new file and the one that it replaces, and copies them."""

    def __init__(self, context: StepContext, tuning: Tuning, stop: asyncio.Event) -> None:
        self._context = context
        self._source = context.source
        self._destination = context.destination
        self._tuning = tuning
        self._stop = stop
        self._growing = GrowingFiles(context)
        #: Steps of which what was reused turned out to be wrong.
        self._distrusted: set[int] = set()

    def distrust(self, step: Step) -> None:
        """Never reuse parts of this step's file again: its digest came out different."""
        self._distrusted.add(step.number)

    async def bring(self, step: Step, source: Reader, part: Writer) -> tuple[Step, Extents]:
        """Copy into an empty part file what the old file has of the new one. Returns the step, and what is durable
        then.

        Raises StoreError when the connection is lost or space runs out, RetryStep, and Stopped.
        """
        if step.number in self._distrusted or not self._may(step):
            return step, Extents()
        try:
            if step.beginning is not None:
                matches = await self._beginning(step, part)
            else:
                matches = await (self._up(step, source) if self._source.traits.here else self._down(step, part))
        except StoreError as error:
            if isinstance(error, LineLost) or error.fault in STOPPING_FAULTS:
                raise
            matches = []  # then all of it is sent
        there = Extents([(match.new, match.new + match.size) for match in matches])
        step = replace(step, durable=there.encode(), reused=there.total)
        await self._context.commits.note(Change(step.number, durable=step.durable, reused=step.reused))
        growing = step.beginning is not None
        self._context.tell(PartsFound(step.number, step.label, step.facts.size, step.reused, growing))
        return step, there

    def _may(self, step: Step) -> bool:
        if step.beginning is not None:
            return step.beginning.size > 0 and self._context.session.evidence is not Evidence.SENT
        return may_reuse(self._source, self._destination, step.facts, step.seen, self._tuning.reuse_least)

    def _pulse(self) -> None:
        if self._stop.is_set():
            raise Stopped

    async def _up(self, step: Step, source: Reader) -> list[Match]:
        """Upload: the node computes the checksums of its old file, and copies the matches."""
        if source.read_here is None or not self._context.session.hashes_there:
            return []
        machine = machine_of(self._destination)
        old = await machine.block_sums(step.path, block_size(step.facts.size, self._tuning.reuse_block))
        matches = await self._find(step, source, step.facts.size, old.blocks)
        return await self._copy_there(step, matches)

    async def _copy_there(self, step: Step, matches: list[Match]) -> list[Match]:
        """Have the node copy matches. Returns those that it found."""
        machine, name = machine_of(self._destination), step.part(self._context.session.batch)
        good = await machine.copy_matches(step.path, name, matches) if matches else []
        return [match for match, is_good in zip(matches, good, strict=True) if is_good]

    async def _beginning(self, step: Step, part: Writer) -> list[Match]:
        """Of a growing file, what an earlier batch has put there, if the source still begins with it."""
        assert step.beginning is not None
        able = part.write_here is not None or self._context.session.hashes_there
        if not (able and await self._growing.begins_as_before(step)):
            return []
        matches = [Match(0, 0, step.beginning.size, "")]
        await self._context.commits.note(Change(step.number, reused=step.beginning.size))
        return await (self._copy_here(step, part, matches) if part.write_here else self._copy_there(step, matches))

    async def _down(self, step: Step, part: Writer) -> list[Match]:
        """Download: the node computes the checksums of its new file; the old one is here, and copied here."""
        if part.write_here is None:
            return []
        block = block_size(step.facts.size, self._tuning.reuse_block)
        new = await machine_of(self._source).block_sums(step.source, block)
        if not new.facts.same_as(step.facts):
            raise RetryStep(Fault.SOURCE_CHANGED)
        old = await self._destination.open(step.path)
        try:
            matches = await self._find(step, old, (await old.facts()).size, new.blocks)
        finally:
            await old.close()
        return await self._copy_here(step, part, matches)

    async def _copy_here(self, step: Step, part: Writer, matches: list[Match]) -> list[Match]:
        """Copy matches on this machine. Returns those that were there."""
        old = await self._destination.open(step.path)
        try:
            read, write = old.read_here, part.write_here
            if read is None or write is None:
                return []
            good = [match for match in matches if await self._tuning.in_thread(self._copy, read, write, match)]
        finally:
            await old.close()
        if good:
            await part.sync()
        return good

    async def _find(self, step: Step, near: Reader, size: int, far: Blocks) -> list[Match]:
        """The matches of two files, or none if they are too few to matter.

        Their size is journalled before they are copied: if we die meanwhile, copied bytes must not count as sent.
        """
        read = near.read_here
        if read is None:
            return []

        old_is_far = self._source.traits.here
        # Checksums of blocks are no proof. Where the whole gets none, every match has its own.
        unproven = self._context.session.evidence is Evidence.SENT

        def find() -> list[Match]:
            from yatagan.digests.block_search import find_matches  # what it imports takes a while

            return find_matches(read, size, far, old_is_far=old_is_far, digests=unproven, pulse=self._pulse)

        matches: list[Match] = await self._tuning.in_thread(find)
        there = sum(match.size for match in matches)
        if there < step.facts.size * _WORTH:
            return []
        await self._context.commits.note(Change(step.number, reused=there))
        return matches

    def _copy(self, read: Callable[[int, int], bytes], write: Callable[[int, bytes], None], match: Match) -> bool:
        """Copy one match here. Returns whether all of it was there."""
        at = 0
        while at < match.size:
            self._pulse()
            piece = read(match.old + at, min(STRIPE, match.size - at))
            if not piece:
                return False
            write(match.new + at, piece)
            at += len(piece)
        return True
