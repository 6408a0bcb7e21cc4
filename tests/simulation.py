"""A simulated world for the engine: two machines, a line, faults from a seed, and virtual time.

The disks have a volatile and a durable half: written bytes are durable only after an answered sync, and when
the power goes, any subset of the rest survives. A line that drops leaves requests behind, which the far
side may have done, may never do, or may do much later, when a hung server process wakes up. The process
that stages may die at any write of its journal. Everything that happens is drawn from one seed.
"""

from __future__ import annotations

import asyncio
import contextlib
import hashlib
import random
import selectors
from collections.abc import AsyncGenerator, Callable, Sequence
from dataclasses import dataclass, field, replace

from yatagan.batches.counts import BatchCounts, outcome_of
from yatagan.batches.journal import Journal
from yatagan.batches.journal_data import Header
from yatagan.batches.states import BatchState, Evidence, StepState
from yatagan.batches.steps import Prove, Times
from yatagan.engine.executor import Conditions, Executor
from yatagan.engine.retry import RetryPolicy
from yatagan.engine.scheduler import Limits
from yatagan.engine.session import evidence_for
from yatagan.errors import CONNECTION_FAULTS, CannotReach, Fault, StoreError
from yatagan.places import KEPT_DIRECTORY, is_ours
from yatagan.planning.bundling import Costs
from yatagan.planning.planner import BundlingChoice, make_plan
from yatagan.planning.takeover import can_go_on, remove_parts, take_over
from yatagan.portable.block_sums import Blocks, Match, checksums
from yatagan.portable.small_files import BundledFile
from yatagan.stores.in_flight import InFlight
from yatagan.stores.interface import (
    Digested,
    Extracted,
    Facts,
    Kind,
    NodeBlocks,
    NodeDigest,
    Placement,
    SmallFile,
    Traits,
)
from yatagan.transfer.transfer import Tuning

BATCH, AGAIN = "261124-test", "261124-next"
#: Where a directory of the destination is moved to, and what a link then leads to instead.
AWAY, VICTIM = b"/away", b"/victim"
BLOCK = 4
TICK_NS = 1_000_000_000  # two changes within one second leave the same times
EPOCH_NS = 1_700_000_000_000_000_000


class Died(BaseException):
    """The staging process was killed."""


class VirtualLoop(asyncio.SelectorEventLoop):
    """An event loop whose time jumps to the next timer; it never waits."""

    def __init__(self) -> None:
        super().__init__(_Instant(self))
        self.now = 0.0

    def time(self) -> float:
        return self.now


class _Instant(selectors.SelectSelector):
    def __init__(self, loop: VirtualLoop) -> None:
        super().__init__()
        self._loop = loop

    def select(self, timeout: float | None = None) -> list:
        if timeout is None:
            raise AssertionError("deadlock: nothing is left that could happen")
        self._loop.now += max(timeout, 0)
        return []


@dataclass
class Inode:
    """A file, directory or link."""

    kind: Kind
    number: int
    mode: int = 0o644
    mtime_ns: int = EPOCH_NS
    changed_ns: int = EPOCH_NS
    target: bytes = b""
    durable: bytes = b""
    pending: list[tuple[int, bytes]] = field(default_factory=list)
    versions: list[bytes] = field(default_factory=list)
    #: Somebody else has written to it since it was opened.
    strange: bool = False

    @property
    def data(self) -> bytes:
        return _with_writes(self.durable, self.pending)

    def lose_power(self, rng: random.Random) -> None:
        self.durable = _with_writes(self.durable, [write for write in self.pending if rng.random() < 0.5])
        self.pending = []


def _with_writes(data: bytes, writes: list[tuple[int, bytes]]) -> bytes:
    whole = bytearray(data)
    for offset, piece in writes:
        whole.extend(bytes(max(0, offset - len(whole))))
        whole[offset : offset + len(piece)] = piece
    return bytes(whole)


class Machine:
    """A disk, and the server processes that write to it."""

    def __init__(
        self, world: World, name: str, *, helper: bool, copies: bool, syncs: bool, full_after: int | None
    ) -> None:
        self.world, self.name = world, name
        self.helper, self.copies, self.syncs = helper, copies, syncs
        self.room = full_after
        self.names: dict[bytes, Inode] = {b"/": Inode(Kind.DIRECTORY, 1, 0o755)}
        self.hung: dict[int, list[tuple[Inode, int, bytes]]] = {}
        #: What helpers that hang will still do when they come to.
        self.deeds: dict[int, list[Callable[[], object]]] = {}
        self.boot = 1
        #: Commands see another disk than file transfer.
        self.other_disk = False
        self.swapped = False

    def swap(self, directory: bytes) -> None:
        """Somebody moves a directory away and puts a link in its place."""
        for path in [each for each in self.names if each == directory or each.startswith(directory + b"/")]:
            self.names[AWAY + path] = self.names.pop(path)
        self.make(VICTIM, Kind.DIRECTORY)
        self.make(directory, Kind.LINK, target=VICTIM)
        self.swapped = True

    def real(self, path: bytes) -> bytes:
        """Where a path leads when links above its last name are followed."""
        above = b""
        for name in path.split(b"/")[1:-1]:
            above += b"/" + name
            inode = self.names.get(above)
            if inode is not None and inode.kind is Kind.LINK:
                return self.real(inode.target + path[len(above) :])
        return path

    def now_ns(self) -> int:
        now = EPOCH_NS + int(self.world.loop.now * 1e9)
        return now - now % TICK_NS

    def make(self, path: bytes, kind: Kind, data: bytes = b"", *, target: bytes = b"", age: float = 1e6) -> Inode:
        inode = Inode(kind, self.world.next_inode(), 0o755 if kind is Kind.DIRECTORY else 0o644, target=target)
        inode.mtime_ns = inode.changed_ns = self.now_ns() - int(age * 1e9)
        inode.durable, inode.versions = data, [data]
        self.names[path] = inode
        return inode

    def rewrite(self, path: bytes, data: bytes) -> None:
        inode = self.names[path]
        inode.durable, inode.pending = data, []
        inode.versions.append(data)
        inode.mtime_ns = inode.changed_ns = self.now_ns()

    def wake(self) -> None:
        """Hung server processes come to and do what they were told."""
        for writes in self.hung.values():
            for inode, offset, data in writes:
                inode.pending.append((offset, data))
        self.hung.clear()
        for deeds in self.deeds.values():
            for deed in deeds:
                deed()
        self.deeds.clear()

    def lose_power(self) -> None:
        self.hung.clear()
        self.deeds.clear()
        self.boot += 1
        for inode in {id(inode): inode for inode in self.names.values()}.values():
            inode.lose_power(self.world.rng)

    def tree(self) -> dict[bytes, tuple[str, bytes]]:
        """What is there: kind and content or target, without our own part and kept files."""
        return {
            path: (inode.kind.value, inode.target if inode.kind is Kind.LINK else inode.data)
            for path, inode in self.names.items()
            if not any(is_ours(part) for part in path.split(b"/"))
        }


class World:
    """Two machines and what happens to them."""

    def __init__(self, seed: int) -> None:
        self.rng = random.Random(seed)
        self.loop = VirtualLoop()
        self._inodes = 1
        self.requests = 0
        self.drop_at: set[int] = set()
        self.power_at: set[int] = set()
        self.wake_at: set[int] = set()
        #: Requests that are never answered; the time limit ends them.
        self.silent_at: set[int] = set()
        self.happen_at: dict[int, object] = {}
        self.calm = True
        self.refusals = 0
        self.sessions = 0
        self.block = BLOCK
        #: Whether this machine's files are read and written in threads, as in earnest.
        self.near = seed % 3 == 0

    def next_inode(self) -> int:
        self._inodes += 1
        return self._inodes


class Store:
    """A machine as a store, through one session."""

    def __init__(self, world: World, machine: Machine, *, here: bool) -> None:
        self._world, self._machine, self._here = world, machine, here
        world.sessions += 1
        self.session = world.sessions
        self._boot = machine.boot
        self.name = "" if here else machine.name
        self.max_rate = None
        self.lost = False
        self._acked_pending: list[tuple[Inode, int, bytes]] = []
        self.traits = Traits(
            here=here,
            time_step_ns=1 if here else 1_000_000_000,
            syncs=here or machine.syncs,
            read_size=world.block,
            write_size=world.block,
            walks=here,
        )
        #: The machine answers by the session's own methods.
        self.machine = self if here or machine.helper else None

    async def _request(self, path: bytes = b"") -> None:
        """One request: time passes, and now and then something happens."""
        world = self._world
        await asyncio.sleep(world.rng.random() * (0.01 if self._here else 0.1))
        if self.lost:
            raise StoreError(Fault.CONNECTION_LOST, path)
        if world.calm or self._here:
            return
        world.requests += 1
        number = world.requests
        if number in world.happen_at:
            world.happen_at.pop(number)()  # type: ignore[operator]
        if number in world.wake_at:
            self._machine.wake()
        if number in world.power_at:
            self._machine.lose_power()
            self.lost = True
        if number in world.drop_at:
            self.lost = True
        if number in world.silent_at:
            await asyncio.sleep(30)
            self.lost = True
            raise StoreError(Fault.SILENT, path)
        if self.lost:
            raise StoreError(Fault.CONNECTION_LOST, path)

    def _at(self, path: bytes) -> bytes:
        """Where a path leads: a store that walks refuses a link above it, another one follows."""
        real = self._machine.real(path) if self._machine.swapped else path
        if real != path and self._here:
            raise StoreError(Fault.IS_LINK, path)
        return real

    def _found(self, path: bytes) -> Inode | None:
        return self._machine.names.get(self._at(path))

    def _inode(self, path: bytes) -> Inode:
        inode = self._found(path)
        if inode is None:
            raise StoreError(Fault.MISSING, path)
        return inode

    def _seen_by_commands(self, path: bytes) -> Inode:
        if self._machine.other_disk and not self._here:
            raise StoreError(Fault.MISSING, path)
        return self._inode(path)

    def _facts(self, inode: Inode, *, close: bool) -> Facts:
        mtime = inode.mtime_ns if close else inode.mtime_ns - inode.mtime_ns % 1_000_000_000
        return Facts(
            inode.kind,
            len(inode.data),
            mtime,
            inode.mode,
            inode.changed_ns if close else None,
            inode.number if close else None,
        )

    async def resolve(self, path: bytes, *, follow: bool = False) -> bytes:
        await self._request()
        return path if path.startswith(b"/") else b"/" + path

    async def look(self, path: bytes) -> Facts | None:
        await self._request(path)
        inode = self._found(path)
        return None if inode is None else self._facts(inode, close=self._here)

    async def look_closely(self, path: bytes) -> Facts | None:
        await self._request(path)
        inode = self._found(path)
        close = self._here or (self._machine.helper and not self._machine.other_disk)
        return None if inode is None else self._facts(inode, close=close)

    async def entries(self, path: bytes) -> AsyncGenerator[list[tuple[bytes, Facts]], None]:
        await self._request(path)
        path = self._at(path)
        found = []
        for name, inode in self._machine.names.items():
            above, _, base = name.rpartition(b"/")
            if base and (above or b"/") == path:
                found.append((base, self._facts(inode, close=self._here)))
        yield found

    async def read_link(self, path: bytes) -> bytes:
        await self._request(path)
        return self._inode(path).target

    async def free_space(self, path: bytes) -> int | None:
        return self._machine.room

    async def clock_ns(self) -> int | None:
        await self._request()
        known = self._here or self._machine.helper
        return EPOCH_NS + int(self._world.loop.now * 1e9) if known else None

    async def open(self, path: bytes) -> File:
        await self._request(path)
        return File(self, self._inode(path))

    async def create_part(self, path: bytes, mode: int = 0o600) -> File:
        await self._request(path)
        if self._found(path) is not None:
            raise StoreError(Fault.EXISTS, path)
        return File(self, self._machine.make(self._at(path), Kind.FILE, age=0))

    async def reopen_part(self, path: bytes) -> File:
        await self._request(path)
        return File(self, self._inode(path))

    async def copy_part(self, old: bytes, new: bytes, size: int, mode: int = 0o600) -> None:
        await self._request(new)
        if not self._machine.copies or self._found(new) is not None:
            raise StoreError(Fault.UNSUPPORTED, new)
        self._machine.make(self._at(new), Kind.FILE, self._inode(old).data[:size], age=0)

    async def block_sums(self, path: bytes, block: int) -> NodeBlocks:
        if self._here or not self._machine.helper:
            raise StoreError(Fault.UNSUPPORTED, path)
        await self._request(path)
        inode = self._seen_by_commands(path)
        data = inode.data
        made = Blocks(len(data), block, *checksums(data[at : at + block] for at in range(0, len(data), block)))
        return NodeBlocks(made, self._facts(inode, close=True))

    async def copy_matches(self, old: bytes, part: bytes, runs: Sequence[Match]) -> list[bool]:
        """One request, in which the line may be lost after every run: the helper then ends, or hangs and goes on."""
        source, target, machine = self._inode(old), self._inode(part), self._machine
        for at, run in enumerate(runs):
            try:
                await self._request(part)
            except StoreError:
                if machine.boot == self._boot and self._world.rng.random() < 0.4:
                    left = [self._copying(source, target, each) for each in runs[at:]]
                    machine.deeds.setdefault(self.session, []).extend(left)
                raise
            if machine.room is not None:
                if machine.room < run.size:
                    raise StoreError(Fault.NO_SPACE, part)
                machine.room -= run.size
            self._copying(source, target, run)()
        target.durable, target.pending = target.data, []
        await self._answer(part)
        return [True for _ in runs]

    @staticmethod
    def _copying(source: Inode, target: Inode, run: Match) -> Callable[[], None]:
        return lambda: target.pending.append((run.new, source.data[run.old : run.old + run.size]))

    async def make_directory(self, path: bytes, mode: int) -> None:
        await self._request(path)
        if self._found(path) is not None:
            raise StoreError(Fault.EXISTS, path)
        self._machine.make(self._at(path), Kind.DIRECTORY, age=0).mode = mode

    async def make_link(self, path: bytes, target: bytes) -> None:
        await self._request(path)
        if self._found(path) is not None:
            raise StoreError(Fault.EXISTS, path)
        self._machine.make(self._at(path), Kind.LINK, target=target, age=0)

    async def set_facts(self, path: bytes, *, mode: int | None, mtime_ns: int | None) -> None:
        await self._request(path)
        inode = self._inode(path)
        inode.mode = inode.mode if mode is None else mode
        inode.mtime_ns = inode.mtime_ns if mtime_ns is None else mtime_ns
        inode.changed_ns = self._machine.now_ns()

    async def is_real(self, directory: bytes, top: bytes) -> bool:
        await self._request(directory)
        while True:
            inode = self._machine.names.get(directory)
            if inode is None or inode.kind is not Kind.DIRECTORY:
                return False
            if directory in (top, b"/"):
                return True
            directory = directory.rpartition(b"/")[0] or b"/"

    async def place(self, part: File, wanted: Placement) -> Fault | None:
        """Facts, the name for what is replaced, and the rename: between them the line may be lost."""
        machine, inode, final = self._machine, part._inode, wanted.path
        await self._request(final)
        await self._refuse_links(wanted)
        if self._found(wanted.part) is not inode or len(inode.data) != wanted.size:
            raise StoreError(Fault.PART_CHANGED, final)
        inode.mode = inode.mode if wanted.mode is None else wanted.mode
        inode.mtime_ns = inode.mtime_ns if wanted.mtime_ns is None else wanted.mtime_ns
        inode.changed_ns = machine.now_ns()
        await self._request(final)
        there = self._found(final)
        if there is not None and machine.names.get(wanted.kept) is not there:
            await self._keep_seen(there, wanted)
            await self._request(final)
        if self._found(wanted.part) is not inode:
            raise StoreError(Fault.PART_CHANGED, final)
        machine.names[self._at(final)] = machine.names.pop(self._at(wanted.part))
        await self._answer(final)
        await self._refuse_links(wanted)
        return None

    async def _refuse_links(self, wanted: Placement) -> None:
        if not await self.is_real(wanted.path.rpartition(b"/")[0], wanted.top):
            raise StoreError(Fault.IS_LINK, wanted.path)

    async def _keep_seen(self, there: Inode, wanted: Placement) -> None:
        seen, close = wanted.seen, self._here or self._machine.helper
        if seen is None or not self._facts(there, close=close).same_as(seen):
            raise StoreError(Fault.EXISTS, wanted.path)
        if wanted.kept in self._machine.names:
            raise StoreError(Fault.KEPT_TAKEN, wanted.path)
        self._machine.names[wanted.kept] = there

    async def _answer(self, path: bytes) -> None:
        """What was done may still not be heard of."""
        await self._request(path)

    async def keep(self, path: bytes, kept: bytes) -> None:
        await self._request(path)
        if self._found(kept) is not None:
            raise StoreError(Fault.EXISTS, kept)
        self._machine.names[kept] = self._inode(path)
        await self._answer(path)

    async def rename(self, path: bytes, new: bytes) -> None:
        await self._request(path)
        inode = self._inode(path)
        if self._found(new) is not None:
            raise StoreError(Fault.EXISTS, new)
        self._machine.names[self._at(new)] = inode
        del self._machine.names[self._at(path)]
        await self._answer(path)

    async def owner(self, path: bytes) -> str:
        return ""

    async def remove(self, path: bytes) -> None:
        await self._request(path)
        self._inode(path)
        del self._machine.names[self._at(path)]

    async def digest(self, path: bytes, algorithm: str, seen: Facts | None = None) -> NodeDigest:
        await self._request(path)
        inode = self._seen_by_commands(path)
        inode.durable, inode.pending = inode.data, []
        return NodeDigest(hashlib.new(algorithm, inode.data).hexdigest(), self._facts(inode, close=True))

    async def digests(self, files: Sequence[tuple[bytes, Facts | None]], algorithm: str) -> list[Digested]:
        return [await self._digest_one(path, algorithm) for path, _ in files]

    async def _digest_one(self, path: bytes, algorithm: str) -> Digested:
        try:
            made = await self.digest(path, algorithm)
        except StoreError as error:
            if error.fault in CONNECTION_FAULTS:
                raise
            return Digested("", None, error.fault)
        return Digested(made.digest, made.facts)

    def expect(self, size: int) -> None:
        """Nothing is got ready."""

    async def recorded(self, path: bytes) -> str:
        return ""

    async def read_small(self, paths: Sequence[bytes], most: int) -> list[SmallFile]:
        await self._request()
        found = []
        for path in paths:
            inode = self._found(path)
            if inode is None:
                found.append(SmallFile(b"", None, Fault.MISSING))
            else:
                found.append(SmallFile(inode.data, self._facts(inode, close=True)))
        return found

    async def extract(self, bundle: bytes, files: Sequence[BundledFile]) -> list[Extracted]:
        """One request, in which the line may be lost after every file: the helper then ends, or hangs and goes on."""
        await self._request(bundle)
        source, outcomes = self._inode(bundle), []
        for at, file in enumerate(files):
            try:
                await self._request(bundle)
            except StoreError:
                rng, left = self._world.rng, [self._deed(source, each) for each in files[at:]]
                if not self._here and self._machine.boot == self._boot:
                    if rng.random() < 0.4:
                        self._machine.deeds.setdefault(self.session, []).extend(left)
                    elif rng.random() < 0.5:
                        self._machine.make(file.part, Kind.FILE, rng.randbytes(3), age=0)
                raise
            outcomes.append(self._deed(source, file)())
        return outcomes

    async def finish(self, files: Sequence[BundledFile]) -> list[Extracted]:
        """As `extract`."""
        await self._request()
        outcomes = []
        for at, file in enumerate(files):
            try:
                await self._request(file.part)
            except StoreError:
                if not self._here and self._machine.boot == self._boot and self._world.rng.random() < 0.4:
                    left = [self._finishing(each) for each in files[at:]]
                    self._machine.deeds.setdefault(self.session, []).extend(left)
                raise
            outcomes.append(self._finishing(file)())
        return outcomes

    def _finishing(self, file: BundledFile) -> Callable[[], Extracted]:
        machine = self._machine

        def finish() -> Extracted:
            if self._leads_away(file):
                return Extracted(fault=Fault.IS_LINK)
            for part in file.earlier:
                machine.names.pop(part, None)
            there, inode = machine.names.get(file.path), machine.names.get(file.part)
            if inode is not None:
                inode.durable, inode.pending = inode.data, []
                if hashlib.sha256(inode.data).hexdigest() != file.digest:
                    return Extracted(fault=Fault.DIGEST_DIFFERS)
                inode.mode = inode.mode if file.mode is None else file.mode
                inode.mtime_ns = inode.mtime_ns if file.mtime_ns is None else file.mtime_ns
            if there is not None:
                same = hashlib.sha256(there.data).hexdigest() == file.digest
                if inode is not None and same:
                    del machine.names[file.part]
                return Extracted(there=inode is not None) if same else Extracted(fault=Fault.EXISTS)
            if inode is None:
                return Extracted(fault=Fault.MISSING)
            machine.names[file.path] = machine.names.pop(file.part)
            return Extracted()

        return finish

    def _deed(self, source: Inode, file: BundledFile) -> Callable[[], Extracted]:
        machine = self._machine

        def unload() -> Extracted:
            if self._leads_away(file):
                return Extracted(fault=Fault.IS_LINK)
            for part in (file.part, *file.earlier):
                machine.names.pop(part, None)
            data = source.data[file.offset : file.offset + file.size]
            if hashlib.sha256(data).hexdigest() != file.digest:
                return Extracted(fault=Fault.DIGEST_DIFFERS)
            there = machine.names.get(file.path)
            if there is not None:
                return Extracted(there=True) if there.data == data else Extracted(fault=Fault.EXISTS)
            if machine.room is not None:
                if machine.room < len(data):
                    return Extracted(fault=Fault.NO_SPACE)
                machine.room -= len(data)
            inode = machine.make(file.path, Kind.FILE, data, age=0)
            inode.mode = inode.mode if file.mode is None else file.mode
            inode.mtime_ns = inode.mtime_ns if file.mtime_ns is None else file.mtime_ns
            return Extracted()

        return unload

    def _leads_away(self, file: BundledFile) -> bool:
        """The helper walks, and never through a link."""
        return self._machine.swapped and self._machine.real(file.path) != file.path

    async def same_disk(self, token: bytes) -> bool:
        return self._machine.helper and not self._machine.other_disk

    def witness(self) -> str:
        return f"{self._machine.boot}:{self.session}" if self._here or self._machine.helper else ""

    def note_writers(self, noted: Callable[[str], object]) -> None:
        """There are never more."""

    async def writers_gone(self, witness: str) -> bool:
        await self._request()
        if self._here:
            return True
        if not self._machine.helper or not witness:
            return False
        boot, session = witness.split(":")
        holding = {*self._machine.hung, *self._machine.deeds}
        return int(boot) != self._machine.boot or int(session) not in holding

    async def close(self) -> None:
        self.lost = True


class File:
    """An open file of the simulation."""

    def __init__(self, store: Store, inode: Inode) -> None:
        self._store, self._inode = store, inode
        self.flow = InFlight(3 * store._world.block)
        near = store._here and store._world.near
        self.read_here = self._read_here if near else None
        self.write_here = self._write_here if near else None
        self._acknowledged: list[tuple[int, bytes]] = []

    async def facts(self) -> Facts:
        await self._store._request()
        return self._store._facts(self._inode, close=self._store._here)

    async def read(self, offset: int, size: int) -> bytes:
        await self._store._request()
        return self._inode.data[offset : offset + size]

    def _read_here(self, offset: int, size: int) -> bytes:
        if self._store.lost:
            raise StoreError(Fault.CONNECTION_LOST)
        return self._inode.data[offset : offset + size]

    def _write_here(self, offset: int, data: bytes) -> None:
        if self._store.lost:
            raise StoreError(Fault.CONNECTION_LOST)
        self._inode.pending.append((offset, bytes(data)))

    def copy_here(self, source: File, offset: int, size: int) -> bool:
        return False

    async def write(self, offset: int, data: bytes) -> None:
        store, machine, rng = self._store, self._store._machine, self._store._world.rng
        try:
            await store._request()
        except StoreError:
            fate = rng.random()
            if not store._here and machine.boot == store._boot:
                if fate < 0.4:
                    machine.hung.setdefault(store.session, []).append((self._inode, offset, bytes(data)))
                elif fate < 0.6:
                    self._inode.pending.append((offset, bytes(data)))
            raise
        if machine.room is not None:
            if machine.room < len(data):
                raise StoreError(Fault.NO_SPACE)
            machine.room -= len(data)
        self._inode.pending.append((offset, bytes(data)))

    async def is_untouched(self, size: int) -> bool:
        """Of this machine's files nobody but the batch writes to a part file, unless the scenario says so."""
        return self._store._here and len(self._inode.data) == size and not self._inode.strange

    async def sync(self) -> bool:
        covered = list(self._inode.pending)
        await self._store._request()
        if not self._store._here and not self._store._machine.syncs:
            return False
        inode = self._inode
        inode.durable = _with_writes(inode.durable, covered)
        inode.pending = [write for write in inode.pending if not any(write is done for done in covered)]
        return True

    async def close(self) -> None:
        await self._store._request()


class Opening:
    """How the executor gets a store; now and then it is refused."""

    def __init__(self, world: World, machine: Machine, *, here: bool) -> None:
        self._world, self._machine, self._here = world, machine, here

    async def open(self) -> Store:
        await asyncio.sleep(0.01)
        if not self._here and not self._world.calm and self._world.refusals > 0 and self._world.rng.random() < 0.3:
            self._world.refusals -= 1
            raise CannotReach("far", "connect", "refused")
        return Store(self._world, self._machine, here=self._here)

    def pins(self) -> dict[str, tuple[str, int]]:
        return {}


class DyingJournal(Journal):
    """Kills the process at one of its writes: before it, or after it and before anybody hears of it."""

    die_at: int | None = None
    writes = 0
    death: asyncio.Future[None] | None = None

    def apply(self, changes) -> None:  # type: ignore[no-untyped-def]
        if self.death is not None and self.death.done():
            raise Died
        self.writes += 1
        if self.writes == self.die_at and self.death is not None:
            if self.die_before:
                self.death.set_result(None)
                raise Died
            super().apply(changes)
            self.death.set_result(None)
            raise Died
        super().apply(changes)

    die_before = True


class Clock:
    """Virtual time."""

    def __init__(self, loop: VirtualLoop) -> None:
        self._loop = loop

    def monotonic(self) -> float:
        return self._loop.now

    async def sleep(self, seconds: float) -> None:
        await asyncio.sleep(seconds)


async def _inline(function, *args):  # type: ignore[no-untyped-def]
    return function(*args)


@dataclass
class Scenario:
    """What one seed draws."""

    world: World
    here: Machine
    far: Machine
    upload: bool
    prove: Prove
    before: dict[bytes, bytes]
    foreign: dict[bytes, bytes]
    deaths: list[int]
    together: bool = False
    #: After the first interruption or death the stage is given again, with other options or the same.
    again: str = ""
    promised: Evidence | None = None

    @property
    def source(self) -> Machine:
        return self.here if self.upload else self.far

    @property
    def destination(self) -> Machine:
        return self.far if self.upload else self.here


def draw(seed: int) -> Scenario:
    """A scenario from a seed."""
    world = World(seed)
    rng = world.rng
    helper = rng.random() < 0.6
    here = Machine(world, "here", helper=True, copies=False, syncs=True, full_after=None)
    far = Machine(
        world,
        "far",
        helper=helper,
        copies=rng.random() < 0.5,
        syncs=rng.random() < 0.8,
        full_after=rng.randrange(20, 200) if rng.random() < 0.15 else None,
    )
    upload = rng.random() < 0.75
    proofs = [Prove.AUTO, Prove.NONE, Prove.READ_BACK] + ([Prove.ON_NODE] if helper else [])
    scenario = Scenario(world, here, far, upload, rng.choice(proofs), {}, {}, [])
    source, destination = scenario.source, scenario.destination
    source.make(b"/fen", Kind.DIRECTORY)
    destination.make(b"/top", Kind.DIRECTORY)
    files = [b"/fen/f%d" % number for number in range(rng.randint(1, 4))]
    if rng.random() < 0.5:
        source.make(b"/fen/sub", Kind.DIRECTORY)
        files.append(b"/fen/sub/g")
    if rng.random() < 0.4:
        source.make(b"/fen/link", Kind.LINK, target=b"f0")
    for path in files:
        source.make(path, Kind.FILE, rng.randbytes(rng.randrange(0, 60)), age=rng.choice([1e6, 1.0, 0.0]))
    if rng.random() < 0.4:
        destination.make(b"/top/fen", Kind.DIRECTORY)
        old = rng.randbytes(10)
        destination.make(b"/top/fen/f0", Kind.FILE, old, age=2e6)
        if world.near and seed % 2 == 0:
            old = _edited(source.names[b"/fen/f0"].data, random.Random(seed))
            destination.names[b"/top/fen/f0"].durable = old
        scenario.before[b"/top/fen/f0"] = old
    _draw_faults(scenario, files)
    _draw_more(scenario, random.Random(seed * 7919 + 1))
    if helper and scenario.prove is Prove.AUTO and seed % 2:
        # A bundle has thousands of bytes: larger blocks keep the number of requests what the faults are drawn for.
        scenario.together, world.block = True, 600
        if far.room is not None:
            far.room *= 50
    return scenario


def _edited(data: bytes, rng: random.Random) -> bytes:
    """The file as it may have been before: a few bytes others, more, or fewer."""
    at = rng.randrange(len(data) + 1)
    return data[: max(0, at - rng.randrange(4))] + rng.randbytes(rng.randrange(4)) + data[at:]


def _draw_faults(scenario: Scenario, files: list[bytes]) -> None:
    world, rng = scenario.world, scenario.world.rng
    if rng.random() < 0.8:
        world.drop_at = {rng.randrange(1, 120) for _ in range(rng.randint(1, 3))}
    # Without a sync request nobody can promise anything about a power failure, and we say so instead.
    if rng.random() < 0.3 and scenario.far.syncs:
        world.power_at = {rng.randrange(1, 120)}
    world.wake_at = {rng.randrange(1, 400) for _ in range(rng.randint(0, 3))}
    world.refusals = rng.randint(0, 2)
    if rng.random() < 0.4:
        scenario.deaths = [rng.randrange(1, 40) for _ in range(rng.randint(1, 2))]
    may_change = scenario.upload or scenario.far.helper
    if rng.random() < 0.3 and may_change:
        victim = rng.choice(files)
        size = len(scenario.source.names[victim].data)
        same_size = rng.random() < 0.5
        data = rng.randbytes(size if same_size else size + rng.randint(1, 20))
        early = rng.random() < 0.5
        world.happen_at[rng.randrange(1, 30 if early else 80)] = lambda: scenario.source.rewrite(victim, data)
    if rng.random() < 0.25:
        path, data = b"/top" + rng.choice(files), rng.randbytes(12)

        def appear() -> None:
            if path not in scenario.destination.names and path.rpartition(b"/")[0] in scenario.destination.names:
                scenario.destination.make(path, Kind.FILE, data, age=0)
                scenario.foreign[path] = data

        world.happen_at[rng.randrange(5, 120)] = appear


def _draw_more(scenario: Scenario, rng: random.Random) -> None:
    """Faults that were thought of later, from numbers of their own."""
    world, far = scenario.world, scenario.far
    if rng.random() < 0.2:
        world.silent_at = {rng.randrange(1, 120)}
    if rng.random() < 0.2:  # zeros may be left out
        for path, inode in scenario.source.names.items():
            if inode.kind is Kind.FILE and b"/top" + path not in scenario.before and inode.data:
                size = len(inode.data)
                inode.durable = bytes(rng.randrange(size + 1)).ljust(size, b"x")
                inode.versions[:] = [inode.durable]
    scenario.again = rng.choice(["", "", "same", "other"])
    if rng.random() < 0.15:
        world.happen_at = {rng.randrange(10, 100): lambda: scenario.destination.swap(b"/top/fen")}
    elif far.helper and scenario.upload and rng.random() < 0.15:
        if rng.random() < 0.3:
            far.other_disk = True
            scenario.prove = Prove.AUTO if scenario.prove is Prove.ON_NODE else scenario.prove
        else:
            at = rng.randrange(5, 80)
            world.drop_at.add(at)
            world.happen_at[at] = lambda: setattr(far, "other_disk", True)


def run(scenario: Scenario) -> tuple[BatchCounts, Journal]:
    """Plan, then run until the batch is finished, through every death and interruption."""
    loop = scenario.world.loop
    asyncio.set_event_loop(loop)
    loop.set_exception_handler(lambda loop, context: None)  # a killed process leaves tasks that nobody asks
    try:
        return loop.run_until_complete(_run(scenario))
    finally:
        left = asyncio.all_tasks(loop)
        for task in left:
            task.cancel()
        with contextlib.suppress(AssertionError):
            loop.run_until_complete(asyncio.gather(*left, return_exceptions=True))
        asyncio.set_event_loop(None)
        loop.close()


async def _run(scenario: Scenario) -> tuple[BatchCounts, Journal]:
    world = scenario.world
    ends = (
        Opening(world, scenario.source, here=scenario.upload),
        Opening(world, scenario.destination, here=not scenario.upload),
    )
    together = BundlingChoice(Costs(), always=True) if scenario.together else None
    stores = await ends[0].open(), await ends[1].open()
    plan = await make_plan(*stores, [(b"/fen", b"fen")], b"/top", together=together)
    times = Times.NOW if len(scenario.before) % 3 == 1 else Times.KEEP
    scenario.promised = evidence_for(scenario.prove, *stores, plan.same_disk)
    near, far = ("", "far") if scenario.upload else ("far", "")
    header = Header(BATCH, 0, ("stage",), near, far, b"/top", scenario.prove, times=times, promised=scenario.promised)
    journal = DyingJournal.in_memory(header, plan.steps())
    assert isinstance(journal, DyingJournal)
    world.calm = False
    for _ in range(40):
        journal.die_at = scenario.deaths.pop() if scenario.deaths else None
        journal.die_before = world.rng.random() < 0.5
        journal.writes = 0
        journal.death = world.loop.create_future()
        state = await _one_run(scenario, journal, ends)
        if state is BatchState.FINISHED:
            break
        if scenario.far.room is not None:
            scenario.far.room = None  # somebody made room
        if journal.standing().fault in (Fault.OTHER_DISK, Fault.NO_PROOF):
            journal.prove_by(Prove.READ_BACK)  # somebody was told, and has agreed
        if scenario.again:
            journal = await _stage_again(scenario, journal, ends, together)
    else:
        raise AssertionError("the batch never came to an end")
    world.calm = True
    scenario.here.wake()
    scenario.far.wake()
    return outcome_of(journal), journal


async def _stage_again(
    scenario: Scenario, journal: DyingJournal, ends: tuple[Opening, Opening], together: BundlingChoice | None
) -> DyingJournal:
    """The same stage, given once more by the user: its batch goes on, or another one takes over what is there of it."""
    world, options = scenario.world, "" if scenario.again == "same" else "other"
    scenario.again = ""
    world.calm = True
    stores = await ends[0].open(), await ends[1].open()
    plan = await make_plan(*stores, [(b"/fen", b"fen")], b"/top", together=together)
    header = replace(journal.header(), id=AGAIN, options=options)
    if not can_go_on(journal, header, plan.steps()):
        steps = take_over(plan.steps(), journal, plan.chooses)
        new = DyingJournal.in_memory(header, steps, journal.witnesses())
        assert isinstance(new, DyingJournal)
        journal.cancel(AGAIN)
        await remove_parts(journal, stores[1], keep=frozenset(step.adopts for step in new.begun()))
        journal = new
    world.calm = False
    return journal


async def _one_run(scenario: Scenario, journal: DyingJournal, ends: tuple[Opening, Opening]) -> BatchState | None:
    """One process; None when it died."""
    world = scenario.world
    conditions = Conditions(
        limits=Limits(steps_at_once=4, retry=RetryPolicy(patience=60)),
        tuning=Tuning(
            memory=6 * world.block,
            sync_bytes=3 * world.block // 2,
            sync_seconds=1000,
            in_thread=_inline,
            reuse_least=8,
            reuse_block=2,
        ),
        clock=Clock(world.loop),
        jitter=world.rng.random,
        threaded=False,
    )
    executor = Executor(journal, ends[0], ends[1], lambda event: None, conditions)
    work = asyncio.ensure_future(executor.run())
    assert journal.death is not None
    await asyncio.wait({work, journal.death}, return_when=asyncio.FIRST_COMPLETED)
    if not journal.death.done():
        return (await work).state
    # A killed process does nothing more: its sessions are lost and its tasks end where they stand.
    for store in executor._stores:
        store.lost = True  # type: ignore[attr-defined]
    tasks = [task for task in asyncio.all_tasks() if task is not asyncio.current_task()]
    for task in tasks:
        task.cancel()
    await asyncio.gather(*tasks, return_exceptions=True)
    return None


def check(scenario: Scenario, outcome: BatchCounts, journal: Journal) -> None:
    """What must always hold, after everything has happened and hung processes have woken up."""
    source, there = scenario.source, scenario.destination.tree()
    swapped = scenario.destination.swapped
    strays = {path for path in there if path.startswith(VICTIM + b"/")}
    assert not (strays and not scenario.upload), f"{strays}: outside of the destination"
    if swapped:
        # What is in the directory that was moved away is where it was put.
        there |= {path.removeprefix(AWAY): value for path, value in there.items() if path.startswith(AWAY + b"/")}
    promised = scenario.promised is not None and scenario.promised.is_proof
    for step in journal.steps():
        assert step.state in (StepState.IN_PLACE, StepState.LEFT, StepState.FAILED, StepState.NOT_CARRIED), step
    for path, inode in source.names.items():
        if inode.kind is not Kind.FILE or not path.startswith(b"/fen/"):
            continue
        final = b"/top" + path
        if final in scenario.foreign and there.get(final, ("", b""))[1] == scenario.foreign[final]:
            continue
        if final in there:
            known = [*inode.versions, scenario.before.get(final)]
            assert there[final][1] in known, f"{final!r} is a mixture or half a file"
    for final, data in (scenario.before | scenario.foreign).items():
        # What appeared after the first plan may be replaced by the second one, which has seen it.
        batches = [BATCH] if final in scenario.foreign and journal.header().id == BATCH else [BATCH, AGAIN]
        keeping = [b"/top/%b/%b%b" % (KEPT_DIRECTORY, batch.encode(), final[4:]) for batch in batches]
        kept = [scenario.destination.names[path].data for path in keeping if path in scenario.destination.names]
        assert data in (there[final][1], *kept), f"{final!r} was replaced and not kept"
    for step in journal.steps(StepState.IN_PLACE):
        if step.kind.value == "file":
            assert step.path in there, f"{step.path!r} is not in place"
            held = there[step.path][1]
            assert hashlib.sha256(held).hexdigest() == step.digest, f"{step.path!r} is not what the journal says"
            assert step.evidence is not None
            assert step.evidence.is_proof or not promised, f"{step.path!r} was promised a proof"
    if outcome.good and not scenario.foreign and not swapped:
        expected = {b"/top" + path: value for path, value in source.tree().items() if path.startswith(b"/fen")}
        found = {path: value for path, value in there.items() if path.startswith(b"/top/fen")}
        assert set(found) == set(expected)
    parts = [path for path in scenario.destination.names if path.endswith(b".part")]
    if outcome.good and not swapped:
        assert not parts, f"part files left: {parts}"
