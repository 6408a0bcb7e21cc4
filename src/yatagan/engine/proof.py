"""Proof: whether a part file holds what was read of the source, and how we know."""

from __future__ import annotations

import asyncio
from collections.abc import Callable

from yatagan.batches.events import StepProven
from yatagan.batches.states import Evidence, StepState
from yatagan.batches.steps import Change, Step
from yatagan.digests.checksum_lists import ALGORITHM
from yatagan.engine.session import RetryStep
from yatagan.engine.step_context import StepContext
from yatagan.errors import StoreError
from yatagan.faults import Fault
from yatagan.stores.interface import Facts, Writer, machine_of
from yatagan.transfer.stopping import unless_stopped
from yatagan.trees.hashing import digest_by_reading

#: What is found under a part file's name when another program has put something else there.
_PART_LOST = frozenset({Fault.MISSING, Fault.IS_LINK, Fault.SPECIAL, Fault.IS_DIRECTORY, Fault.UNSUPPORTED})


class Prover:
    """Proves part files. `distrust` is called with a step whose digest differs."""

    def __init__(self, context: StepContext, stop: asyncio.Event, distrust: Callable[[Step], None]) -> None:
        self._session = context.session
        self._source = context.source
        self._destination = context.destination
        self._commits = context.commits
        self._tell = context.tell
        self._stop = stop
        self._distrust = distrust

    async def prove(self, step: Step, writer: Writer) -> tuple[Evidence, Facts | None]:
        """Arrived -> proven, where proof was asked for. Returns the evidence, and facts of the file that was hashed."""
        prove, known = self._session.evidence, None
        if prove is Evidence.SENT:
            return prove, None
        if prove is Evidence.ON_ARRIVAL:
            if not await writer.is_untouched(step.facts.size):
                prove, known = Evidence.READ_BACK, await self._compare(step, Evidence.READ_BACK)
            if step.reused:  # not all of it has been received
                prove = Evidence.ON_NODE
                await self._compare(step, prove)
        else:
            known = await self._compare(step, prove)
        await self._commits.note(Change(step.number, state=StepState.PROVEN, evidence=prove))
        self._tell(StepProven(step.number))
        return prove, known

    async def _compare(self, step: Step, prove: Evidence) -> Facts | None:
        """Make a digest and compare it. Returns the part file's facts if it was hashed itself. Raises RetryStep."""
        for last in (False, True):
            try:
                value, known = await unless_stopped(self._stop, self._digest_there(step, prove))
            except StoreError as error:
                if error.fault in _PART_LOST and error.path == step.part(self._session.batch):
                    raise RetryStep(Fault.PART_CHANGED) from error
                raise
            if value == step.digest:
                return known
            if last:  # a verdict "different" is looked at twice
                self._distrust(step)
        raise RetryStep(Fault.DIGEST_DIFFERS)

    async def _digest_there(self, step: Step, prove: Evidence) -> tuple[str, Facts | None]:
        """A digest to compare with that of what was sent, and the part file's facts if it was hashed itself."""
        part = step.part(self._session.batch)
        if prove is Evidence.ON_NODE and self._destination.traits.here and not self._source.traits.here:
            machine = machine_of(self._source)
            if step.beginning is not None:
                return (await machine.digest_start(step.source, step.facts.size, ALGORITHM)).digest, None
            return (await machine.digest(step.source, ALGORITHM)).digest, None
        if prove is Evidence.ON_NODE or self._destination.traits.here:
            made = await machine_of(self._destination).digest(part, ALGORITHM)
            return made.digest, made.facts
        return await digest_by_reading(self._destination, part, ALGORITHM), None
