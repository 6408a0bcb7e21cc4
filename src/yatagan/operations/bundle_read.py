"""Archives of any maker: what is in one, unpacking it here or on its node, and checking it against its index."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import AsyncExitStack
from dataclasses import dataclass, field, replace

from yatagan.batches.batch_store import new_name
from yatagan.bundles.by_node import unpack_there
from yatagan.bundles.read import Bundle, ReadResult, UnpackRequest, check, list_members, open_bundle, unpack
from yatagan.bundles.threads import in_thread
from yatagan.desk.desk import Desk
from yatagan.errors import StoreError
from yatagan.faults import Fault
from yatagan.ledger.ledger import OnRecord
from yatagan.ledger.records import RecordedPlace, RecordKind
from yatagan.operations.put_on_record import Done, put_on_record
from yatagan.operations.watching import Doing, Unwatched, Watcher
from yatagan.places import Place
from yatagan.planning.destination_areas import refuse_read_only
from yatagan.portable import unpacking
from yatagan.portable.index import IndexEntry
from yatagan.portable.tar import Damaged
from yatagan.request_errors import BadBundle, WrongBundle
from yatagan.stores.interface import Kind, Store
from yatagan.trees.hashing_watcher import HashingWatcher
from yatagan.trees.patterns import EVERYTHING, Choice

#: What comes out of a compressed archive, at most, for each byte of it.
RATIO = 200


@dataclass(slots=True)
class ArchiveListing:
    """What is in an archive, as far as it can be read; `damage`: where it cannot. `path`: absolute."""

    path: bytes
    bundle: Bundle
    lines: list[IndexEntry] = field(default_factory=list)
    damage: Damaged | None = None

    def read(self, lines: Iterator[IndexEntry]) -> None:
        """Take what can be read."""
        try:
            self.lines.extend(lines)
        except Damaged as damaged:
            self.damage = damaged


async def list_archive(desk: Desk, where: Place, choice: Choice = EVERYTHING) -> ArchiveListing:
    """List an archive without unpacking it. Raises BadBundle, BadArchive, CannotReach, StoreError."""
    store = await desk.open(desk.source(where, commands=False))
    try:
        path = await _archive(store, where)
        async with open_bundle(store, path) as bundle:
            listing = ArchiveListing(path, bundle)
            await in_thread(lambda stop: listing.read(list_members(bundle, choice, RATIO)))
            return listing
    finally:
        await store.close()


@dataclass(frozen=True, slots=True)
class UnpackArchive:
    """Which archive is unpacked into which directory, here or on the node that it is on, and how.

    `if_there`: what is done with files that are there already and differ, by the names of `portable.unpacking`. `most`:
    bytes that may be written; None for the free space. `ratio`: bytes that may come out for each byte of it.
    """

    place: Place
    into: Place
    choice: Choice = EVERYTHING
    if_there: str = unpacking.LEAVE
    salvage: bool = False
    links_out: bool = False
    most: int | None = None
    ratio: int = RATIO


@dataclass(frozen=True, slots=True)
class Unpacked:
    """What was unpacked of the archive `path` into `into`, both absolute; how long it took; its record.

    `kept_by`: what the directory of replaced files is called.
    """

    request: UnpackArchive
    path: bytes
    into: Place
    bundle: Bundle
    read: ReadResult
    seconds: float
    kept_by: str
    record: OnRecord | None


async def unpack_archive(desk: Desk, request: UnpackArchive, watcher: Watcher | None = None) -> Unpacked:
    """Unpack an archive; what is whole when it ends stays, however it ends. Puts on record what was unpacked.

    Raises BadBundle, BadArchive, ArchiveTooLarge, CannotReach, StoreError and others.
    """
    where, into, watcher = request.place, request.into, watcher or Unwatched()
    if into.node and into.node != where.node:
        raise BadBundle(WrongBundle.INTO_ANOTHER_NODE, str(into))
    began, run = time.monotonic(), new_name()
    async with AsyncExitStack() as opened:
        store = await desk.open(desk.source(where, commands=bool(into.node), writing=bool(into.node)))
        opened.push_async_callback(store.close)
        target = store
        if not into.node:
            target = await desk.open(desk.source(into, writing=True))
            opened.push_async_callback(target.close)
        path = await _archive(store, where)
        root = await _directory(desk, target, into)
        wish = await _wish(target, root, request, run)
        async with open_bundle(store, path) as bundle, watcher.hashing(Doing.UNPACKING) as heard:
            _expect(bundle, heard)
            if into.node:
                read = await unpack_there(store, path, root, wish)
            else:
                progress = heard.hashed
                read = await in_thread(
                    lambda stop: unpack(bundle, root, wish, lambda files, size: progress(size, files), stop)
                )
    record = _put_on_record(desk, where, path, Place(into.node, root), read)
    return Unpacked(request, path, Place(into.node, root), bundle, read, time.monotonic() - began, run, record)


@dataclass(frozen=True, slots=True)
class ArchiveChecked:
    """What an archive is found to be; `path`: absolute."""

    where: Place
    path: bytes
    bundle: Bundle
    read: ReadResult


async def check_archive(
    desk: Desk, where: Place, watcher: Watcher | None = None, *, ratio: int = RATIO
) -> ArchiveChecked:
    """Read every member and compare it with the index, where there is one; nothing is written.

    Raises BadBundle, BadArchive, CannotReach, StoreError.
    """
    store = await desk.open(desk.source(where, commands=False))
    try:
        path = await _archive(store, where)
        async with open_bundle(store, path) as bundle, (watcher or Unwatched()).hashing(Doing.CHECKING) as heard:
            _expect(bundle, heard)
            progress = heard.hashed
            read = await in_thread(lambda stop: check(bundle, ratio, lambda files, size: progress(size, files), stop))
            return ArchiveChecked(where, path, bundle, read)
    finally:
        await store.close()


def _expect(bundle: Bundle, heard: HashingWatcher) -> None:
    if (totals := bundle.totals) is not None:
        heard.expect(totals.files, totals.size)


async def _archive(store: Store, where: Place) -> bytes:
    """The absolute path of an archive. Raises BadBundle, StoreError."""
    path = await store.resolve(where.path, follow=True)
    found = await store.look(path)
    if found is None:
        raise StoreError(Fault.MISSING, path, store=where.node)
    if found.kind is not Kind.FILE:
        raise BadBundle(WrongBundle.NOT_AN_ARCHIVE, str(where), found.kind.value)
    return path


async def _directory(desk: Desk, store: Store, into: Place) -> bytes:
    """The directory to unpack into, made if it is missing. Raises BadBundle, ReadOnlyArea."""
    root = await store.resolve(into.path, follow=True)
    if into.node:
        await refuse_read_only(store, desk.nodes().get(into.node), root)
    found = await store.look(root)
    if found is None:
        await store.make_directory(root, 0o777)
    elif found.kind is not Kind.DIRECTORY:
        raise BadBundle(WrongBundle.NOT_A_DIRECTORY, str(into), found.kind.value)
    return root


async def _wish(store: Store, root: bytes, request: UnpackArchive, run: str) -> UnpackRequest:
    """What is to be unpacked; no more is written than the disk has free, unless a limit was set."""
    manner = unpacking.UnpackOptions(run, request.if_there, request.links_out, request.most, sync_disk=True)
    wish = UnpackRequest(request.choice, manner, request.ratio, request.salvage)
    free = await store.free_space(root) if request.most is None else None
    return wish if free is None else replace(wish, manner=manner._replace(most=free - free // 50))


def _put_on_record(desk: Desk, where: Place, path: bytes, into: Place, read: ReadResult) -> OnRecord | None:
    if not read.files:
        return None
    counts = {
        "files": read.files,
        "left_as_is": read.counts[unpacking.LEFT],
        "replaced": read.counts[unpacking.REPLACED],
    }
    return put_on_record(
        desk,
        Done(
            RecordKind.UNPACKED,
            "good" if read.good else "not good",
            origins=(RecordedPlace(where.node, path),),
            target=RecordedPlace(into.node, into.path),
            counts={what: count for what, count in counts.items() if count},
            size=read.size,
            evidence={"compared with the index": read.proven, "not listed": max(0, read.files - read.proven)},
        ),
        lambda: sorted((name, digest) for name, digest in read.listed if digest),
    )
