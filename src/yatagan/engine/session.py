"""The context: what doing any kind of step needs, and the rules that hold for all of them.

One context serves one session (a pair of stores), and is replaced when the line is.
"""

from __future__ import annotations

import asyncio
import posixpath
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass

from yatagan.batches.events import Listener, Note, StepSettled, StepStarted
from yatagan.batches.group_commit import GroupCommit
from yatagan.batches.journal import Journal
from yatagan.batches.states import SETTLED, Evidence, StepState
from yatagan.batches.steps import Change, Modes, Prove, Step, StepKind, Times
from yatagan.errors import LINE_FAULTS, Fault, StoreError
from yatagan.places import KEPT_DIRECTORY, holds
from yatagan.stores.coalescing import Shared
from yatagan.stores.interface import Facts, Kind, Placement, Readable, Store, Writer
from yatagan.trees.name_clashes import spelled_there

#: Faults of giving a name in a directory that all else in that directory would meet as well, and of making something.
_NAMING_FAULTS = frozenset({Fault.IS_LINK, Fault.NOT_A_DIRECTORY})
_MAKING_FAULTS = _NAMING_FAULTS | {Fault.DENIED, Fault.READ_ONLY}
#: Seconds for which a look at a directory is recent.
_LATELY = 1.0
#: Modes of files that are carried: set-id bits never are.
MODE_BITS = 0o777
#: Of directories the bits that hand down a group and guard names are carried, too.
_SPECIAL_BITS = 0o3000


class StepRefused(Exception):
    """A step cannot be done, for good."""

    def __init__(self, fault: Fault, detail: str = "") -> None:
        super().__init__(fault)
        self.fault = fault
        self.detail = detail


class RetryStep(Exception):
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
        return evidence_for(self.prove, self.source, self.destination, self.hashes_there)

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


def evidence_for(prove: Prove, source: Readable, destination: Readable, hashes_there: bool) -> Evidence:
    """What files are proven by, between two stores; SENT when contents are not looked at.

    `hashes_there`: digests made by the destination see the very disk that is written to.
    """
    here = destination.traits.here
    if here and source.traits.here and prove is Prove.NONE:
        return Evidence.SENT
    if prove is Prove.READ_BACK or (here and source.traits.here):
        return Evidence.READ_BACK
    if prove is Prove.ON_NODE or (prove is Prove.AUTO and hashes_there and not here):
        return Evidence.ON_NODE
    return Evidence.ON_ARRIVAL if here else Evidence.SENT


class StepContext:
    """Both ends, the journal's commits, and whoever listens."""

    def __init__(self, session: Session, journal: Journal, commits: GroupCommit, listener: Listener) -> None:
        self.session = session
        self.source = session.source
        self.destination = session.destination
        self.journal = journal
        self.commits = commits
        self.tell = listener
        self._above = Shared(self._look_above)
        #: When directories were last found to be real ones.
        self._looked: dict[bytes, float] = {}
        #: Directories into which nothing can be written, and why.
        self._closed: dict[bytes, Fault] = {}
        #: Directories for kept files that were made, or found, in this session.
        self._kept_directories: set[bytes] = set()

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
        await self.commits.note(change)
        self.tell(StepSettled(step.number, step.kind, step.label, _weight(step), state, evidence, fault, detail))

    def tell_start(self, step: Step, done: int) -> None:
        """Tell that a step begins, and how much of it is done."""
        self.tell(StepStarted(step.number, step.kind, step.label, _weight(step), done))

    async def check_above(self, path: bytes, *, lately: bool = False) -> None:
        """The directories from the top down to this path are directories still, and none has become a link.

        Raises StepRefused. A store that never follows a link need not be asked: it refuses by itself. `lately`: a look
        of the last second will do, as before a part file is made, whose directory is looked at again when it is named.
        """
        if self.destination.traits.walks:
            return
        directory, now = posixpath.dirname(path), asyncio.get_running_loop().time()
        if not (lately and now - self._looked.get(directory, -_LATELY) < _LATELY):
            await self._above.ask(directory)
            self._looked[directory] = now

    def is_closed(self, path: bytes) -> bool:
        """Whether a directory above a path is known to take nothing."""
        while self._closed and (above := posixpath.dirname(path)) != path:
            if above in self._closed:
                return True
            path = above
        return False

    async def refuse_clash(self, path: bytes) -> None:
        """Something has a name already. Raises StepRefused where that is another name, which the disk takes for it."""
        other = await spelled_there(self.destination, path)
        if other is not None:
            self._closed[path] = Fault.NAME_CLASH
            raise StepRefused(Fault.NAME_CLASH, other.decode("utf-8", "surrogateescape"))

    def close_directory(self, directory: bytes, fault: Fault) -> StepRefused:
        """Nothing can be written into a directory: what to raise, with the reason for the first step that finds out."""
        if self.is_closed(posixpath.join(directory, b"any")):
            return StepRefused(Fault.WITH_DIRECTORY)
        self._closed[directory] = fault
        return StepRefused(fault, f"in {directory.decode('utf-8', 'surrogateescape')}")

    @contextmanager
    def making(self, path: bytes, *, named_only: bool = False) -> Iterator[None]:
        """Something is made at a path, or with `named_only` gets its name there.

        Raises StepRefused for errors that come from the directory above, which no other step then tries again.
        """
        try:
            yield
        except StoreError as error:
            if error.fault in (_NAMING_FAULTS if named_only else _MAKING_FAULTS):
                raise self.close_directory(posixpath.dirname(path), error.fault) from error
            if error.fault is Fault.MISSING:
                raise StepRefused(Fault.ABOVE_GONE) from error
            raise

    async def _look_above(self, directory: bytes) -> None:
        # Directories that are made above the destination itself are only looked at one by one.
        top = self.session.top if holds(self.session.top, directory) else directory
        if await self.destination.is_real(directory, top):
            return
        for above in _down_to(top, directory):
            found = await self.destination.look(above)
            if found is None:
                raise StepRefused(Fault.ABOVE_GONE)
            if found.kind is not Kind.DIRECTORY:
                fault = Fault.IS_LINK if found.kind is Kind.LINK else Fault.NOT_A_DIRECTORY
                raise self.close_directory(above, fault)
        raise self.close_directory(directory, Fault.IS_LINK)

    async def set_directory_facts(self, step: Step, also: int) -> None:
        """Set a directory's mode, with these bits besides, and times. What cannot be set is a note, no failure."""
        mode = step.facts.mode & (MODE_BITS | _SPECIAL_BITS) | also if self.session.modes is Modes.KEEP else None
        mtime_ns = step.facts.mtime_ns if self.session.times is Times.KEEP else None
        if mode is None and mtime_ns is None:
            return
        try:
            await self.destination.set_facts(step.path, mode=mode, mtime_ns=mtime_ns)
        except StoreError as error:
            if error.fault in LINE_FAULTS or error.fault is Fault.NO_ROOM:
                raise
            self.tell(Note(step.label, error.fault, error.detail))
            return
        if mode is not None and mode & _SPECIAL_BITS:
            found = await self.destination.look(step.path)  # a system drops in silence what is not ours to set
            if found is not None and mode & _SPECIAL_BITS & ~found.mode:
                self.tell(Note(step.label, Fault.BITS_DROPPED, ""))

    async def place(self, step: Step, part: Writer, known: Facts | None) -> None:
        """Give an open part file its facts and final name. `known`: the facts by which it was proven.

        What it replaces is kept below the destination. Raises StoreError as `Store.place` does, and StepRefused.
        """
        keep_modes, keep_times = self.session.modes is Modes.KEEP, self.session.times is Times.KEEP
        wanted = Placement(
            step.part(self.session.batch),
            step.path,
            step.facts.size,
            self.session.top,
            known,
            step.facts.mode & MODE_BITS if keep_modes else None,
            step.facts.mtime_ns if keep_times else None,
            step.seen,
            await self._kept_name(step) if step.seen is not None else b"",
        )
        unset = await self.destination.place(part, wanted)
        if unset is not None:
            self.tell(Note(step.label, unset, ""))

    async def keep(self, step: Step, found: Facts) -> None:
        """A second name for a link that is about to be replaced, below the destination."""
        kept = await self._kept_name(step)
        try:
            await self.destination.keep(step.path, kept)
        except StoreError as error:
            if error.fault is not Fault.EXISTS:
                raise
            earlier = await self.destination.look(kept)
            if earlier is None or not earlier.named_again(found):
                raise StepRefused(Fault.KEPT_TAKEN) from error

    async def _kept_name(self, step: Step) -> bytes:
        """Where what a step replaces is kept; the directories for it are made."""
        kept = posixpath.join(self.session.top, KEPT_DIRECTORY, self.session.batch.encode(), step.label)
        await self._make_directories(posixpath.dirname(kept))
        return kept

    async def _make_directories(self, path: bytes) -> None:
        if path == self.session.top or path in self._kept_directories:
            return
        await self._make_directories(posixpath.dirname(path))
        await self.check_above(path)
        try:
            await self.destination.make_directory(path, 0o700)
        except StoreError as error:
            if error.fault is not Fault.EXISTS:
                raise
        self._kept_directories.add(path)


def _down_to(top: bytes, directory: bytes) -> list[bytes]:
    """The directories from the top to one below it."""
    found = [directory]
    while found[-1] != top and len(found[-1]) > 1:
        found.append(posixpath.dirname(found[-1]))
    return found[::-1]


def _weight(step: Step) -> int:
    return step.facts.size if step.kind in (StepKind.FILE, StepKind.BUNDLE, StepKind.ARCHIVE) else 0
