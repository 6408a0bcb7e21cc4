"""Hashing a tree's files where it costs least: on their own machine, here, or by reading them."""

from __future__ import annotations

import asyncio
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from enum import StrEnum

from yatagan.digests.algorithms import hasher
from yatagan.errors import FileTrouble, LineLost, StoreError
from yatagan.faults import Fault
from yatagan.futures import first_of
from yatagan.stores.interface import Digested, Facts, Readable, machine_of
from yatagan.trees.compare import is_fresh, still_since
from yatagan.trees.remembered_digests import RememberedDigests
from yatagan.trees.scan import Tree

#: Reads under way at once when a file is read over the line only to be hashed.
_AHEAD = 16
#: Handfuls hashed at once, and the most files and bytes in one.
_HANDFULS, _FILES, _BYTES = 6, 200, 64 << 20


async def digest_by_reading(store: Readable, path: bytes, algorithm: str, size: int | None = None) -> str:
    """Read a file, or its first `size` bytes, through the store and hash it here. Raises StoreError."""
    reader = await store.open(path)
    pending: deque[asyncio.Task[bytes]] = deque()
    try:
        size = (await reader.facts()).size if size is None else size
        value, block, offset, taken = hasher(algorithm), store.traits.read_size, 0, 0
        while offset < size or pending:
            while offset < size and len(pending) < _AHEAD:
                pending.append(asyncio.ensure_future(reader.read(offset, min(block, size - offset))))
                offset += block
            data = await pending.popleft()
            taken += len(data)
            value.update(data)
        if taken != size:
            raise StoreError(Fault.SOURCE_CHANGED, path, store=store.name)
    finally:
        for task in pending:
            task.cancel()
        await reader.close()
    return value.hexdigest()


class DigestOrigin(StrEnum):
    """Where a digest was made."""

    ON_NODE = "on-node"
    READ_BACK = "read-back"
    HERE = "read-here"


@dataclass(frozen=True, slots=True)
class Content:
    """A file's digest and where it was made, or why there is none. `remembered`: it was made earlier."""

    path: bytes
    digest: str
    origin: DigestOrigin
    fault: Fault | None = None
    remembered: bool = False


def origin_of(store: Readable) -> DigestOrigin:
    """Where digests of a store's files are made."""
    if store.traits.here:
        return DigestOrigin.HERE
    return DigestOrigin.ON_NODE if store.machine is not None else DigestOrigin.READ_BACK


async def digests(
    store: Readable,
    tree: Tree,
    paths: Sequence[bytes],
    algorithm: str,
    done: Callable[[Content], None],
    memory: RememberedDigests | None = None,
    processes: int = 0,
) -> dict[bytes, Content]:
    """Hash many files of a scanned tree, several at a time, and report each to `done`.

    Digests that `memory` knows are not made again; new ones are put there. `processes`: how many processors of the
    machine may work on it; 0 for what is usual. A file that cannot be read has its fault in the result. Raises
    StoreError when the connection is lost.
    """
    found: dict[bytes, Content] = {}
    # A node is to have its next request while it works on one.
    at_once = processes + (0 if store.traits.here else 2) if processes else _HANDFULS
    # Over a connection, or in a thread each, many go on at once: so no reader gets all of them.
    most = min(_FILES, -(-len(paths) // at_once)) if store.machine is not None else 1
    waiting = iter(_handfuls(tree, paths, most))
    still = still_since(await store.clock_ns(), store.traits.time_step_ns) if memory is not None else None
    digesting = _Digesting(store, tree, algorithm, memory, still, processes)

    async def work() -> None:
        for handful in waiting:
            for content in await digesting.handful(handful):
                found[content.path] = content
                done(content)

    try:
        async with asyncio.TaskGroup() as group:
            for _ in range(at_once):
                group.create_task(work())
    except BaseExceptionGroup as errors:  # one cause: a lost connection ends all of them
        raise first_of(errors) from None
    return found


def _handfuls(tree: Tree, paths: Sequence[bytes], most: int) -> Iterator[list[bytes]]:
    """Split paths into batches of one request each: at most `most`, and _BYTES."""
    handful: list[bytes] = []
    size = 0
    for path in paths:
        if handful and (len(handful) == most or size + tree.entries[path].size > _BYTES):
            yield handful
            handful, size = [], 0
        handful.append(path)
        size += tree.entries[path].size
    if handful:
        yield handful


@dataclass(frozen=True, slots=True)
class _Digesting:
    """The hashing of one tree's files."""

    store: Readable
    tree: Tree
    algorithm: str
    memory: RememberedDigests | None
    still_since: int | None
    processes: int = 0

    async def handful(self, paths: Sequence[bytes]) -> list[Content]:
        """Hash files by one request to their machine; by reading them where it cannot."""
        machine = self.store.machine
        if machine is None:
            return [await self._by_reading(path) for path in paths]
        whole = [self.tree.absolute(path) for path in paths]
        where = self.store.name, self.algorithm
        known = await asyncio.to_thread(self.memory.recall, *where, whole) if self.memory is not None else {}
        files = [(path, known[path][0] if path in known else None) for path in whole]
        try:
            made = await machine.digests(files, self.algorithm, self.processes)
        except StoreError as error:
            if error.fault is not Fault.UNSUPPORTED:
                raise
            return [await self._by_reading(path) for path in paths]
        if self.memory is not None:
            await asyncio.to_thread(self.memory.keep, *where, self._to_keep(whole, made))
        contents = []
        for path, absolute, each in zip(paths, whole, made, strict=True):
            # Commands may see another disk than the file protocol does.
            same = each.facts is not None and each.facts.same_as(self.tree.entries[path])
            if not same and each.fault in (None, Fault.UNSUPPORTED, Fault.MISSING):
                contents.append(await self._alone(path))
            else:
                old = not each.digest and each.fault is None
                digest = known[absolute][1] if old else each.digest
                contents.append(Content(path, digest, origin_of(self.store), each.fault, remembered=old))
        return contents

    def _to_keep(self, paths: Sequence[bytes], made: Sequence[Digested]) -> list[tuple[bytes, Facts, str]]:
        """Digests worth remembering: of files that are old enough that a later change will show."""
        return [
            (path, each.facts, each.digest)
            for path, each in zip(paths, made, strict=True)
            if each.digest and each.facts is not None and self.still_since is not None
            if each.facts.inode is not None and not is_fresh(each.facts, self.still_since)
        ]

    async def _alone(self, path: bytes) -> Content:
        """Hash a file that has changed since the scan, or that the machine's commands do not see."""
        origin = origin_of(self.store)
        try:
            made = await machine_of(self.store).digest(self.tree.absolute(path), self.algorithm)
        except StoreError as error:
            if error.fault in (Fault.UNSUPPORTED, Fault.OTHER_DISK) and origin is not DigestOrigin.HERE:
                return await self._by_reading(path)
            if isinstance(error, LineLost):
                raise
            return Content(path, "", origin, error.fault)
        return Content(path, made.digest, origin)

    async def _by_reading(self, path: bytes) -> Content:
        try:
            value = await digest_by_reading(self.store, self.tree.absolute(path), self.algorithm)
            return Content(path, value, self._read_here)
        except FileTrouble as error:
            return Content(path, "", self._read_here, error.fault)

    @property
    def _read_here(self) -> DigestOrigin:
        return DigestOrigin.HERE if self.store.traits.here else DigestOrigin.READ_BACK
