"""Reading bundles, and archives that others made, wherever they are: listing, unpacking, checking.

Where there is an index that fits, it is believed for names and places, and every file is compared with its digest;
where the archive's form allows, only what is needed is read.
"""

from __future__ import annotations

import threading
from collections import Counter
from collections.abc import AsyncIterator, Callable, Container, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import asynccontextmanager
from dataclasses import dataclass, field
from enum import StrEnum

from yatagan.archives.compression import Bomb, Bytes
from yatagan.archives.open_archive import ArchiveReader, NoArchive, open_archive, open_by_frames
from yatagan.bundles.threads import BlockingReader, WorkStopped
from yatagan.digests.algorithms import hasher as new_hasher
from yatagan.digests.checksum_lists import ALGORITHM
from yatagan.errors import ArchiveTooLarge, BadArchive
from yatagan.portable import index, member_names, unpacking
from yatagan.portable.holes import SparseDigest
from yatagan.portable.index import BadIndex, IndexEntry, Totals
from yatagan.portable.tar import FILE, Damaged, Member
from yatagan.portable.unpacking import MemberOutcome, Unpacker, for_each_member
from yatagan.stores.interface import Kind, Store
from yatagan.stores.system_errors import fault_of
from yatagan.trees.patterns import Choice

#: Hears how many more files and bytes are done.
Progress = Callable[[int, int], None]

_KNOWN = "known are tar, plain or with gzip, bzip2, xz or zstd, and zip"
_TAIL = 4096
_BLOCK = 1 << 18
_PIECE = 1 << 20


@dataclass(slots=True)
class Bundle:
    """An archive that is open for reading, and its index, if there is one with its totals."""

    path: bytes
    source: BlockingReader
    index_file: BlockingReader | None
    totals: Totals | None

    @property
    def fits(self) -> bool:
        """Whether there is an index for an archive of just this size."""
        return self.totals is not None and self.totals.stored == self.source.size

    @property
    def fetched(self) -> int:
        """Bytes that were read from the store, of both files."""
        return self.source.fetched + (self.index_file.fetched if self.index_file is not None else 0)

    def lines(self) -> Iterator[IndexEntry]:
        """The index's lines. Raises BadIndex. Blocking."""
        assert self.index_file is not None
        return index.read_lines(_split(self.index_file))


@asynccontextmanager
async def open_bundle(store: Store, path: bytes) -> AsyncIterator[Bundle]:
    """Open an archive on a store, by its absolute path.

    Raises StoreError; from what is done with it in the context, also BadArchive and ArchiveTooLarge.
    """
    reader = await store.open(path)
    index_file = None
    try:
        facts = await reader.facts()
        bundle = Bundle(path, BlockingReader(store, reader, facts.size), None, None)
        if (index_path := await _find_index(store, path)) is not None:
            index_file = await store.open(index_path)
            size = (await index_file.facts()).size
            start = max(0, size - _TAIL)
            totals = index.read_totals(await index_file.read(start, size - start))
            if totals is not None:
                bundle.index_file, bundle.totals = BlockingReader(store, index_file, size), totals
        yield bundle
    except NoArchive:
        raise BadArchive(path, "it is no archive of a known format", _KNOWN, store=store.name) from None
    except BadIndex as error:
        why = f"its index, line {error.line}: {error.why}"
        raise BadArchive(path, why, "rename the index, and the archive is read without it", store=store.name) from None
    except Bomb as bomb:
        raise ArchiveTooLarge(path, ratio=bomb.ratio, store=store.name) from None
    except unpacking.TooMuch as much:
        raise ArchiveTooLarge(path, most=much.allowed, store=store.name) from None
    finally:
        if index_file is not None:
            await index_file.close()
        await reader.close()


async def _find_index(store: Store, path: bytes) -> bytes | None:
    """The index beside an archive, by its present or its old name; None without one."""
    for suffix in index.SUFFIXES:
        found = await store.look(path + suffix)
        if found is not None and found.kind is Kind.FILE:
            return path + suffix
    return None


def _split(source: Bytes) -> Iterator[bytes]:
    """Lines of a file."""
    rest, at = b"", 0
    while at < source.size:
        data = source.read_at(at, _BLOCK)
        if not data:
            break
        at += len(data)
        lines = (rest + data).split(b"\n")
        rest = lines.pop()
        yield from lines
    if rest:
        yield rest


def _chosen(choice: Choice, member: Member) -> bool:
    return member_names.chosen(member.name, choice.only_patterns, choice.skip_patterns)


class Indexed:
    """An archive read by its index: only the chosen members, each from its offset."""

    def __init__(self, stream: Bytes, lines: Iterator[IndexEntry], choice: Choice) -> None:
        self._stream = stream
        self._lines = lines
        self._choice = choice
        self._present: IndexEntry | None = None
        self.at = 0

    def members(self) -> Iterator[Member]:
        """The members that are wanted. Raises BadIndex."""
        for line in self._lines:
            if not _chosen(self._choice, line.member):
                continue
            self._present = line
            self.at = line.member.offset or self.at
            yield line.member

    def contents(self) -> Iterator[tuple[int, bytes]]:
        """The present member's data. Raises Damaged."""
        assert self._present is not None
        member = self._present.member
        at = member.offset
        if at is None:
            raise Damaged(self.at, "the index does not say where a member's contents are")
        for offset, size in member.regions if member.regions is not None else ((0, member.stored),):
            while size:
                data = self._stream.read_at(at, min(size, _PIECE))
                if not data:
                    raise Damaged(at, "the archive ends where a member's contents should be")
                yield offset, data
                at, offset, size = at + len(data), offset + len(data), size - len(data)

    def resume(self) -> bool:
        """The next member does not depend on this one."""
        return True

    def digest(self, member: Member) -> str:
        """What the index says of the present member."""
        assert self._present is not None
        return self._present.digest


class _FromFront:
    """An archive read from front to back, in step with its index."""

    def __init__(self, bundle: Bundle, ratio: int) -> None:
        stream = open_by_frames(bundle.source)
        self._archive = open_archive(stream if stream is not None else bundle.source, ratio=ratio)
        self.listed = index.InStep(bundle.lines() if bundle.index_file is not None else None)
        self.members = self._archive.members
        self.contents = self._archive.contents
        self.digest = self.listed.digest

    @property
    def at(self) -> int:
        return self._archive.at

    def resume(self) -> bool:
        """Members are missing then, so the index is of no more use."""
        self.listed.stop()
        return self._archive.resume()


def members_from_front(bundle: Bundle, ratio: int) -> ArchiveReader:
    """An archive, to be read from front to back. Raises NoArchive, Damaged."""
    return _FromFront(bundle, ratio)


def list_members(bundle: Bundle, choice: Choice, ratio: int) -> Iterator[IndexEntry]:
    """The members of an archive, from its index if there is one that fits. Blocking.

    Raises Damaged, BadIndex, NoArchive, Bomb, StoreError.
    """
    lines = (
        bundle.lines() if bundle.fits else (IndexEntry(member, "") for member in _FromFront(bundle, ratio).members())
    )
    return (line for line in lines if _chosen(choice, line.member))


def read_members(
    bundle: Bundle, wanted: Container[bytes], ratio: int, most: int, stop: threading.Event
) -> dict[bytes, bytes]:
    """The contents of the members with these names, each up to `most` bytes; of those that can be read. Blocking.

    Raises NoArchive, Bomb, BadIndex, StoreError.
    """
    found: dict[bytes, bytes] = {}
    archive = _FromFront(bundle, ratio)

    def take(member: Member) -> None:
        if stop.is_set():
            raise WorkStopped
        if member.kind == FILE and member.name in wanted:
            data = bytearray(min(member.size, most))
            for offset, piece in archive.contents():
                data[offset : offset + len(piece)] = piece[: max(0, most - offset)]
            found[member.name] = bytes(data[:most])

    for_each_member(archive, take, lambda damaged: None, salvage=False)
    return found


def read_contents(
    bundle: Bundle,
    wanted: Container[bytes],
    ratio: int,
    progress: Progress,
    stop: threading.Event,
    algorithm: str = ALGORITHM,
) -> dict[bytes, str]:
    """The digests of the members with these names, from the archive's bytes; of those that can be read. Blocking.

    Raises NoArchive, Bomb, BadIndex, StoreError.
    """
    found: dict[bytes, str] = {}
    archive = _FromFront(bundle, ratio)
    with ThreadPoolExecutor(1) as hasher:

        def take(member: Member) -> None:
            if stop.is_set():
                raise WorkStopped
            if member.kind == FILE and member.name in wanted:
                found[member.name] = _digest(archive, member, hasher, holes=True, algorithm=algorithm)
                progress(1, member.size)

        for_each_member(archive, take, lambda damaged: None, salvage=False)
    return found


@dataclass(frozen=True, slots=True)
class Damage:
    """Where an archive is damaged (offset in its contents), and how."""

    at: int
    why: str


class MemberDifference(StrEnum):
    """How a member differs from its index entry."""

    CONTENTS = "different"
    FACTS = "facts differ"
    NOT_LISTED = "not listed"
    MISSING = "missing"


@dataclass(slots=True)
class ReadResult:
    """What reading an archive came to.

    `files` and `size` count what was good, `proven` how many of them were compared with the index's digests, `counts`
    members by what came of them; `reported` are those that the user should see, and `listed` files with their digests.
    """

    counts: Counter[str] = field(default_factory=Counter)
    files: int = 0
    size: int = 0
    proven: int = 0
    reported: list[MemberOutcome] = field(default_factory=list)
    damage: list[Damage] = field(default_factory=list)
    #: Members whose set-id bits were left out.
    bits: int = 0
    #: The index beside it names other members.
    strays: bool = False
    listed: list[tuple[bytes, str]] = field(default_factory=list)

    def note_damage(self, damaged: Damaged) -> None:
        """Add a place where the archive is damaged."""
        self.damage.append(Damage(damaged.at, damaged.why))

    @property
    def good(self) -> bool:
        """Whether all is as it should be."""
        bad = unpacking.IN_THE_WAY, unpacking.REFUSED, unpacking.FAILED, *MemberDifference
        return not self.damage and not self.strays and not any(self.counts[what] for what in bad)


# -- unpacking -------------------------------------------------------------------------------------------------

_NOTABLE = frozenset({unpacking.IN_THE_WAY, unpacking.REFUSED, unpacking.FAILED, unpacking.REPLACED})


@dataclass(frozen=True, slots=True)
class UnpackRequest:
    """What is to be unpacked, and how. `salvage`: go on behind damage. `ratio`: see `opening.Bomb`."""

    choice: Choice
    manner: unpacking.UnpackOptions
    ratio: int
    salvage: bool


def unpack(bundle: Bundle, into: bytes, wish: UnpackRequest, progress: Progress, stop: threading.Event) -> ReadResult:
    """Unpack into a directory of this machine. Blocking. What is whole when it ends stays, however it ends.

    Raises StoreError (NO_SPACE), TooMuch, Bomb, NoArchive, BadIndex.
    """
    read = ReadResult()

    def report(outcome: MemberOutcome) -> None:
        read.counts[outcome.what] += 1
        read.bits += bool(outcome.bits)
        if outcome.what in _NOTABLE:
            read.reported.append(outcome)
        if outcome.member.kind == FILE:
            if outcome.what in (unpacking.UNPACKED, unpacking.REPLACED):
                read.files += 1
                read.size += outcome.member.size
                read.listed.append((outcome.member.name, outcome.digest))
            progress(1, outcome.member.size)

    archive = _by_need(bundle, wish)

    def take(member: Member) -> None:
        if stop.is_set():
            raise WorkStopped
        digest = archive.digest(member)
        if _chosen(wish.choice, member):
            read.proven += bool(digest)
            unpacker.take(archive, member, digest)

    try:
        with Unpacker(into, wish.manner, report) as unpacker:
            for_each_member(archive, take, read.note_damage, wish.salvage)
    except OSError as error:
        raise fault_of(error, into) from error
    read.strays = isinstance(archive, _FromFront) and archive.listed.strays
    return read


def _by_need(bundle: Bundle, wish: UnpackRequest) -> Indexed | _FromFront:
    """The cheapest way to read what is wanted."""
    stream = open_by_frames(bundle.source) if bundle.fits else None
    if stream is not None:
        return Indexed(stream, bundle.lines(), wish.choice)
    return _FromFront(bundle, wish.ratio)


# -- checking --------------------------------------------------------------------------------------------------


def check(bundle: Bundle, ratio: int, progress: Progress, stop: threading.Event) -> ReadResult:
    """Read every member and compare it with the index, if there is one. Blocking.

    Raises NoArchive, Bomb, StoreError.
    """
    read = ReadResult()
    archive = _FromFront(bundle, ratio)
    with ThreadPoolExecutor(1) as hasher:

        def take(member: Member) -> None:
            if stop.is_set():
                raise WorkStopped
            line = archive.listed.entry(member)
            if archive.listed.strays and bundle.fits:
                _tell(read, member, MemberDifference.NOT_LISTED)
                return
            # Without an index a digest says nothing, and a stranger's sparse file may have an exabyte of holes.
            holes = line is not None
            digest = _digest(archive, member, hasher, holes=holes) if member.kind == FILE else ""
            difference = _difference(member, digest, line)
            if difference is not None:
                _tell(read, member, difference)
            elif member.kind == FILE:
                read.files += 1
                read.size += member.size
                read.proven += line is not None
            read.counts["members"] += 1
            progress(member.kind == FILE, member.size)

        for_each_member(archive, take, read.note_damage, salvage=False)
    if not read.damage:
        for name in archive.listed.rest():
            _tell(read, Member(name, FILE, 0, 0, 0), MemberDifference.MISSING)
    read.strays = archive.listed.strays
    return read


def _tell(read: ReadResult, member: Member, difference: MemberDifference) -> None:
    read.counts[difference.value] += 1
    read.reported.append(MemberOutcome(member, difference.value))


def _difference(member: Member, digest: str, line: IndexEntry | None) -> MemberDifference | None:
    if line is None:
        return None
    if line.digest != digest:
        return MemberDifference.CONTENTS
    listed = line.member
    same = (listed.kind, listed.size, listed.mode, listed.mtime_ns, listed.target) == (
        member.kind,
        member.size,
        member.mode,
        member.mtime_ns,
        member.target,
    )
    return None if same else MemberDifference.FACTS


def _digest(
    archive: ArchiveReader, member: Member, hasher: ThreadPoolExecutor, *, holes: bool, algorithm: str = ALGORITHM
) -> str:
    """The digest of a member's contents; `holes`: count the zeros of a sparse file."""
    digest = SparseDigest(holes, new_hasher(algorithm))
    hashed: Future[None] | None = None
    for offset, data in archive.contents():
        if len(data) == member.size:
            digest.add(offset, data)
            break
        if hashed is not None:
            hashed.result()
        hashed = hasher.submit(digest.add, offset, data)
    if hashed is not None:
        hashed.result()
    return digest.finish(member.size)
