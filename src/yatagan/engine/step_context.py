"""What every kind of step needs: both stores, the journal, the listeners, and the rules that hold for all steps."""

from __future__ import annotations

import posixpath

from yatagan.batches.events import Listener, Note, StepSettled, StepStarted
from yatagan.batches.group_commit import GroupCommit
from yatagan.batches.journal import Journal
from yatagan.batches.states import SETTLED, Evidence, StepState
from yatagan.batches.steps import Change, Modes, Setting, Step, StepKind, Times
from yatagan.digests.checksum_lists import ALGORITHM
from yatagan.engine.directories_above import DirectoriesAbove
from yatagan.engine.kept_files import KeptFiles
from yatagan.engine.session import MODE_BITS, Session
from yatagan.errors import StoreError
from yatagan.faults import MACHINE_FAULTS, Fault
from yatagan.stores.coalescing import Shared
from yatagan.stores.interface import Facts, Kind, Placement, Writer, machine_of, same_time
from yatagan.trees.hashing import digest_by_reading
from yatagan.trees.time_steps import as_kept

#: Set-group-id and sticky: of directories these are carried too.
_SPECIAL_BITS = 0o3000
#: The bit by which a directory gives its group to what is made in it.
_HANDED_DOWN = 0o2000


class StepContext:
    """What one session's steps share; a new session has a new one."""

    def __init__(self, session: Session, journal: Journal, commits: GroupCommit, listener: Listener) -> None:
        self.session = session
        self.source = session.source
        self.destination = session.destination
        self.journal = journal
        self.commits = commits
        self.tell = listener
        self.above = DirectoriesAbove(session.destination, session.top)
        self.kept = KeptFiles(session, self.above)
        #: Directories in which this session has given names that a power cut could undo.
        self.unsynced: set[bytes] = set()
        self._syncing = Shared(self._sync_directory)

    async def settle(
        self,
        step: Step,
        state: StepState,
        evidence: Evidence | None = None,
        fault: Fault | None = None,
        detail: str = "",
        digest: str | None = None,
    ) -> None:
        """Journal the outcome of a step, then report it to the listeners."""
        assert state in SETTLED
        change = Change(step.number, state=state, evidence=evidence, fault=fault, detail=detail, digest=digest)
        await self.commits.note(change)
        self.tell(StepSettled(step.number, step.kind, step.label, _size(step), state, evidence, fault, detail))

    def tell_settled(self, step: Step, state: StepState, fault: Fault | None) -> None:
        """Report to the listeners that a step is settled, which is journalled already."""
        self.tell(StepSettled(step.number, step.kind, step.label, _size(step), state, None, fault, ""))

    def has_time(self, step: Step, found: Facts) -> bool:
        """Whether something has the time that its step has set, as the disk there keeps it."""
        step_ns = self.destination.traits.time_step_ns
        wanted = step.facts.mtime_ns
        return same_time(found.mtime_ns, wanted, step_ns) or as_kept(found.mtime_ns, wanted)

    async def digest_at(self, path: bytes, size: int | None = None) -> tuple[str, Evidence]:
        """The digest of a file of the destination, or of its first `size` bytes.

        Made there where commands see its disk; else by reading it back.
        """
        here = self.destination.traits.here
        if here or self.session.hashes_there:
            machine = machine_of(self.destination)
            made = machine.digest(path, ALGORITHM) if size is None else machine.digest_start(path, size, ALGORITHM)
            return (await made).digest, Evidence.READ_BACK if here else Evidence.ON_NODE
        return await digest_by_reading(self.destination, path, ALGORITHM, size), Evidence.READ_BACK

    async def sync_name(self, path: bytes) -> None:
        """Make a name that was just given durable, before anything is built on it. Raises StoreError."""
        await self._syncing.ask(posixpath.dirname(path))

    async def _sync_directory(self, directory: bytes) -> None:
        await self.destination.sync_directory(directory)

    def tell_start(self, step: Step, done: int) -> None:
        """Report to the listeners that a step begins, with `done` of its bytes already there."""
        self.tell(StepStarted(step.number, step.kind, step.label, _size(step), done))

    async def set_directory_facts(self, step: Step, also: int) -> None:
        """Set a directory's mode (with the bits `also`) and times. What cannot be set is a note, not a failure."""
        mode = step.facts.mode & (MODE_BITS | _SPECIAL_BITS) | also if self.session.modes is Modes.KEEP else None
        mtime_ns = step.facts.mtime_ns if self.session.times is Times.KEEP else None
        if mode is None and mtime_ns is None:
            return
        try:
            await self.destination.set_facts(step.path, mode=mode, mtime_ns=mtime_ns)
        except StoreError as error:
            if error.fault in MACHINE_FAULTS:
                raise
            self.tell(Note(step.label, error.fault, error.detail))
            return
        if mode is not None and mode & _SPECIAL_BITS:
            found = await self.destination.look(step.path)  # a system drops in silence what is not ours to set
            if found is not None and mode & _SPECIAL_BITS & ~found.mode:
                self.tell(Note(step.label, Fault.BITS_DROPPED, ""))

    async def set_facts_there(self, step: Step, found: Facts) -> Fault | None:
        """Set what differs of something that was there, which is as `found`. Returns why it was refused, or None."""
        mode = self._mode_there(step, found) if self.session.modes is Modes.KEEP else None
        keeps = self.session.times is Times.KEEP and step.setting is not Setting.NARROW
        mtime_ns = step.facts.mtime_ns if keeps else None
        if mode is None and mtime_ns is None:
            return None
        fault: Fault | None = None
        try:
            await self.destination.set_facts(step.path, mode=mode, mtime_ns=mtime_ns)
        except StoreError as error:
            if error.fault in MACHINE_FAULTS:
                raise
            fault = error.fault
        if fault is None and mode is not None:
            now = await self.destination.look(step.path)  # a system drops in silence what is not ours to set
            if now is not None and mode & ~now.mode & (MODE_BITS | _SPECIAL_BITS):
                fault = Fault.BITS_DROPPED
        if fault is not None and step.setting is not Setting.AGAIN:
            self.tell(Note(step.label, fault, ""))
        return fault

    def _mode_there(self, step: Step, found: Facts) -> int | None:
        """The mode that something is to get; None where it has it."""
        if step.setting is Setting.AGAIN:
            return None
        if step.facts.kind is Kind.FILE:
            wanted = step.facts.mode & MODE_BITS
        else:
            wanted = step.facts.mode & (MODE_BITS | _SPECIAL_BITS) | found.mode & _HANDED_DOWN
        if step.setting is Setting.NARROW:  # contents must still be put into it
            wanted = found.mode & (wanted | ~MODE_BITS | 0o700)
        return wanted if wanted != found.mode else None

    async def place(self, step: Step, part: Writer, known: Facts | None) -> None:
        """Give an open part file its facts and final name. `known`: the facts by which it was proven.

        What it replaces is kept. Raises StoreError as `Store.place` does, and StepRefused.
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
            await self.kept.name_for(step) if step.seen is not None else b"",
        )
        unset = await self.destination.place(part, wanted)
        if not self.destination.traits.names_last:
            self.unsynced.add(posixpath.dirname(step.path))
        if unset is not None:
            self.tell(Note(step.label, unset, ""))


def _size(step: Step) -> int:
    return step.facts.size if step.kind in (StepKind.FILE, StepKind.BUNDLE, StepKind.ARCHIVE) else 0
