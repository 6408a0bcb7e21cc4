"""One file's step, from waiting to in place.

What must always hold is held here, in this order: the source is looked at, and left alone for a moment
when it is too new to show a change; a part file that no other session can write is opened; the bytes
are carried and synced; the source is looked at again; the contents are proven; the facts are set on
the part file; and only then it gets its final name, never over anything that the plan did not see.
"""

from __future__ import annotations

import asyncio
from collections.abc import Iterable, Sequence
from dataclasses import replace
from itertools import islice
from typing import Protocol, cast

from yatagan.batches.events import Ageing, BytesMoved, Note
from yatagan.batches.states import Evidence, StepState
from yatagan.batches.steps import Change, Step, Times
from yatagan.digests.checksum_lists import ALGORITHM
from yatagan.engine.bulk_finish import BulkFinisher
from yatagan.engine.changed_parts import ChangedParts
from yatagan.engine.session import RetryStep, StepContext, StepRefused
from yatagan.errors import LINE_FAULTS, Fault, StoreError
from yatagan.planning.bundling import SMALL
from yatagan.stores.coalescing import Coalesced
from yatagan.stores.in_flight import InFlight
from yatagan.stores.interface import Facts, Kind, Reader, SmallFile, Writer, machine_of
from yatagan.transfer.carrier import Carrier
from yatagan.transfer.checkpoints import Checkpoints
from yatagan.transfer.extents import Extents
from yatagan.transfer.file_digest import FileDigest, Hash
from yatagan.transfer.stopping import unless_stopped
from yatagan.transfer.transfer import BeginningDiffers, Transfer
from yatagan.trees.compare import FRESH_NS, is_fresh
from yatagan.trees.hashing import digest_by_reading

#: Small files that are read in one go.
_GATHERED = 64
#: What is found under a part file's name when somebody has put something else there.
_PART_LOST = frozenset({Fault.MISSING, Fault.IS_LINK, Fault.SPECIAL, Fault.IS_DIRECTORY, Fault.UNSUPPORTED})
#: Part files that may be in our way before we take it that something is wrong.
_GENERATIONS = 5


class Clock(Protocol):
    """Time, which a simulation replaces."""

    def monotonic(self) -> float:
        """Seconds that only go forward."""

    async def sleep(self, seconds: float) -> None:
        """Wait."""


class FileInMemory:
    """A file that was read already."""

    read_here = None

    def __init__(self, contents: bytes, facts: Facts) -> None:
        self._contents = contents
        self._facts = facts
        self.flow = InFlight(len(contents))

    async def facts(self) -> Facts:
        """See `Reader.facts`: as they were when it was read."""
        return self._facts

    async def read(self, offset: int, size: int) -> bytes:
        """See `Reader.read`."""
        return self._contents[offset : offset + size]

    async def close(self) -> None:
        """See `Reader.close`."""


def _made_whole(step: Step, whole: Change) -> Step:
    """A step after what is written about it."""
    return replace(step, state=StepState.ARRIVED, digest=whole.digest or "", durable=whole.durable or "")


class FileWorker:
    """Carries files, proves them, and gives them their names."""

    def __init__(self, context: StepContext, carrier: Carrier, clock: Clock, stop: asyncio.Event) -> None:
        self._context = context
        self._session = context.session
        self._source = context.source
        self._destination = context.destination
        self._commits = context.commits
        self._tell = context.tell
        self._carrier = carrier
        self._clock = clock
        self._stop = stop
        self._finisher = BulkFinisher(context)
        self._gathering = Coalesced(self._gather, _GATHERED, 1)
        self._reuse = ChangedParts(context, carrier.tuning, stop)

    async def do(self, step: Step) -> None:
        """Waiting (or wherever an earlier session left it) -> in place. Raises as `Performer.perform` says."""
        await self._context.check_above(step.path, lately=True)
        step, reader = await self._look_at_source(step)
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
        """Whole -> in place, by an open part file."""
        if self._finisher.takes(step):
            await self._close(writer)
            await self._finish(step)
            return
        evidence, known = await self._prove(step, writer)
        await self.remove_parts(step)  # again: we may have died between a new part file and the end of the old
        await self._place(step, writer, evidence, known)

    async def _look_at_source(self, step: Step) -> tuple[Step, Reader | None]:
        """The step with the closest facts of its source; from its beginning when they have moved.

        A small file that is near is read in the same breath, and is then to be had from a reader of its own.
        """
        reader = await self._in_hand(step)
        if reader is not None:
            found: Facts | None = await reader.facts()
        else:
            found = await self._source.look_closely(step.source)
        if found is None:
            raise StepRefused(Fault.MISSING, "the source")
        if found.kind is not Kind.FILE:
            raise StepRefused(Fault.SOURCE_KIND, found.kind.value)
        if await self._let_age(step, found):
            reader = None  # what was read before that may have changed unseen
        if found == step.facts:
            return step, reader
        if found.same_as(step.facts):
            self._commits.add(Change(step.number, facts=found))
            return replace(step, facts=found), reader
        # In one: were we to die between the two, what was sent of the old file would pass for the new one's.
        self._commits.add(Change.anew(step.number)._replace(facts=found))
        anew = replace(step, facts=found, state=StepState.WAITING, durable="", digest="", reused=0, checkpoints="")
        return anew, reader

    async def _in_hand(self, step: Step) -> FileInMemory | None:
        """A small file of this machine, read whole and of one moment; None where that is not to be had."""
        if not (self._source.traits.here and step.facts.size <= SMALL):
            return None
        found = await self._gathering.ask(step.source)
        return FileInMemory(found.contents, found.facts) if found.facts is not None else None

    async def _gather(self, paths: Sequence[bytes]) -> list[SmallFile]:
        return await machine_of(self._source).read_small(paths, SMALL)

    async def _let_age(self, step: Step, found: Facts) -> bool:
        """Read no file that is so new that a change to it would leave the same times: wait until it would show.

        Whether it took any time.

        What was read then, in this session or an earlier one, is what the same facts stand for later.
        """
        if await self.let_age([found]):
            again = await self._source.look_closely(step.source)
            if again is None or not again.same_as(found):
                raise RetryStep(Fault.SOURCE_CHANGED)
            return True
        return False

    async def let_age(self, files: Sequence[Facts]) -> bool:
        """Wait until none of these files of the source is too new to show a change; whether that took any time."""
        now = await self._source.clock_ns()
        window = max(FRESH_NS, self._source.traits.time_step_ns)
        if now is None or not any(is_fresh(facts, now - window) for facts in files):
            return False
        newest = max(facts.mtime_ns if facts.changed_ns is None else facts.changed_ns for facts in files)
        wait = min(window, newest + window - now) / 1e9  # a clock that is behind must not make us wait for ever
        self._tell(Ageing(wait))
        await self._clock.sleep(wait)
        return True

    @property
    def _proof_syncs(self) -> bool:
        """Whether the proof to come syncs the file first, so that carrying need not."""
        return self._session.evidence is Evidence.ON_NODE and not self._destination.traits.here

    async def _carry(self, step: Step, reader: Reader | None) -> tuple[Step, Writer]:
        """Waiting or moving -> whole: every byte in the part file, synced, and the source unmoved.

        The part file stays open: until it has its name, it is known by that and not by what its path leads to.
        """
        reader = reader or await self._source.open(step.source)
        try:
            opened = await reader.facts()
            if not opened.same_as(step.facts):
                raise RetryStep(Fault.SOURCE_CHANGED)
            step, whole, writer = await self._carry_bytes(step, reader, FileDigest())
            try:
                if not (await reader.facts()).same_as(step.facts):
                    raise RetryStep(Fault.SOURCE_CHANGED)
                if not isinstance(reader, FileInMemory):  # that was of one moment
                    await self._same_by_name(step)
                step = await self._note_whole(step, whole)
            except BaseException:
                await self._close(writer)
                raise
        finally:
            await self._close(reader)
        return step, writer

    async def _note_whole(self, step: Step, whole: Change) -> Step:
        """Write that all bytes are in the part file, unless the source itself says that they are not the right ones."""
        recorded = await self._source.recorded(step.source)
        if recorded not in ("", whole.digest):
            await self.remove_parts(step, with_present=True)
            raise StepRefused(Fault.DAMAGED)
        step = _made_whole(step, whole)
        if not self._finisher.takes(step):  # what is small is soon in place, and sent again if we die before
            await self._commits.note(whole)
        return step

    async def carry_from(self, step: Step, reader: Reader, value: Hash) -> Step:
        """Waiting or moving -> whole, for what is no file of the source but is read like one."""
        step, whole, writer = await self._carry_bytes(step, reader, value)
        await self._close(writer)
        await self._commits.note(whole)
        return _made_whole(step, whole)

    async def _carry_bytes(self, step: Step, reader: Reader, value: Hash) -> tuple[Step, Change, Writer]:
        """Bring all bytes into a part file: the step as it is then, what is to be written about it, and the file."""
        step, writer, durable = await self._open_part(step)
        fresh = not durable.total
        try:
            if not durable.total:
                step, durable = await self._reuse.bring(step, reader, writer)
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
        """Carry the bytes; what is to be written about it: their digest, and whether all of them are synced."""
        # After a restart the digest is made again from whichever end needs no line.
        prefix: Reader = reader
        if durable.total and self._destination.traits.here and not self._source.traits.here:
            prefix = cast(Reader, writer)  # the very file: what its name stands for may be another one
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
        checks = dict(points) if self._checks_beginnings(step) else {}

        def synced(extents: Extents, digest: str) -> None:
            if digest:
                points.add(extents.prefix, digest, step.facts.size)
            self._commits.mention(Change(step.number, durable=extents.encode(), checkpoints=points.encode()))

        try:
            synced_all = await self._carrier.carry(
                Transfer(
                    reader,
                    writer,
                    prefix,
                    step.facts.size,
                    self._source.traits.read_size,
                    self._destination.traits.write_size,
                    durable,
                    not self._proof_syncs,
                    value,
                    count,
                    synced,
                    self._stop,
                    leave_out,
                    checks,
                    fresh,
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

    def _checks_beginnings(self, step: Step) -> bool:
        """Whether what is durable is checked when it is read again: of a file that comes here from afar.

        Others are proven by their digest as a whole, on the machine that they are on.
        """
        return self._destination.traits.here and not self._source.traits.here and not step.reused

    @staticmethod
    async def _close(file: Reader | Writer) -> None:
        """Close. A failing close fails the step; on a lost line every request that follows fails anyway."""
        try:
            await file.close()
        except StoreError as error:
            if error.fault not in LINE_FAULTS:
                raise

    async def _open_part(self, step: Step) -> tuple[Step, Writer, Extents]:
        """A part file that no other session can write into, and which of its bytes may be trusted."""
        adopted = bool(step.adopts)
        if adopted:
            step = await self._adopt(step)
        durable = Extents.decode(step.durable)
        if self._checks_beginnings(step):  # what cannot be checked is not believed
            durable = Extents([(0, Checkpoints.decode(step.checkpoints).up_to(durable.prefix).end)])
        old = step.part(self._session.batch)
        found = await self._destination.look(old) if step.generation else None
        arrived = found.size if found is not None and found.kind is Kind.FILE else 0
        usable = durable.total > 0 and arrived >= durable.end
        counted = step.sent + step.reused + step.holes
        if arrived > counted and not adopted:  # an earlier process died before it could count
            self._commits.add(Change(step.number, sent=arrived - counted))
        if usable and await self._is_ours_alone(step):
            await self._remove_part(step, step.generation + 1)  # a copy of this one that was broken off
            step = await self._begin(step, step.generation, durable)
            return step, await self._destination.reopen_part(old), durable
        writer: Writer | None = None
        # What is found in the old file again need not be copied of the part file, of which only the beginning can be.
        if usable and durable.prefix > step.reused:
            step, writer, durable = await self._copy_generation(step, old, durable.prefix)
        if writer is None:
            step, writer = await self._new_generation(step)
            durable = Extents()
        await self.remove_parts(step)
        return step, writer, durable

    async def _adopt(self, step: Step) -> Step:
        """Give the part file of an earlier batch the name of ours.

        Where that cannot be done, it has our name already, or there is nothing under our name, and that is seen.
        """
        try:
            await self._destination.rename(step.adopts, step.part(self._session.batch))
        except StoreError as error:
            if error.fault in LINE_FAULTS:
                raise
        await self._commits.note(Change(step.number, adopts=b""))
        return replace(step, adopts=b"")

    async def _is_ours_alone(self, step: Step) -> bool:
        """Whether every process that may still write into the present part file has ended, or is our own."""
        if step.session == self._session.number:
            return True
        return await self._destination.writers_gone(self._context.journal.witness(step.session))

    async def _begin(self, step: Step, generation: int, durable: Extents) -> Step:
        """Write down the generation before its part file exists (a copy's: once it is whole)."""
        step = replace(
            step,
            state=StepState.MOVING,
            generation=generation,
            session=self._session.number,
            durable=durable.encode(),
            reused=min(step.reused, durable.total),
            holes=step.holes if generation == step.generation else 0,
            checkpoints=Checkpoints.decode(step.checkpoints).up_to(durable.prefix).encode(),
        )
        await self._commits.note(
            Change(
                step.number,
                state=StepState.MOVING,
                generation=generation,
                session=step.session,
                durable=step.durable,
                digest="",
                reused=step.reused,
                holes=step.holes,
                checkpoints=step.checkpoints,
            )
        )
        return step

    async def _copy_generation(self, step: Step, old: bytes, size: int) -> tuple[Step, Writer | None, Extents]:
        """What is durable of a part file that another process may hold, copied on the node into a new one.

        The journal goes over to the copy only once that is whole: should the line be lost on the way, the old one
        still counts. A copy that was broken off before is in the way of the next one, and goes.
        """
        new = step.part(self._session.batch, step.generation + 1)
        await self._remove_part(step, step.generation + 1)
        try:
            await self._destination.copy_part(old, new, size, self._session.part_mode(step.facts))
        except StoreError as error:
            if error.fault not in (Fault.UNSUPPORTED, Fault.REFUSED, Fault.EXISTS):
                raise
            return step, None, Extents()
        durable = Extents([(0, size)])
        step = await self._begin(step, step.generation + 1, durable)
        return step, await self._destination.reopen_part(new), durable

    async def _new_generation(self, step: Step) -> tuple[Step, Writer]:
        for _ in range(_GENERATIONS):
            step = await self._begin(step, step.generation + 1, Extents())
            try:
                mode = self._session.part_mode(step.facts)
                with self._context.making(step.path):
                    return step, await self._destination.create_part(step.part(self._session.batch), mode)
            except StoreError as error:
                if error.fault is not Fault.EXISTS:
                    raise
        raise StepRefused(Fault.PART_TAKEN)

    async def remove_parts(self, step: Step, *, with_present: bool = False) -> None:
        """Remove the part files of earlier generations. One that is held open by a hung process loses its name."""
        if step.adopts and with_present:
            await self._remove(step.adopts)
        # With the present one goes one more: a copy is made before it is written down.
        for generation in range(1, step.generation + (2 if with_present and step.generation else 0)):
            await self._remove_part(step, generation)

    async def remove_all(self, parts: Iterable[bytes]) -> None:
        """Remove many part files, of which most are not there."""
        names = iter(parts)
        while some := list(islice(names, _GATHERED)):
            await asyncio.gather(*map(self._remove, some))

    async def _remove_part(self, step: Step, generation: int) -> None:
        await self._remove(step.part(self._session.batch, generation))

    async def _remove(self, part: bytes) -> None:
        try:
            await self._destination.remove(part)
        except StoreError as error:
            if error.fault in LINE_FAULTS:
                raise

    async def _same_by_name(self, step: Step) -> None:
        found = await self._source.look_closely(step.source)
        if found is None or not found.same_as(step.facts):
            raise RetryStep(Fault.SOURCE_CHANGED)

    # -- many small ones ---------------------------------------------------------------------------------

    async def _finish(self, step: Step) -> None:
        """Whole -> in place, together with others."""
        for last in (False, True):
            outcome = await self._finisher.finish(step)
            if outcome.fault is not Fault.DIGEST_DIFFERS:
                break
            if last:  # a verdict "different" is looked at twice
                raise RetryStep(Fault.DIGEST_DIFFERS)
        if outcome.fault is Fault.EXISTS:
            found = await self._destination.look(step.path)
            if found is None:
                raise RetryStep(Fault.APPEARED)
            await self._reconsider(step, found)
        elif outcome.fault is not None:
            with self._context.making(step.path, named_only=True):
                raise StoreError(outcome.fault, step.path, store=self._destination.name)
        else:
            if outcome.unset is not None:
                self._tell(Note(step.label, outcome.unset, ""))
            state = StepState.LEFT if outcome.there else StepState.IN_PLACE
            await self._context.settle(step, state, self._session.evidence, digest=step.digest)

    # -- proof -------------------------------------------------------------------------------------------

    async def _prove(self, step: Step, writer: Writer) -> tuple[Evidence, Facts | None]:
        """Whole -> proven, where proof can be had and was asked for: the evidence, and the facts of what was hashed."""
        prove, known = self._session.evidence, None
        if prove is Evidence.SENT:
            return prove, None
        if prove is Evidence.ON_ARRIVAL and step.reused:
            prove = Evidence.ON_NODE  # not all of it has been received
        elif prove is Evidence.ON_ARRIVAL and not await writer.is_untouched(step.facts.size):
            prove = Evidence.READ_BACK  # what has come need not be what is there
        if prove is not Evidence.ON_ARRIVAL:
            for last in (False, True):
                try:
                    value, known = await unless_stopped(self._stop, self._digest_there(step, prove))
                except StoreError as error:
                    if error.fault in _PART_LOST and error.path == step.part(self._session.batch):
                        raise RetryStep(Fault.PART_CHANGED) from error
                    raise
                if value == step.digest:
                    break
                if last:  # a verdict "different" is looked at twice
                    self._reuse.distrust(step)
                    raise RetryStep(Fault.DIGEST_DIFFERS)
        await self._commits.note(Change(step.number, state=StepState.PROVEN, evidence=prove))
        return prove, known

    async def _digest_there(self, step: Step, prove: Evidence) -> tuple[str, Facts | None]:
        """A digest that shows what the part file holds, and the part file's facts where it was hashed itself."""
        part = step.part(self._session.batch)
        if prove is Evidence.ON_NODE and self._destination.traits.here and not self._source.traits.here:
            return (await machine_of(self._source).digest(step.source, ALGORITHM)).digest, None
        if prove is Evidence.ON_NODE or self._destination.traits.here:
            made = await machine_of(self._destination).digest(part, ALGORITHM)
            return made.digest, made.facts
        return await digest_by_reading(self._destination, part, ALGORITHM), None

    # -- the final name ----------------------------------------------------------------------------------

    async def _place(self, step: Step, writer: Writer, evidence: Evidence, known: Facts | None) -> None:
        """Proven (or whole) -> in place. The rename is the commit."""
        try:
            with self._context.making(step.path, named_only=True):
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
        """Something that the plan did not see has the name: left alone. Right all the same, if its contents are."""
        await self._context.refuse_clash(step.path)
        same = False
        if found.kind is Kind.FILE and found.size == step.facts.size:
            if self._destination.traits.here or self._session.hashes_there:
                same = (await machine_of(self._destination).digest(step.path, ALGORITHM)).digest == step.digest
                how = Evidence.READ_BACK if self._destination.traits.here else Evidence.ON_NODE
            else:
                same = await digest_by_reading(self._destination, step.path, ALGORITHM) == step.digest
                how = Evidence.READ_BACK
        await self.remove_parts(step, with_present=True)
        if same:
            await self._context.settle(step, StepState.LEFT, how, digest=step.digest)
        else:
            await self._context.settle(step, StepState.FAILED, fault=Fault.APPEARED)

    async def _placed_before(self, step: Step) -> bool:
        """After a crash between the rename and the journal: look whether the final name holds our file."""
        found = await self._destination.look(step.path)
        evidence = self._session.evidence
        if self._session.times is Times.NOW:  # a size alone says too little where nobody looks at the contents
            right = found is not None and found.size == step.facts.size and evidence is not Evidence.SENT
        else:
            right = found is not None and found.right_for(step.facts, self._destination.traits.time_step_ns)
        if not right:
            return False
        value = step.digest
        if evidence is Evidence.ON_NODE and not self._destination.traits.here:
            value = (await machine_of(self._destination).digest(step.path, ALGORITHM)).digest
        elif evidence is not Evidence.SENT:
            value = await digest_by_reading(self._destination, step.path, ALGORITHM)
        if value != step.digest:
            return False
        await self.remove_parts(step)
        await self._context.settle(step, StepState.IN_PLACE, evidence)
        return True
