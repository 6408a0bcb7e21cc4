"""The checksum list of a tree: made where the files are, written beside them or elsewhere, and put on record."""

from __future__ import annotations

import posixpath
import time
from collections.abc import Mapping
from dataclasses import dataclass

from yatagan.batches.batch_store import new_name
from yatagan.bundles.see_through import SeeThrough
from yatagan.desk.desk import Desk
from yatagan.digests.check_script import check_script
from yatagan.digests.checksum_lists import ALGORITHM, LIST_NAME
from yatagan.errors import StoreError
from yatagan.faults import Fault
from yatagan.ledger.ledger import OnRecord
from yatagan.ledger.records import RecordedPlace, RecordKind
from yatagan.operations.put_on_record import Done, patterns_on_record, put_on_record
from yatagan.operations.watching import Doing, Unwatched, Watcher, scan_place
from yatagan.places import Place, is_ours
from yatagan.planning.destination_areas import refuse_read_only
from yatagan.request_errors import NeverWrittenInto
from yatagan.stores.interface import Kind, Placement, Store
from yatagan.stores.local_calls import own_umask
from yatagan.trees import checksum_record
from yatagan.trees.hashing import Content, DigestOrigin, digests
from yatagan.trees.kept_directories import KeptDirectories
from yatagan.trees.patterns import EVERYTHING, Choice
from yatagan.trees.scan import Tree
from yatagan.trees.small_parts import small_part


@dataclass(frozen=True, slots=True)
class ListRequest:
    """Of which tree a checksum list is made, of what of it, and where it goes.

    `output`: the file; None for the usual one, in the tree itself or beside a single file. `returned`: it is not
    written, but in the answer. `script`: a script with the list in it, which checks by the commands of any machine.
    """

    place: Place
    choice: Choice = EVERYTHING
    output: Place | None = None
    returned: bool = False
    script: bool = False


@dataclass(frozen=True, slots=True)
class ListMade:
    """A list that was made: of the tree `root`, at the place `where`.

    `target`: what was written, None for nothing. `alone`: the tree is one file. `size` in bytes; `origin`: where the
    digests were made; `unread`: what is not on it, and why.
    """

    where: Place
    root: bytes
    target: Place | None
    data: bytes
    files: int
    size: int
    origin: DigestOrigin
    alone: bool
    unread: Mapping[bytes, Fault]
    record: OnRecord

    @property
    def outcome(self) -> str:
        """What became of it, in the ledger's words."""
        return _outcome(self.unread)


async def make_list(desk: Desk, request: ListRequest, watcher: Watcher | None = None) -> ListMade:
    """Make a checksum list, and its facts file beside it. A list that is there already is kept.

    Raises NeverWrittenInto for a stored bundle; ReadOnlyArea, CannotReach, StoreError and others.
    """
    where, inside = request.place, request.output is None and not request.returned
    watcher = watcher or Unwatched()
    store = await desk.open(desk.source(where, writing=inside))
    try:
        seeing = SeeThrough(store, listed=False)
        tree = await scan_place(seeing, where, request.choice, watcher)
        if inside and seeing.stored(tree.root) is not None:
            raise NeverWrittenInto(str(where))
        if inside and where.node:
            await refuse_read_only(store, desk.nodes().get(where.node), tree.root)
        paths = [path for path in tree.files() if not checksum_record.is_record(path)]
        contents = await _contents(seeing, tree, paths, watcher)
        if tree.entries[b""].kind is Kind.FILE:
            contents = {where.name: next(iter(contents.values()))}
        data = _written_as(contents, request)
        target = None if request.returned else await _write(desk, store, request, tree, data)
    finally:
        await store.close()
    unread = {path: content.fault for path, content in contents.items() if content.fault is not None} | tree.unread
    size = sum(tree.entries[path].size for path in paths)
    origin = next(iter(contents.values())).origin if contents else DigestOrigin.HERE
    files = len(contents) - len(unread)
    record = put_on_record(
        desk,
        Done(
            RecordKind.LISTED,
            _outcome(unread),
            origins=(RecordedPlace(where.node, tree.root),),
            target=RecordedPlace(target.node, target.path) if target is not None else None,
            counts={"files": files, "unreadable": len(unread)},
            size=size,
            evidence={origin.value: files},
            details=patterns_on_record(request.choice),
        ),
        lambda: ((path, contents[path].digest) for path in sorted(contents) if contents[path].digest),
    )
    alone = tree.entries[b""].kind is Kind.FILE
    return ListMade(where, tree.root, target, data, files, size, origin, alone, unread, record)


def _outcome(unread: Mapping[bytes, Fault]) -> str:
    return f"{len(unread)} could not be read" if unread else "good"


async def _contents(store: SeeThrough, tree: Tree, paths: list[bytes], watcher: Watcher) -> dict[bytes, Content]:
    sizes = {path: tree.entries[path].size for path in paths}
    async with watcher.hashing(Doing.LISTING) as heard:
        heard.expect(len(sizes), sum(sizes.values()))
        return await digests(store, tree, paths, ALGORITHM, lambda content: heard.hashed(sizes.get(content.path, 0)))


def _written_as(contents: Mapping[bytes, Content], request: ListRequest) -> bytes:
    """The list, or the script with it."""
    if not request.script:
        return checksum_record.write_list(contents)
    name = request.output.name if request.output is not None else b"check"
    return check_script(name, [(path, contents[path].digest) for path in sorted(contents) if contents[path].digest])


async def _write(desk: Desk, store: Store, request: ListRequest, tree: Tree, data: bytes) -> Place:
    """Write list and facts file, or a script. Returns its place."""
    where, output = request.place, request.output
    if output is None:
        alone = tree.entries[b""].kind is Kind.FILE
        path = tree.root + b".sha256" if alone else posixpath.join(tree.root, LIST_NAME)
        target, there = Place(where.node, path), store
    else:
        same = bool(output.node) and output.node == where.node
        there = store if same else await desk.open(desk.source(output, writing=True))
        target = Place(output.node, await there.resolve(output.path))
    try:
        if output is not None and output.node:
            await refuse_read_only(there, desk.nodes().get(output.node), target.path)
        facts = checksum_record.write_facts(tree, posixpath.basename(target.path), data)
        keeping = KeptDirectories(there, posixpath.dirname(target.path), new_name().encode())
        closed = 0 if target.node else own_umask()
        await _put(there, target.path, data, keeping, (0o755 if request.script else 0o644) & ~closed)
        if not request.script:
            await _put(there, target.path + checksum_record.FACTS_SUFFIX, facts, keeping, 0o644 & ~closed)
    finally:
        if there is not store:
            await there.close()
    return target


async def _put(store: Store, path: bytes, data: bytes, keeping: KeptDirectories, mode: int) -> None:
    """Write a small file atomically; an older one of its name is kept."""
    directory = posixpath.dirname(path)
    try:
        async with small_part(store, directory, "list", data) as (part, writer):
            seen = await store.look(path)
            kept = await keeping.path_for(posixpath.basename(path)) if seen is not None else b""
            now = time.time_ns()
            placement = Placement(part, path, len(data), directory, mode=mode, mtime_ns=now, seen=seen, kept=kept)
            await store.place(writer, placement)
    except StoreError as error:
        if is_ours(posixpath.basename(error.path)):
            raise StoreError(error.fault, path, store=error.store, detail=error.detail) from error
        raise
