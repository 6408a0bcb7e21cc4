"""Part files: which one a step goes on in, and which of its bytes may be trusted; their generations and their end."""

from __future__ import annotations

import contextlib
from collections.abc import Iterable
from dataclasses import replace

from yatagan.batches.states import StepState
from yatagan.batches.steps import Change, Step
from yatagan.engine.session import StepRefused
from yatagan.engine.step_context import StepContext
from yatagan.errors import FileTrouble, StoreError
from yatagan.faults import Fault
from yatagan.stores.interface import Kind, Writer
from yatagan.transfer.checkpoints import Checkpoints
from yatagan.transfer.extents import Extents
from yatagan.trees.removing import remove_files

#: Part files that may be in our way before we take it that something is wrong.
_GENERATIONS = 5


class PartFiles:
    """The part files of one session's steps. Raises StoreError when the connection is lost."""

    def __init__(self, context: StepContext) -> None:
        self._context = context
        self._session = context.session
        self._source = context.source
        self._destination = context.destination
        self._commits = context.commits

    async def open(self, step: Step) -> tuple[Step, Writer, Extents]:
        """Open a part file that no other session can write into. Returns the step, the file, and its durable bytes."""
        adopted = bool(step.adopts)
        if adopted:
            step = await self._adopt(step)
        durable = Extents.decode(step.durable)
        if self.checks_beginning(step):  # what cannot be checked is not believed
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
        await self.remove(step)
        return step, writer, durable

    async def _adopt(self, step: Step) -> Step:
        """Rename the part file of an earlier batch to our name.

        Where that fails, an earlier try did it, or there is nothing under our name, which `open` then finds.
        """
        try:
            await self._destination.rename(step.adopts, step.part(self._session.batch))
        except FileTrouble:
            pass
        await self._commits.note(Change(step.number, adopts=b""))
        return replace(step, adopts=b"")

    async def _is_ours_alone(self, step: Step) -> bool:
        """Whether every process that may still write into the part file has ended, or is our own."""
        if step.session == self._session.number:
            return True
        return await self._destination.writers_gone(self._context.journal.witness(step.session))

    async def _begin(self, step: Step, generation: int, durable: Extents) -> Step:
        """Journal the generation before its part file exists (of a copy: once it is complete)."""
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
        """Copy, on the node, what is durable of a part file that another process may still write into.

        The journal names the copy only once it is complete: if the connection is lost before, the old one still counts.
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
                with self._context.above.making(step.path):
                    return step, await self._destination.create_part(step.part(self._session.batch), mode)
            except StoreError as error:
                if error.fault is not Fault.EXISTS:
                    raise
        raise StepRefused(Fault.PART_TAKEN)

    def checks_beginning(self, step: Step) -> bool:
        """Whether the durable beginning is compared with its checkpoints when it is read again: in downloads.

        Others are proven as a whole, by a digest on their own machine.
        """
        return self._destination.traits.here and not self._source.traits.here and not step.reused

    async def remove(self, step: Step, *, with_present: bool = False) -> None:
        """Remove part files of earlier generations, and with `with_present` the present one and what it adopts."""
        if step.adopts and with_present:
            await self._remove_name(step.adopts)
        # One generation more than is journalled: a copy exists before it is.
        for generation in range(1, step.generation + (2 if with_present and step.generation else 0)):
            await self._remove_part(step, generation)

    async def remove_all(self, parts: Iterable[bytes]) -> None:
        """Remove part files by name; most need not exist."""
        await remove_files(self._destination, parts)

    async def _remove_part(self, step: Step, generation: int) -> None:
        await self._remove_name(step.part(self._session.batch, generation))

    async def _remove_name(self, part: bytes) -> None:
        with contextlib.suppress(FileTrouble):
            await self._destination.remove(part)
