"""Bundles that are stored in the place of directories: finding one, what its index says, and reading out of it.

Such a bundle says in its index for which directory it stands. An index that is not sound in every line says nothing.
"""

from __future__ import annotations

import asyncio
import posixpath
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, TypeVar

from yatagan.errors import FileTrouble, StoreError
from yatagan.faults import Fault
from yatagan.portable import index
from yatagan.portable.index import BadIndex, IndexEntry, Totals
from yatagan.portable.tar import DIRECTORY, FILE, LINK, Damaged, Member
from yatagan.stores.in_flight import InFlight
from yatagan.stores.interface import Facts, Kind, Reader, Store

if TYPE_CHECKING:  # what reads archives is imported when there is one: most that is looked at is none
    from yatagan.archives.compression import Bytes

T = TypeVar("T")

#: What the names of stored bundles end in: of zstd frames any can be read without the rest.
ENDING = b".tar.zst"
_KINDS = {FILE: Kind.FILE, DIRECTORY: Kind.DIRECTORY, LINK: Kind.LINK}
#: Reads of an index that are under way at once.
_AHEAD = 16
#: Bytes of a member that are asked for at once.
_READ_AHEAD = 4 << 20


def bundle_of(directory: bytes) -> bytes:
    """The path of the bundle that a directory is stored as."""
    return directory + ENDING


@dataclass(slots=True)
class StoredBundle:
    """A bundle in a directory's place: its facts, and its index entries by relative path."""

    path: bytes
    directory: bytes
    facts: Facts
    index_facts: Facts
    totals: Totals
    lines: dict[bytes, IndexEntry]
    children: dict[bytes, list[bytes]]

    @property
    def fits(self) -> bool:
        """Whether the index was made for the bundle beside it: while one is being replaced, it was not."""
        return self.totals.stored == self.facts.size

    def facts_of(self, path: bytes) -> Facts | None:
        """Facts of an entry; None where there is none."""
        line = self.lines.get(path)
        return facts_of_member(line.member) if line is not None else None


def facts_of_member(member: Member) -> Facts:
    """The facts of an entry, from the index."""
    kind = _KINDS[member.kind]
    return Facts(kind, member.size if kind is Kind.FILE else 0, member.mtime_ns, member.mode & 0o7777)


async def find_stored(store: Store, directory: bytes) -> StoredBundle | None:
    """The bundle that stands for a missing directory; None without one that has a sound index."""
    path = bundle_of(directory)
    for suffix in index.SUFFIXES:
        index_facts, facts = await asyncio.gather(store.look_closely(path + suffix), store.look_closely(path))
        if facts is None or facts.kind is not Kind.FILE:
            return None
        if index_facts is not None and index_facts.kind is Kind.FILE:
            return await _read_stored(store, directory, facts, path + suffix, index_facts)
    return None


async def _read_stored(
    store: Store, directory: bytes, facts: Facts, index_path: bytes, index_facts: Facts
) -> StoredBundle | None:
    """The bundle that an index describes; None if it does not stand for the directory."""
    try:
        reader = await store.open(index_path)
    except FileTrouble:
        return None  # without permission to read it, it is a file
    try:
        start = await reader.read(0, min(store.traits.read_size, index_facts.size))
        name = posixpath.basename(directory)
        if index.read_first_line(start.partition(b"\n")[0]) != name:
            return None
        data = start + await _read_on(store, reader, len(start), index_facts.size)
        totals, lines, children = await asyncio.to_thread(_read_index, data, name)
    except BadIndex:
        return None
    finally:
        await reader.close()
    return StoredBundle(bundle_of(directory), directory, facts, index_facts, totals, lines, children)


async def _read_on(store: Store, reader: Reader, begins: int, size: int) -> bytes:
    """An open file from somewhere to its end."""
    step = store.traits.read_size
    pieces: list[bytes] = []
    for start in range(begins, size, step * _AHEAD):
        ends = range(start, min(size, start + step * _AHEAD), step)
        pieces += await asyncio.gather(*(reader.read(at, min(step, size - at)) for at in ends))
    return b"".join(pieces)


def _read_index(data: bytes, name: bytes) -> tuple[Totals, dict[bytes, IndexEntry], dict[bytes, list[bytes]]]:
    """Every entry below a directory of this name, and what each directory holds. Raises BadIndex."""
    lines: dict[bytes, IndexEntry] = {}
    children: dict[bytes, list[bytes]] = {}
    each = data.rstrip(b"\n").split(b"\n")
    totals = index.read_totals(each[-1])
    if totals is None:
        raise BadIndex(len(each), "it is cut off")
    for number, line in enumerate(index.read_lines(each), 2):
        path = _below(line.member, name, number)
        above = posixpath.dirname(path)
        if path in lines or (path and above not in children):
            raise BadIndex(number, "a member comes twice, or before its directory")
        lines[path] = line
        if line.member.kind == DIRECTORY:
            children[path] = []
        if path:
            children[above].append(posixpath.basename(path))
    if b"" not in children:
        raise BadIndex(1, "it does not hold the directory that it stands for")
    return totals, lines, children


def _below(member: Member, name: bytes, number: int) -> bytes:
    """A member's path below the directory that the bundle stands for. Raises BadIndex for what we would not make."""
    top, *parts = member.name.split(b"/")
    sound = top == name and not any(part in (b"", b".", b"..") or b"\0" in part for part in parts)
    if not sound or member.kind not in _KINDS or member.size < 0:
        raise BadIndex(number, "a member that no stored bundle has")
    return b"/".join(parts)


@dataclass(slots=True)
class OpenBundle:
    """A stored bundle that is open: any part of any member can be read."""

    store: Store
    reader: Reader
    stored: StoredBundle
    thread: ThreadPoolExecutor
    stream: Bytes | None = field(default=None)

    @classmethod
    async def open(cls, store: Store, stored: StoredBundle, thread: ThreadPoolExecutor) -> OpenBundle:
        """Open the bundle. Raises StoreError: SOURCE_CHANGED when it is another one by now."""
        from yatagan.archives.open_archive import open_by_frames
        from yatagan.bundles.threads import BlockingReader

        reader = await store.open(stored.path)
        try:
            if not (await reader.facts()).same_as(stored.facts):
                raise StoreError(Fault.SOURCE_CHANGED, stored.path, store=store.name)
            found = cls(store, reader, stored, thread)
            blocking = BlockingReader(store, reader, stored.facts.size)
            found.stream = await found._apart(stored.path, lambda: open_by_frames(blocking))
            if found.stream is None:
                raise StoreError(Fault.DAMAGED, stored.path, store=store.name)
        except BaseException:
            await reader.close()
            raise
        return found

    async def read(self, path: bytes, member: Member, offset: int, size: int) -> bytes:
        """A part of a member. Raises StoreError."""
        stream = self.stream
        assert stream is not None
        return await self._apart(path, lambda: _part(stream, member, offset, min(size, member.size - offset)))

    async def facts(self) -> Facts:
        """The bundle's own facts now."""
        return await self.reader.facts()

    async def close(self) -> None:
        """Let go of the file."""
        await self.reader.close()

    async def _apart(self, path: bytes, work: Callable[[], T]) -> T:
        try:
            return await asyncio.get_running_loop().run_in_executor(self.thread, work)
        except Damaged as damaged:
            raise StoreError(Fault.DAMAGED, path, store=self.store.name, detail=damaged.why) from None
        except RuntimeError as error:  # the thread is gone: the session was closed
            raise StoreError(Fault.CONNECTION_LOST, path, store=self.store.name) from error


def _part(stream: Bytes, member: Member, offset: int, size: int) -> bytes:
    """A part of a member's contents, with the zeros of its holes. Raises Damaged."""
    at, end, stored = offset, offset + max(size, 0), member.offset or 0
    pieces = []
    for begins, length in member.regions if member.regions is not None else ((0, member.size),):
        first, last = max(at, begins), min(end, begins + length)
        if first < last:
            data = stream.read_at(stored + first - begins, last - first)
            if len(data) != last - first:
                raise Damaged(stored, "the archive ends where a member's contents should be")
            pieces += [bytes(first - at), data]
            at = last
        stored += length
    pieces.append(bytes(end - at))
    return b"".join(pieces)


class StoredFile:
    """A file in a bundle, open."""

    def __init__(self, path: bytes, contents: OpenBundle, member: Member) -> None:
        self._path = path
        self._contents = contents
        self._member = member
        self.flow = InFlight(_READ_AHEAD)
        self.read_here = None

    async def facts(self) -> Facts:
        stored = self._contents.stored
        if not (await self._contents.facts()).same_as(stored.facts):
            raise StoreError(Fault.SOURCE_CHANGED, self._path, store=self._contents.store.name)
        return facts_of_member(self._member)

    async def read(self, offset: int, size: int) -> bytes:
        return await self._contents.read(self._path, self._member, offset, size)

    async def close(self) -> None:
        """The bundle stays open for others."""
