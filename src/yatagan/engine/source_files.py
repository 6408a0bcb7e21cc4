"""The source of a file step: it must hold still, and be old enough to show a change, before it is read."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Protocol

from yatagan.batches.events import Ageing
from yatagan.batches.states import Evidence, StepState
from yatagan.batches.steps import Change, Step
from yatagan.engine.session import RetryStep, StepRefused
from yatagan.engine.step_context import StepContext
from yatagan.faults import Fault
from yatagan.planning.bundling import LARGEST_BUNDLED
from yatagan.stores.coalescing import Coalesced
from yatagan.stores.in_flight import InFlight
from yatagan.stores.interface import Facts, Kind, Reader, SmallFile, machine_of
from yatagan.trees.compare import FRESH_NS, is_fresh

#: Small files that are read by one request.
_SMALL_AT_ONCE = 64


def _anew(step: Step) -> Step:
    """The step as `Change.anew` journals it."""
    return replace(step, state=StepState.WAITING, durable="", digest="", reused=0, checkpoints="")


class Clock(Protocol):
    """A clock; simulations have their own."""

    def monotonic(self) -> float:
        """Seconds since some fixed moment; never goes back."""

    async def sleep(self, seconds: float) -> None:
        """Wait."""


class FileInMemory:
    """A small file that was read whole; see `Reader`."""

    read_here = None

    def __init__(self, contents: bytes, facts: Facts) -> None:
        self._contents = contents
        self._facts = facts
        self.flow = InFlight(len(contents))

    async def facts(self) -> Facts:
        """As they were when it was read."""
        return self._facts

    async def read(self, offset: int, size: int) -> bytes:
        return self._contents[offset : offset + size]

    async def close(self) -> None:
        pass


class SourceFiles:
    """Looks at files of the source. `clock` waits."""

    def __init__(self, context: StepContext, clock: Clock) -> None:
        self._source = context.source
        self._commits = context.commits
        self._tell = context.tell
        self._evidence = context.session.evidence
        self._clock = clock
        self._small = Coalesced(self._read_many, _SMALL_AT_ONCE, 1)

    async def look(self, step: Step) -> tuple[Step, Reader | None]:
        """The step with the finest facts of its source; started anew when they have changed since.

        A small file of this machine is read at once; its reader is returned, else None.
        """
        reader = await self._read_small(step)
        if reader is not None:
            found: Facts | None = await reader.facts()
        else:
            found = await self._source.look_closely(step.source)
        if found is None:
            raise StepRefused(Fault.MISSING, "the source")
        if found.kind is not Kind.FILE:
            raise StepRefused(Fault.SOURCE_KIND, found.kind.value)
        if step.beginning is not None and step.still_is(found) and not found.same_as(step.facts):
            return await self._grown(step, found), reader
        if await self._let_one_age(step, found):
            reader = None  # what was read before that may have changed unnoticed
        if found == step.facts:
            return step, reader
        if found.same_as(step.facts):
            self._commits.add(Change(step.number, facts=found))
            return replace(step, facts=found), reader
        # One change: if we died between two, bytes of the old file would pass for the new one's.
        self._commits.add(Change.anew(step.number)._replace(facts=found))
        return _anew(replace(step, facts=found)), reader

    async def _grown(self, step: Step, found: Facts) -> Step:
        """A growing file that has grown since the plan: it is carried as far as it was then."""
        # Without a proof nothing would show that what came before was of another file, or was written anew.
        unproven = self._evidence is Evidence.SENT and step.durable != ""
        change = Change.anew(step.number) if unproven else Change(step.number)
        facts = replace(step.facts, inode=found.inode)
        self._commits.add(change._replace(facts=facts))
        step = replace(step, facts=facts)
        return _anew(step) if unproven else step

    async def _read_small(self, step: Step) -> FileInMemory | None:
        """A small file of this machine, read whole and of one moment; None for others, and where that failed."""
        if not (self._source.traits.here and step.facts.size <= LARGEST_BUNDLED):
            return None
        found = await self._small.ask(step.source)
        return FileInMemory(found.contents, found.facts) if found.facts is not None else None

    async def _read_many(self, paths: Sequence[bytes]) -> list[SmallFile]:
        return await machine_of(self._source).read_small(paths, LARGEST_BUNDLED)

    async def _let_one_age(self, step: Step, found: Facts) -> bool:
        """Wait until a change to the file would show in its times. Returns whether it had to wait.

        A later session takes equal facts for equal contents, so nothing may be read before that.
        """
        if await self.let_age([found]):
            again = await self._source.look_closely(step.source)
            if again is None or not replace(step, facts=found).still_is(again):
                raise RetryStep(Fault.SOURCE_CHANGED)
            return True
        return False

    async def let_age(self, files: Sequence[Facts]) -> bool:
        """Wait until a change to any of these files would show in its times. Returns whether it had to wait."""
        now = await self._source.clock_ns()
        window = max(FRESH_NS, self._source.traits.time_step_ns)
        if now is None or not any(is_fresh(facts, now - window) for facts in files):
            return False
        newest = max(facts.mtime_ns if facts.changed_ns is None else facts.changed_ns for facts in files)
        wait = min(window, newest + window - now) / 1e9  # a clock that is behind must not make us wait for ever
        self._tell(Ageing(wait))
        await self._clock.sleep(wait)
        return True

    async def check_by_name(self, step: Step) -> None:
        """Look at the source again by its name. Raises RetryStep when it has changed."""
        found = await self._source.look_closely(step.source)
        if found is None or not step.still_is(found):
            raise RetryStep(Fault.SOURCE_CHANGED)
