"""The bench: what doing any kind of step needs, and the rules that hold for all of them.

One bench serves one session (a pair of stores), and is replaced when the line is.
"""

from __future__ import annotations

import posixpath
from dataclasses import dataclass, replace

from yatagan.batches.events import Listener, Note, StepSettled, StepStarted
from yatagan.batches.journal import Journal
from yatagan.batches.scribe import Scribe
from yatagan.batches.states import SETTLED, Evidence, StepState
from yatagan.batches.steps import Change, Modes, Prove, Step, StepKind, Times
from yatagan.errors import LINE_FAULTS, Fault, StoreError
from yatagan.places import KEPT_DIRECTORY, holds
from yatagan.stores.interface import Facts, Kind, Readable, Store

#: Modes carried: set-id and sticky bits never are.
MODE_BITS = 0o777


class StepRefused(Exception):
    """A step cannot be done, for good."""

    def __init__(self, fault: Fault, detail: str = "") -> None:
        super().__init__(fault)
        self.fault = fault
        self.detail = detail


class TryAgain(Exception):
    """A step was not done; another try may do it. The part file is of no more use."""

    def __init__(self, fault: Fault) -> None:
        super().__init__(fault)
        self.fault = fault


@dataclass(frozen=True, slots=True)
class Session:
    """What one session works with.

    `number` is the session's in the journal; `hashes_there` tells that digests made by the destination see
    the very disk that we write to; `top` is the destination directory, under which kept files go.
    """

    number: int
    batch: str
    top: bytes
    prove: Prove
    modes: Modes
    times: Times
    source: Readable
    destination: Store
    hashes_there: bool

    @property
    def evidence(self) -> Evidence:
        """What a file of this session will have been proven by; SENT when contents are not looked at."""
        near, asked = self.destination.traits.quick, self.prove
        there = self.source.traits.digests if near else self.hashes_there
        if asked is Prove.READ_BACK or (near and self.source.traits.quick):
            return Evidence.READ_BACK
        if asked is Prove.ON_NODE or (asked is Prove.AUTO and there and not near):
            return Evidence.ON_NODE
        return Evidence.RECEIVED if near else Evidence.SENT

    def part_mode(self, facts: Facts) -> int:
        """Permission bits that a part file is made with: nobody's but ours, or what the site makes of them.

        Access lists that a directory hands down are applied when a file is made, and never again.
        """
        if self.modes is Modes.KEEP:
            return 0o600
        return 0o777 if facts.mode & 0o111 else 0o666

    def directory_mode(self, facts: Facts) -> int:
        """Permission bits that a directory is made with: ours to write in until its own are set, last of all."""
        return (facts.mode & MODE_BITS) | 0o700 if self.modes is Modes.KEEP else 0o777


class Bench:
    """Both ends, the journal's scribe, whoever listens; and which directories are known to be real ones."""

    def __init__(self, session: Session, journal: Journal, scribe: Scribe, listener: Listener) -> None:
        self.session = session
        self.source = session.source
        self.destination = session.destination
        self.journal = journal
        self.scribe = scribe
        self.tell = listener
        self._real_directories: set[bytes] = {session.top}

    async def settle(
        self,
        step: Step,
        state: StepState,
        evidence: Evidence | None = None,
        fault: Fault | None = None,
        detail: str = "",
        digest: str | None = None,
    ) -> None:
        """Write the outcome, then tell it."""
        assert state in SETTLED
        change = Change(step.number, state=state, evidence=evidence, fault=fault, detail=detail, digest=digest)
        await self.scribe.note(change)
        self.tell(StepSettled(step.number, step.kind, step.label, _weight(step), state, evidence, fault, detail))

    def tell_start(self, step: Step, done: int) -> None:
        """Tell that a step begins, and how much of it is done."""
        self.tell(StepStarted(step.number, step.kind, step.label, _weight(step), done))

    async def check_above(self, path: bytes) -> None:
        """The directories from the top down to this path are directories, not links that lead elsewhere."""
        above = posixpath.dirname(path)
        if above in self._real_directories or above == self.session.top or not holds(self.session.top, above):
            return
        await self.check_above(above)
        found = await self.destination.look(above)
        if found is None or found.kind is not Kind.DIRECTORY:
            fault = (
                Fault.MISSING if found is None else Fault.IS_LINK if found.kind is Kind.LINK else Fault.NOT_A_DIRECTORY
            )
            raise StepRefused(fault, "above it")
        self._real_directories.add(above)

    async def set_facts(self, step: Step, path: bytes, also: int = 0) -> None:
        """Set mode and times. What cannot be set is a note, no failure, and no cause to send again."""
        mode = step.facts.mode & MODE_BITS | also if self.session.modes is Modes.KEEP else None
        try:
            mtime_ns = step.facts.mtime_ns if self.session.times is Times.KEEP else None
            if mode is not None or mtime_ns is not None:
                await self.destination.set_facts(path, mode=mode, mtime_ns=mtime_ns)
        except StoreError as error:
            if error.fault in LINE_FAULTS or error.fault is Fault.NO_ROOM:
                raise
            self.tell(Note(step.label, error.fault, error.detail))

    async def keep(self, step: Step, found: Facts) -> None:
        """A second name for what is about to be replaced, below the destination."""
        kept = posixpath.join(self.session.top, KEPT_DIRECTORY, self.session.batch.encode(), step.label)
        await self._make_directories(posixpath.dirname(kept))
        try:
            await self.destination.keep(step.path, kept)
        except StoreError as error:
            if error.fault is not Fault.EXISTS:
                raise
            earlier = await self.destination.look(kept)
            if earlier is None or not earlier.same_as(replace(found, changed_ns=None, inode=None)):
                raise StepRefused(Fault.EXISTS, "among the kept files") from error

    async def _make_directories(self, path: bytes) -> None:
        if path in self._real_directories:
            return
        await self._make_directories(posixpath.dirname(path))
        try:
            await self.destination.make_directory(path, 0o700)
        except StoreError as error:
            if error.fault is not Fault.EXISTS:
                raise
        await self.check_above(posixpath.join(path, b"."))


def _weight(step: Step) -> int:
    return step.facts.size if step.kind in (StepKind.FILE, StepKind.BUNDLE, StepKind.ARCHIVE) else 0
