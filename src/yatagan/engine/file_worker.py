"""The worker for one file: from waiting to in place.

What must always hold is held here, in this order: the source is looked at, and left alone for a moment
when it is too new to show a change; a part file that no other session can write is opened; the bytes
are carried and synced; the source is looked at again; the contents are proven; the facts are set on
the part file; and only then it gets its final name, never over anything that the plan did not see.
"""

from __future__ import annotations

import asyncio
from dataclasses import replace
from typing import cast

from yatagan.batches.events import BytesMoved, Note
from yatagan.batches.states import Evidence, StepState
from yatagan.batches.steps import Change, Step, Times
from yatagan.digests.checksum_lists import ALGORITHM
from yatagan.engine.changed_parts import ChangedParts
from yatagan.engine.growing_files import GrowingFiles
from yatagan.engine.part_files import PartFiles
from yatagan.engine.proof import Prover
from yatagan.engine.session import RetryStep, StepRefused
from yatagan.engine.small_file_finisher import SmallFileFinisher
from yatagan.engine.source_files import Clock, FileInMemory, SourceFiles
from yatagan.engine.step_context import StepContext
from yatagan.errors import LineLost, StoreError
from yatagan.faults import Fault
from yatagan.stores.interface import Facts, Kind, Reader, Writer, machine_of
from yatagan.transfer.carrier import Carrier
from yatagan.transfer.checkpoints import Checkpoints
from yatagan.transfer.extents import Extents
from yatagan.transfer.file_digest import FileDigest, Hash
from yatagan.transfer.transfer import BeginningDiffers, Transfer, TransferEnds, TransferReports
from yatagan.trees.hashing import digest_by_reading


def _arrived(step: Step, whole: Change) -> Step:
    """The step once `whole` is journalled."""
    return replace(step, state=StepState.ARRIVED, digest=whole.digest or "", durable=whole.durable or "")


class FileWorker:
    """Carries files, proves them, and gives them their final names. `sources` and `parts` serve bundles as well."""

    def __init__(self, context: StepContext, carrier: Carrier, clock: Clock, stop: asyncio.Event) -> None:
        self._context = context
        self._session = context.session
        self._source = context.source
        self._destination = context.destination
        self._commits = context.commits
        self._tell = context.tell
        self._carrier = carrier
        self._stop = stop
        self._finisher = SmallFileFinisher(context)
        self._growing = GrowingFiles(context)
        self._changed_parts = ChangedParts(context, carrier.tuning, stop)
        self._prover = Prover(context, stop, self._changed_parts.distrust)
        self.sources = SourceFiles(context, clock)
        self.parts = PartFiles(context)

    async def do(self, step: Step) -> None:
        """Carry, prove and place a file, from wherever an earlier session left it. Raises as `StepWorker.do` does."""
        await self._context.above.check(step.path, recently=True)
        step, reader = await self.sources.look(step)
        if step.state in (StepState.ARRIVED, StepState.PROVEN):
            part = await self._destination.look(step.part(self._session.batch))
            if part is None and await self._placed_before(step):
                return
            on_disk = Extents.decode(step.durable).covers(0, step.facts.size)
            if part is None or part.size != step.facts.size or not (on_disk or self._proof_syncs):
                step = replace(step, state=StepState.MOVING, durable="", digest="", reused=0)
        if step.state in (StepState.ARRIVED, StepState.PROVEN):
            self._context.tell_start(step, step.facts.size)
            writer = await self._destination.reopen_part(step.part(self._session.batch))
        else:
            step, writer = await self._carry(step, reader)
        try:
            await self._prove_and_place(step, writer)
        finally:
            await self._close(writer)

    async def _prove_and_place(self, step: Step, writer: Writer) -> None:
        """Arrived -> in place. `writer` is the open part file."""
        if self._finisher.takes(step):
            await self._close(writer)
            await self._finish(step)
            return
        evidence, known = await self._prover.prove(step, writer)
        await self.parts.remove(step)  # again: we may have died between a new part file and the end of the old
        await self._place(step, writer, evidence, known)

    @property
    def _proof_syncs(self) -> bool:
        """Whether the proof will sync the file first, so that the transfer need not."""
        return self._session.evidence is Evidence.ON_NODE and not self._destination.traits.here

    async def _carry(self, step: Step, reader: Reader | None) -> tuple[Step, Writer]:
        """Waiting or moving -> arrived: every byte in the part file, synced, and the source unchanged.

        The part file stays open: until it has its final name it is known by its descriptor, not by its path.
        """
        reader = reader or await self._source.open(step.source)
        try:
            opened = await reader.facts()
            if not step.still_is(opened):
                raise RetryStep(Fault.SOURCE_CHANGED)
            step, whole, writer = await self._carry_bytes(step, reader, FileDigest())
            try:
                if not step.still_is(await reader.facts()):
                    raise RetryStep(Fault.SOURCE_CHANGED)
                if not isinstance(reader, FileInMemory):  # that was of one moment
                    await self._check_source(step, whole)
                step = await self._note_whole(step, whole)
            except BaseException:
                await self._close(writer)
                raise
        finally:
            await self._close(reader)
        return step, writer

    async def _check_source(self, step: Step, whole: Change) -> None:
        """Look at the source again by its name. Raises RetryStep when it is not what was read."""
        if step.beginning is not None:
            await self._growing.check_read(step, whole.digest or "")
        else:
            await self.sources.check_by_name(step)

    async def _note_whole(self, step: Step, whole: Change) -> Step:
        """Journal that all bytes have arrived, unless a record of the source itself says that they are wrong."""
        recorded = await self._source.recorded(step.source)
        if recorded not in ("", whole.digest):
            await self.parts.remove(step, with_present=True)
            raise StepRefused(Fault.DAMAGED)
        step = _arrived(step, whole)
        if not self._finisher.takes(step):  # what is small is soon in place, and sent again if we die before
            await self._commits.note(whole)
        return step

    async def carry_from(self, step: Step, reader: Reader, value: Hash) -> Step:
        """Waiting or moving -> arrived, for a bundle that is made while it is read."""
        step, whole, writer = await self._carry_bytes(step, reader, value)
        await self._close(writer)
        await self._commits.note(whole)
        return _arrived(step, whole)

    async def _carry_bytes(self, step: Step, reader: Reader, value: Hash) -> tuple[Step, Change, Writer]:
        """Bring all bytes into a part file. Returns the step, the change to journal, and the open file."""
        step, writer, durable = await self.parts.open(step)
        fresh = not durable.total
        try:
            if self._session.evidence is Evidence.ON_ARRIVAL:
                await writer.keep_others_out()
            if not durable.total:
                step, durable = await self._changed_parts.bring(step, reader, writer)
            self._context.tell_start(step, durable.total)
            try:
                whole = await self._pass_bytes(step, reader, writer, durable, value, fresh=fresh and not durable.total)
            except BeginningDiffers as differs:
                durable = Extents([(0, differs.good)])
                step = replace(
                    step,
                    durable=durable.encode(),
                    checkpoints=Checkpoints.decode(step.checkpoints).up_to(differs.good).encode(),
                )
                await self._commits.note(
                    Change(step.number, durable=step.durable, checkpoints=step.checkpoints, fault=Fault.PART_CHANGED)
                )
                whole = await self._pass_bytes(step, reader, writer, durable, value.anew())
        except BaseException:
            await self._close(writer)
            raise
        return step, whole, writer

    async def _pass_bytes(
        self, step: Step, reader: Reader, writer: Writer, durable: Extents, value: Hash, *, fresh: bool = False
    ) -> Change:
        """Transfer the bytes. Returns the change to journal: their digest, and whether all of them are synced."""
        # After a restart the digest is rebuilt from whichever end is on this machine.
        prefix: Reader = reader
        if durable.total and self._destination.traits.here and not self._source.traits.here:
            prefix = cast(Reader, writer)  # the open file: its name may stand for another one
        moved, holes = 0, step.holes

        def leave_out(size: int) -> None:
            nonlocal holes
            holes += size
            self._tell(BytesMoved(step.number, size))

        def count(size: int) -> None:
            nonlocal moved
            moved += size
            self._tell(BytesMoved(step.number, size))

        points = Checkpoints.decode(step.checkpoints).up_to(durable.prefix)
        checks = dict(points) if self.parts.checks_beginning(step) else {}

        def synced(extents: Extents, digest: str) -> None:
            if digest:
                points.add(extents.prefix, digest, step.facts.size)
            self._commits.mention(Change(step.number, durable=extents.encode(), checkpoints=points.encode()))

        try:
            synced_all = await self._carrier.carry(
                Transfer(
                    TransferEnds(
                        reader, writer, prefix, self._source.traits.read_size, self._destination.traits.write_size
                    ),
                    step.facts.size,
                    durable,
                    value,
                    TransferReports(count, leave_out, synced),
                    self._stop,
                    sync_last=not self._proof_syncs,
                    checkpoints=checks,
                    fresh=fresh,
                )
            )
        except StoreError as error:
            if error.fault is Fault.SOURCE_CHANGED:
                raise RetryStep(Fault.SOURCE_CHANGED) from error
            raise
        finally:
            self._commits.add(Change(step.number, sent=moved, holes=holes if holes != step.holes else None))
        on_disk = Extents([(0, step.facts.size)]).encode() if synced_all else ""
        return Change(step.number, state=StepState.ARRIVED, digest=value.hexdigest(), durable=on_disk)

    @staticmethod
    async def _close(file: Reader | Writer) -> None:
        """Close. A failing close fails the step, except on a lost connection, where the next request fails anyway."""
        try:
            await file.close()
        except StoreError as error:
            if not isinstance(error, LineLost):
                raise

    async def _finish(self, step: Step) -> None:
        """Arrived -> in place, in one message with other small files."""
        for last in (False, True):
            outcome = await self._finisher.finish(step)
            if outcome.fault is not Fault.DIGEST_DIFFERS:
                break
            if last:  # a digest that differs is made twice
                raise RetryStep(Fault.DIGEST_DIFFERS)
        if outcome.fault is Fault.EXISTS:
            found = await self._destination.look(step.path)
            if found is None:
                raise RetryStep(Fault.APPEARED)
            await self._reconsider(step, found)
        elif outcome.fault is not None:
            with self._context.above.making(step.path, named_only=True):
                raise StoreError(outcome.fault, step.path, store=self._destination.name)
        else:
            if outcome.unset is not None:
                self._tell(Note(step.label, outcome.unset, ""))
            state = StepState.LEFT if outcome.there else StepState.IN_PLACE
            await self._context.settle(step, state, self._session.evidence, digest=step.digest)

    async def _place(self, step: Step, writer: Writer, evidence: Evidence, known: Facts | None) -> None:
        """Proven (or arrived) -> in place. The rename is the commit."""
        try:
            with self._context.above.making(step.path, named_only=True):
                await self._context.place(step, writer, known)
        except StoreError as error:
            if error.fault is Fault.PART_CHANGED:
                raise RetryStep(Fault.PART_CHANGED) from error
            if error.fault is not Fault.EXISTS:
                raise
            found = await self._destination.look(step.path)
            if found is None:
                raise RetryStep(Fault.APPEARED) from error
            await self._reconsider(step, found)
            return
        await self._context.settle(step, StepState.IN_PLACE, evidence)

    async def _reconsider(self, step: Step, found: Facts) -> None:
        """Something that the plan did not see has the name. It stays; the step succeeds if its contents are right."""
        await self._context.above.refuse_clash(step.path)
        same = False
        if found.kind is Kind.FILE and found.size == step.facts.size:
            value, how = await self._context.digest_at(step.path)
            same = value == step.digest
        await self.parts.remove(step, with_present=True)
        if same:
            await self._context.settle(step, StepState.LEFT, how, digest=step.digest)
        elif found.kind in (Kind.FILE, Kind.LINK):
            await self._context.settle(step, StepState.FAILED, fault=Fault.APPEARED)
        else:
            await self._context.settle(step, StepState.FAILED, fault=Fault.KIND_IN_THE_WAY, detail=found.kind.value)

    async def _placed_before(self, step: Step) -> bool:
        """Whether an earlier session died between the rename and the journal, and the final name holds our file."""
        found = await self._destination.look(step.path)
        evidence = self._session.evidence
        if self._session.times is Times.NOW:  # a size alone says too little where contents are not looked at
            right = found is not None and found.size == step.facts.size and evidence is not Evidence.SENT
        else:
            right = found is not None and found.size == step.facts.size and self._context.has_time(step, found)
        if not right:
            return False
        value = step.digest
        if evidence is Evidence.ON_NODE and not self._destination.traits.here:
            value = (await machine_of(self._destination).digest(step.path, ALGORITHM)).digest
        elif evidence is not Evidence.SENT:
            value = await digest_by_reading(self._destination, step.path, ALGORITHM)
        if value != step.digest:
            return False
        await self.parts.remove(step)
        await self._context.settle(step, StepState.IN_PLACE, evidence)
        return True
