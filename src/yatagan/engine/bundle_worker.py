"""The worker for a bundle in which many small files travel.

The bundle is made while it is read and extracted where it arrives. Every file keeps its own step. A file that cannot
travel so (it changed, its name was taken, the node refused) stays waiting, and is carried by itself after the bundles.

A bundle is a tar whose every byte follows from its files' facts and contents, so the carrier treats it like any other
file: what is durable of it is never sent again. No byte of it is ever written to a disk here.
"""

from __future__ import annotations

import asyncio
import hashlib
import zlib
from bisect import bisect_right
from collections.abc import Sequence
from dataclasses import replace

from yatagan.batches.events import Note, StepSettled
from yatagan.batches.states import Evidence, StepState
from yatagan.batches.steps import Change, Step
from yatagan.digests.checksum_lists import ALGORITHM
from yatagan.engine.destination import look_at_destination
from yatagan.engine.file_worker import FileWorker
from yatagan.engine.session import StepRefused
from yatagan.engine.step_context import StepContext
from yatagan.errors import LineLost, StoreError
from yatagan.faults import Fault
from yatagan.planning.bundling import LARGEST_BUNDLED, BundleLayout
from yatagan.portable.tar import END, padding
from yatagan.stores.in_flight import InFlight
from yatagan.stores.interface import Extracted, Facts, Kind, Piece, Readable, machine_of
from yatagan.transfer.stopping import Stopped

#: Tries with what is left of a bundle, when files of it are gone or changed, before all of it goes one by one.
_TRIES = 3
#: Files that are extracted by one request.
_FILES_PER_REQUEST = 200
#: Bytes of a bundle that are being gathered at once.
_READ_AHEAD = 4 << 20


class MemberLost(Exception):
    """A member of a bundle cannot be read as it was planned."""

    def __init__(self, member: Step, fault: Fault) -> None:
        super().__init__(fault)
        self.member = member
        self.fault = fault


class BundleReader:
    """The bundle as an open file, made from its members as it is read."""

    def __init__(self, source: Readable, layout: BundleLayout) -> None:
        self._source = source
        self._layout = layout
        self._held: dict[int, bytes] = {}
        self.flow = InFlight(_READ_AHEAD)
        self.read_here = None

    async def facts(self) -> Facts:
        """A bundle has none of its own but its size."""
        return Facts(Kind.FILE, self._layout.size, 0, 0)

    async def read(self, offset: int, size: int) -> bytes:
        """Raises Lost."""
        layout = self._layout
        end = min(offset + size, layout.size)
        first, last = self._covering(offset), self._covering(end - 1)
        wanted = range(first, last + 1)
        contents = await self._contents(wanted, end)
        pieces = []
        for number in wanted:
            data = contents[number]
            pieces += [layout.heads[number], data, bytes(padding(len(data)))]
        if end > layout.end:
            pieces.append(END)
        start = layout.starts[first] if wanted else layout.end
        return b"".join(pieces)[offset - start : end - start]

    def _covering(self, offset: int) -> int:
        return bisect_right(self._layout.starts, offset) - 1

    async def _contents(self, wanted: range, end: int) -> dict[int, bytes]:
        found = {number: self._held.pop(number) for number in wanted if number in self._held}
        missing = [number for number in wanted if number not in found]
        members = [self._layout.members[number] for number in missing]
        if members:
            gathered = await machine_of(self._source).read_small([member.source for member in members], LARGEST_BUNDLED)
            for number, member, each in zip(missing, members, gathered, strict=True):
                if each.facts is None or not each.facts.same_as(member.facts):
                    raise MemberLost(member, each.fault or Fault.SOURCE_CHANGED)
                found[number] = each.contents
        last = wanted[-1] if wanted else -1
        if last >= 0 and self._layout.begins(last) + len(found[last]) > end:
            self._held[last] = found[last]  # it goes on in the next block
        return found

    async def close(self) -> None:
        self._held.clear()


class MemberDigests:
    """The digests of a bundle's members, computed from the bundle's bytes as they pass."""

    def __init__(self, layout: BundleLayout) -> None:
        self._layout = layout
        self._at = 0
        self._number = 0
        self._value = hashlib.new(ALGORITHM)
        self.digests: list[str] = []
        self._checksum = 0
        #: What has taken its place, if the bundle had to be read anew.
        self.again: MemberDigests | None = None

    def update(self, data: Piece, /) -> None:
        layout, view, end = self._layout, memoryview(data), self._at + len(data)
        self._checksum = zlib.crc32(view, self._checksum)
        while self._number < len(layout.members):
            begins = layout.begins(self._number)
            stops = begins + layout.members[self._number].facts.size
            if begins < end:
                self._value.update(view[max(begins - self._at, 0) : max(stops - self._at, 0)])
            if stops > end:
                break
            self._next()
        self._at = end

    def _next(self) -> None:
        self.digests.append(self._value.hexdigest())
        self._value = hashlib.new(ALGORITHM)
        self._number += 1

    def hexdigest(self) -> str:
        """The bundle itself needs none."""
        return ""

    def checkpoint(self) -> str:
        """A checksum, not a proof: it finds a bundle that has changed."""
        return f"{self._checksum:08x}"

    def anew(self) -> MemberDigests:
        self.again = MemberDigests(self._layout)
        return self.again


class BundleWorker:
    """Carries bundles and has them extracted."""

    def __init__(self, context: StepContext, files: FileWorker, stop: asyncio.Event) -> None:
        self._context = context
        self._session = context.session
        self._source = context.source
        self._destination = context.destination
        self._commits = context.commits
        self._tell = context.tell
        self._files = files
        self._stop = stop

    async def do(self, step: Step) -> None:
        """Carry and extract a bundle, from wherever an earlier session left it. Raises as `StepWorker.do` does."""
        state = StepState.LEFT
        if self._possible:
            try:
                state = await self._bring(step)
            except (StepRefused, StoreError) as error:
                if isinstance(error, LineLost):
                    raise
                # Unless the destination has moved: then the part file is kept until it is put back.
                await look_at_destination(self._context.journal, self._destination, self._session.top)
                # Files that go one by one need less of the disk and of its rights; what is wrong they will tell.
        step = self._context.journal.step(step.number)
        await self._files.parts.remove(step, with_present=True)
        if state is StepState.LEFT and step.generation:
            await self._clear_members(step)
        await self._context.settle(step, state)

    async def _clear_members(self, step: Step) -> None:
        """Remove part files of members that an interrupted extraction left behind."""
        waiting = [each for each in self._context.journal.members(step.number) if each.state is StepState.WAITING]
        batch, generations = self._session.batch, range(1, step.generation + 1)
        await self._files.parts.remove_all(member.part(batch, each) for member in waiting for each in generations)

    async def _bring(self, step: Step) -> StepState:
        """Carry the bundle and extract what can be had. Returns the state of its step."""
        for _ in range(_TRIES):
            members = self._context.journal.members(step.number)
            waiting = [member for member in members if member.state is StepState.WAITING]
            if not waiting:
                break
            await self._files.sources.let_age([member.facts for member in waiting])
            try:
                step, layout, digests = await self._carry(step, members)
            except MemberLost as lost:
                step = replace(step, state=StepState.WAITING, durable="", digest="")
                await self._commits.note(
                    Change(lost.member.number, bundle=0),
                    Change(step.number, state=step.state, durable=step.durable, digest=step.digest),
                )
                continue
            await self._extract(step, layout, digests)
            return StepState.IN_PLACE
        return StepState.LEFT

    async def _carry(self, step: Step, members: Sequence[Step]) -> tuple[Step, BundleLayout, dict[int, str]]:
        """Bring the bundle into a part file. Returns its step, its layout, and the digests of its members."""
        layout = BundleLayout(members)
        if layout.size != step.facts.size:
            step = replace(step, facts=replace(step.facts, size=layout.size), durable="")
            self._commits.add(Change(step.number, facts=step.facts))
        elif step.state in (StepState.ARRIVED, StepState.PROVEN):
            step = replace(step, state=StepState.MOVING)  # read again for its digests; no byte of it moves
        made = MemberDigests(layout)
        reader = BundleReader(self._source, layout)
        try:
            step = await self._files.carry_from(step, reader, made)
        finally:
            await reader.close()
        made = made.again or made
        return step, layout, dict(zip((member.number for member in members), made.digests, strict=True))

    @property
    def _possible(self) -> bool:
        """Whether both machines can do it, and the destination's commands see the disk that is written to."""
        both = self._source.machine is not None and self._destination.machine is not None
        return both and self._session.hashes_there

    async def _extract(self, step: Step, layout: BundleLayout, digests: dict[int, str]) -> None:
        """Extract every member that is waiting, some hundred by one request."""
        numbers = [at for at, member in enumerate(layout.members) if member.state is StepState.WAITING]
        for at in range(0, len(numbers), _FILES_PER_REQUEST):
            if self._stop.is_set():
                raise Stopped
            handful = numbers[at : at + _FILES_PER_REQUEST]
            members = [layout.members[number] for number in handful]
            files = [
                self._session.bundled_file(member, digests[member.number], step.generation, layout.begins(number))
                for number, member in zip(handful, members, strict=True)
            ]
            outcomes = await machine_of(self._destination).extract(step.part(self._session.batch), files)
            await self._settle(members, outcomes, digests)

    async def _settle(self, members: Sequence[Step], outcomes: Sequence[Extracted], digests: dict[int, str]) -> None:
        """Journal the outcomes in one commit, then tell them. Members that were not extracted stay waiting."""
        evidence = self._evidence
        changes, events = [], []
        for member, outcome in zip(members, outcomes, strict=True):
            if outcome.fault is Fault.NO_SPACE:
                raise StoreError(Fault.NO_SPACE, member.path, store=self._destination.name)
            if outcome.fault is not None:
                continue
            state = StepState.LEFT if outcome.there else StepState.IN_PLACE
            digest = digests[member.number]
            changes.append(Change(member.number, state=state, evidence=evidence, digest=digest))
            size = member.facts.size
            events.append(StepSettled(member.number, member.kind, member.label, size, state, evidence, None, ""))
            if outcome.unset is not None:
                self._tell(Note(member.label, outcome.unset, ""))
        await self._commits.note(*changes)
        for event in events:
            self._tell(event)

    @property
    def _evidence(self) -> Evidence:
        """How extracted files are proven: their machine reads each again after it was synced."""
        near = self._destination.traits.here
        return Evidence.ON_ARRIVAL if near and not self._source.traits.here else Evidence.ON_NODE
