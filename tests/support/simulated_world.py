"""The simulated world: machines whose disks have a volatile and a durable half, stores on them, and virtual time."""

from __future__ import annotations

import asyncio
import hashlib
import random
import selectors
from collections.abc import AsyncGenerator, Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

from yatagan.errors import CannotReach, StoreError
from yatagan.faults import CONNECTION_FAULTS, Fault
from yatagan.places import is_ours
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

    def run_in_executor(self, executor, function, *args):  # type: ignore[no-untyped-def, override]
        done = self.create_future()
        done.set_result(function(*args))
        return done


class _Instant(selectors.SelectSelector):
    def __init__(self, loop: VirtualLoop) -> None:
        super().__init__()
        self._loop = loop

    def select(self, timeout: float | None = None) -> list[Any]:
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
        #: By directory: how to take back what was named in it since it was synced, the newest last.
        self.unsynced: dict[bytes, list[Callable[[], object]]] = {}
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

    def append(self, path: bytes, data: bytes) -> None:
        """A logger writes a line more."""
        self.rewrite(path, self.names[path].data + data)

    def rotate(self, path: bytes, data: bytes) -> None:
        """A logger begins a new file under the name of the old one."""
        versions = self.names.pop(path).versions
        self.make(path, Kind.FILE, data, age=0).versions[:0] = versions

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

    def named(self, path: bytes, undo: Callable[[], object]) -> None:
        """Something got a name in a directory, which its disk has not written down."""
        self.unsynced.setdefault(path.rpartition(b"/")[0], []).append(undo)

    def forget(self, path: bytes) -> None:
        """A name and all below it are gone."""
        for each in [each for each in self.names if each == path or each.startswith(path + b"/")]:
            del self.names[each]

    def lose_power(self) -> None:
        self.hung.clear()
        self.deeds.clear()
        self.boot += 1
        for undone in self.unsynced.values():
            for _ in range(self.world.rng.randint(0, len(undone))):
                undone.pop()()
        self.unsynced.clear()
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
        machine, at = self._machine, self._at(path)
        machine.make(at, Kind.DIRECTORY, age=0).mode = mode
        if not self._here:
            machine.named(at, lambda: machine.forget(at))

    async def sync_directory(self, path: bytes) -> bool:
        await self._request(path)
        if not self._machine.syncs:
            return False
        self._machine.unsynced.pop(self._at(path), None)
        return True

    async def make_link(self, path: bytes, target: bytes) -> None:
        await self._request(path)
        if self._found(path) is not None:
            raise StoreError(Fault.EXISTS, path)
        machine, at = self._machine, self._at(path)
        machine.make(at, Kind.LINK, target=target, age=0)
        if not self._here:
            machine.named(at, lambda: machine.forget(at))

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
        self._give(self._at(wanted.part), self._at(final))
        await self._answer(final)
        await self._refuse_links(wanted)
        return None

    def _give(self, part: bytes, final: bytes) -> None:
        """Rename; a power cut may undo it, and what was there before is there again."""
        names, before = self._machine.names, self._machine.names.get(final)
        inode = names[final] = names.pop(part)

        def undo() -> None:
            if names.get(final) is inode:
                names[part] = inode
                del names[final]
                if before is not None:
                    names[final] = before

        if not self._here:
            self._machine.named(final, undo)

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
        machine = self._machine
        machine.names[kept] = self._inode(path)
        if not self._here:
            machine.named(kept, lambda: machine.forget(kept))
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

    async def group(self, path: bytes) -> int | None:
        return None

    async def remove(self, path: bytes) -> None:
        await self._request(path)
        self._inode(path)
        del self._machine.names[self._at(path)]

    async def remove_directory(self, path: bytes) -> None:
        await self._request(path)
        if any(each.startswith(path + b"/") for each in self._machine.names):
            raise StoreError(Fault.EXISTS, path)
        self._inode(path)
        del self._machine.names[self._at(path)]

    async def digest(self, path: bytes, algorithm: str, seen: Facts | None = None) -> NodeDigest:
        await self._request(path)
        inode = self._seen_by_commands(path)
        inode.durable, inode.pending = inode.data, []
        return NodeDigest(hashlib.new(algorithm, inode.data).hexdigest(), self._facts(inode, close=True))

    async def digest_start(self, path: bytes, size: int, algorithm: str) -> NodeDigest:
        await self._request(path)
        inode = self._seen_by_commands(path)
        if len(inode.data) < size:
            raise StoreError(Fault.SOURCE_CHANGED, path)
        return NodeDigest(hashlib.new(algorithm, inode.data[:size]).hexdigest(), self._facts(inode, close=True))

    async def digests(
        self, files: Sequence[tuple[bytes, Facts | None]], algorithm: str, processes: int = 0
    ) -> list[Digested]:
        return [await self._digest_one(path, algorithm) for path, _ in files]

    async def _digest_one(self, path: bytes, algorithm: str) -> Digested:
        try:
            made = await self.digest(path, algorithm)
        except StoreError as error:
            if error.fault in CONNECTION_FAULTS:
                raise
            return Digested("", None, error.fault)
        return Digested(made.digest, made.facts)

    def expect(self, size: int, *, limited: bool) -> None:
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

    async def keep_others_out(self) -> None:
        pass

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

    async def open(self) -> Any:  # what the engine needs of a store, and no more
        await asyncio.sleep(0.01)
        if not self._here and not self._world.calm and self._world.refusals > 0 and self._world.rng.random() < 0.3:
            self._world.refusals -= 1
            raise CannotReach("far", "connect", "refused")
        return Store(self._world, self._machine, here=self._here)

    def pins(self) -> dict[str, tuple[str, int]]:
        return {}
