"""Stored bundles, seen as the directories that they stand for.

A bundle that `stage` stored in a directory's place says so in its index; one that was made to give away is a file
and stays one. Through `SeeThrough` such a directory has its name and its entries, as the index lists them. Contents are
read out of the bundle, no more of it than is needed. So comparing, carrying and proving find files where there are
none.
"""

from __future__ import annotations

import asyncio
import hashlib
import posixpath
from collections.abc import AsyncGenerator, Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress

from yatagan.bundles.stored_bundle import (
    ENDING,
    OpenBundle,
    StoredBundle,
    StoredFile,
    bundle_of,
    facts_of_member,
    find_stored,
)
from yatagan.digests.checksum_lists import ALGORITHM
from yatagan.errors import FileTrouble, StoreError
from yatagan.faults import Fault
from yatagan.portable import index
from yatagan.portable.index import IndexEntry
from yatagan.portable.tar import FILE
from yatagan.stores.interface import (
    Digested,
    Facts,
    Kind,
    NodeBlocks,
    NodeDigest,
    Reader,
    SmallFile,
    SourceMachine,
    Store,
)
from yatagan.trees.hashing import digest_by_reading

#: Indexes that are read at once.
_INDEXES = 16
#: Endings of what may be a stored bundle, or its index.
_HELD = (ENDING, *(ENDING + suffix for suffix in index.SUFFIXES))


class SeeThrough:
    """A store, to be read, with its stored bundles as the directories that they stand for.

    With `listed` they are also found where a directory is listed that holds such bundles, in their place; otherwise
    only for a name that is not there, but in a bundle.
    """

    def __init__(self, store: Store, *, listed: bool = True) -> None:
        self.name = store.name
        self.traits = store.traits
        #: The bundles that were seen so far, by the directory that each stands for.
        self.bundles: dict[bytes, StoredBundle] = {}
        #: Directories whose bundles cannot be seen through, because their indexes are those of others.
        self.unfit: set[bytes] = set()
        self._store = store
        self.machine = _Machine(self, store.machine) if store.machine is not None else None
        self.max_rate = store.max_rate
        self._listed = listed
        self._as_files: set[bytes] = set()
        self._open: dict[bytes, asyncio.Task[OpenBundle]] = {}
        self._on_node: dict[bytes, asyncio.Task[dict[bytes, str]]] = {}
        # One thread for all of them: a pool that others read in as well could be full of those who wait for it.
        self._thread = ThreadPoolExecutor(1)

    def stored(self, path: bytes) -> StoredBundle | None:
        """The bundle that holds a path, among those seen so far."""
        known = self._known(path)
        return known[0] if known is not None else None

    def take_as_files(self, paths: Iterable[bytes]) -> bool:
        """Treat bundles with these paths as files. Returns whether any had been seen as its directory."""
        wanted = frozenset(paths)
        taken = [directory for directory, stored in self.bundles.items() if stored.path in wanted]
        for directory in taken:
            self._as_files.add(self.bundles.pop(directory).path)
        return bool(taken)

    # -- finding -------------------------------------------------------------------------------------------

    def _known(self, path: bytes) -> tuple[StoredBundle, bytes] | None:
        """The bundle that holds a path, if it was seen, and the path below its directory."""
        if not self.bundles:
            return None
        above = path
        while True:
            if (stored := self.bundles.get(above)) is not None:
                return stored, path[len(above) + 1 :]
            above, last = posixpath.dirname(above), above
            if above == last:
                return None

    async def _find(self, path: bytes) -> tuple[StoredBundle, bytes] | None:
        """The same for a path that does not exist itself, seen before or not."""
        if (known := self._known(path)) is not None:
            return known
        missing = path
        while (above := posixpath.dirname(missing)) != missing:
            found = await self._store.look(above)
            if found is not None:
                break
            missing = above
        else:
            return None
        if found.kind is not Kind.DIRECTORY or (stored := await self._stored(missing)) is None:
            return None
        return stored, path[len(missing) + 1 :]

    async def _stored(self, directory: bytes) -> StoredBundle | None:
        """The bundle that stands for a directory; remembered."""
        stored = await find_stored(self._store, directory)
        if stored is None or not stored.fits:
            self.unfit.update([directory] if stored is not None else [])
            return None
        self.bundles[directory] = stored
        return stored

    async def _entry(self, path: bytes) -> tuple[StoredBundle, IndexEntry]:
        """The bundle and index entry of a path. Raises StoreError."""
        found = await self._find(path)
        line = found[0].lines.get(found[1]) if found is not None else None
        if found is None or line is None:
            raise StoreError(Fault.MISSING, path, store=self.name)
        return found[0], line

    # -- as a store ----------------------------------------------------------------------------------------

    @property
    def quiet_seconds(self) -> float:
        return self._store.quiet_seconds

    async def resolve(self, path: bytes, *, follow: bool = False) -> bytes:
        return await self._store.resolve(path, follow=follow)

    async def look(self, path: bytes) -> Facts | None:
        if (known := self._known(path)) is not None:
            return known[0].facts_of(known[1])
        if (there := await self._store.look(path)) is not None:
            return there
        found = await self._find(path)
        return found[0].facts_of(found[1]) if found is not None else None

    async def look_closely(self, path: bytes) -> Facts | None:
        """An entry of a bundle that was changed since it was first seen is not there."""
        if (known := self._known(path)) is None:
            if (there := await self._store.look_closely(path)) is not None:
                return there
            known = await self._find(path)
        if known is None or not await self._unchanged(known[0]):
            return None
        return known[0].facts_of(known[1])

    async def _unchanged(self, stored: StoredBundle) -> bool:
        now = await self._store.look_closely(stored.path)
        return now is not None and now.same_as(stored.facts)

    async def entries(self, path: bytes) -> AsyncGenerator[list[tuple[bytes, Facts]], None]:
        if (known := self._known(path)) is not None:
            yield _listed(*known)
            return
        if not self._listed:
            async for handful in self._store.entries(path):
                yield handful
            return
        # Only what may be a stored bundle waits for the end of the listing, which may be long.
        held: dict[bytes, Facts] = {}
        async for handful in self._store.entries(path):
            held.update(each for each in handful if each[0].endswith(_HELD))
            yield [each for each in handful if not each[0].endswith(_HELD)]
        await self._see_through(path, held)
        yield list(held.items())

    async def _see_through(self, path: bytes, found: dict[bytes, Facts]) -> None:
        """Replace bundles by their directories among the names of a listing."""
        names = set[bytes]()
        for index_name in found:
            for ending in _HELD[1:]:
                name = index_name.removesuffix(ending)
                if name not in (index_name, b"") and name + ENDING in found:
                    names.add(name)
        slots = asyncio.Semaphore(_INDEXES)

        async def look(name: bytes) -> None:
            directory = posixpath.join(path, name)
            if bundle_of(directory) in self._as_files:
                return
            async with slots:
                if await self._store.look(directory) is not None:
                    return  # what really has the name is meant by it
                stored = await self._stored(directory)
            if stored is not None:
                found[name] = facts_of_member(stored.lines[b""].member)
                for ending in _HELD:
                    found.pop(name + ending, None)

        await asyncio.gather(*map(look, names))

    async def read_link(self, path: bytes) -> bytes:
        if self._known(path) is None:
            return await self._store.read_link(path)
        _, line = await self._entry(path)
        return line.member.target

    async def free_space(self, path: bytes) -> int | None:
        return await self._store.free_space(path)

    async def clock_ns(self) -> int | None:
        return await self._store.clock_ns()

    async def open(self, path: bytes) -> Reader:
        if self._known(path) is None:
            try:
                return await self._store.open(path)
            except StoreError as error:
                if error.fault is not Fault.MISSING:
                    raise
        stored, line = await self._entry(path)
        if line.member.kind != FILE:
            raise StoreError(Fault.UNSUPPORTED, path, store=self.name)
        return StoredFile(path, await self._contents(stored), line.member)

    def expect(self, size: int, *, limited: bool) -> None:
        self._store.expect(size, limited=limited)

    async def recorded(self, path: bytes) -> str:
        """What the index says."""
        known = self._known(path)
        line = known[0].lines.get(known[1]) if known is not None else None
        return line.digest if line is not None else ""

    async def close(self) -> None:
        await self.release()
        await self._store.close()

    async def release(self) -> None:
        """Close everything but the store itself."""
        for task in self._on_node.values():
            task.cancel()
        for opening in self._open.values():
            if opening.done() and not opening.cancelled() and opening.exception() is None:
                with suppress(StoreError):
                    await opening.result().close()
            opening.cancel()
        self._open.clear()
        self._thread.shutdown(wait=False, cancel_futures=True)

    async def _contents(self, stored: StoredBundle) -> OpenBundle:
        if stored.path not in self._open:
            self._open[stored.path] = asyncio.ensure_future(OpenBundle.open(self._store, stored, self._thread))
        try:
            return await asyncio.shield(self._open[stored.path])
        except StoreError:
            self._open.pop(stored.path, None)  # another try may have better luck
            raise


def _listed(stored: StoredBundle, path: bytes) -> list[tuple[bytes, Facts]]:
    names = stored.children.get(path, [])
    return [(name, facts_of_member(stored.lines[posixpath.join(path, name)].member)) for name in names]


class _Machine:
    """The machine of the store beneath, for entries of stored bundles as well."""

    def __init__(self, seen: SeeThrough, machine: SourceMachine) -> None:
        self._seen = seen
        self._machine = machine

    async def digest(self, path: bytes, algorithm: str, seen: Facts | None = None) -> NodeDigest:
        """A node makes the digests of all entries of a bundle at once, from its bytes."""
        if self._seen._known(path) is None:
            return await self._machine.digest(path, algorithm, seen)
        stored, line = await self._seen._entry(path)
        if self._seen.traits.here:
            value = await digest_by_reading(self._seen, path, algorithm)
            if not await self._seen._unchanged(stored):
                raise StoreError(Fault.SOURCE_CHANGED, path)
            return NodeDigest(value, facts_of_member(line.member))
        if algorithm != ALGORITHM:
            raise StoreError(Fault.UNSUPPORTED, path, store=self._seen.name)
        if stored.path not in self._seen._on_node:
            from yatagan.bundles.by_node import contents_there

            self._seen._on_node[stored.path] = asyncio.ensure_future(contents_there(self._seen._store, stored.path))
        digests = await asyncio.shield(self._seen._on_node[stored.path])
        if not await self._seen._unchanged(stored):
            raise StoreError(Fault.SOURCE_CHANGED, path, store=self._seen.name)
        if line.member.name not in digests:
            raise StoreError(Fault.DAMAGED, path, store=self._seen.name)
        return NodeDigest(digests[line.member.name], facts_of_member(line.member))

    async def digest_start(self, path: bytes, size: int, algorithm: str) -> NodeDigest:
        """Not for what is in a bundle, to which nothing is appended."""
        if self._seen._known(path) is not None:
            raise StoreError(Fault.UNSUPPORTED, path, store=self._seen.name)
        return await self._machine.digest_start(path, size, algorithm)

    async def digests(
        self, files: Sequence[tuple[bytes, Facts | None]], algorithm: str, processes: int = 0
    ) -> list[Digested]:
        outside = [(path, known) for path, known in files if self._seen._known(path) is None]
        made = await self._machine.digests(outside, algorithm, processes)
        there = dict(zip((path for path, _ in outside), made, strict=True))
        return [there.get(path) or await self._digest_one(path, algorithm) for path, _ in files]

    async def _digest_one(self, path: bytes, algorithm: str) -> Digested:
        try:
            made = await self.digest(path, algorithm)
        except FileTrouble as error:
            return Digested("", None, error.fault)
        return Digested(made.digest, made.facts)

    async def block_sums(self, path: bytes, block: int) -> NodeBlocks:
        """Not for what is in a bundle."""
        if self._seen._known(path) is not None:
            raise StoreError(Fault.UNSUPPORTED, path, store=self._seen.name)
        return await self._machine.block_sums(path, block)

    async def read_small(self, paths: Sequence[bytes], most: int) -> list[SmallFile]:
        """What comes out of a bundle is compared with its index."""
        outside = [path for path in paths if self._seen._known(path) is None]
        there = dict(zip(outside, await self._machine.read_small(outside, most), strict=True)) if outside else {}
        read = []
        for path in paths:
            found = there.get(path)
            if found is None or found.fault is Fault.MISSING:
                found = await self._read_one(path, most)
            read.append(found)
        return read

    async def _read_one(self, path: bytes, most: int) -> SmallFile:
        try:
            stored, line = await self._seen._entry(path)
            facts = facts_of_member(line.member)
            if facts.kind is not Kind.FILE or facts.size > most:
                return SmallFile(b"", None, Fault.SOURCE_CHANGED)
            data = await (await self._seen._contents(stored)).read(path, line.member, 0, facts.size)
        except FileTrouble as error:
            return SmallFile(b"", None, error.fault)
        if hashlib.new(ALGORITHM, data).hexdigest() != line.digest:
            return SmallFile(b"", None, Fault.DAMAGED)
        return SmallFile(data, facts)
