"""Files that were replaced and are kept under `.yatagan-kept/BATCH/`: found, brought back, removed.

All of it is done where they are, by renaming and removing; no contents are read. Nothing is ever lost by bringing one
back: what has its name by then is kept in turn.
"""

from __future__ import annotations

import posixpath
from collections.abc import AsyncIterator, Callable, Iterable
from dataclasses import dataclass

from yatagan.errors import FileTrouble, LineLost, StoreError
from yatagan.faults import Fault
from yatagan.places import KEPT_DIRECTORY, holds
from yatagan.stores.interface import Facts, Kind, Store
from yatagan.trees.housekeeping import make_directories
from yatagan.trees.kept_directories import KeptDirectories
from yatagan.trees.removing import remove_files
from yatagan.trees.scan import Heard, Tree, scan, unheard


@dataclass(frozen=True, slots=True)
class KeptFile:
    """A file or link that `batch` has replaced: `path` below the destination `top`.

    `replaced_ns`: when the last file of its directory was replaced, as that directory's time shows.
    """

    top: bytes
    batch: str
    path: bytes
    facts: Facts
    replaced_ns: int

    @property
    def kept(self) -> bytes:
        """Where it is now."""
        return posixpath.join(self.top, KEPT_DIRECTORY, self.batch.encode("utf-8", "surrogateescape"), self.path)

    @property
    def original(self) -> bytes:
        """Where it was."""
        return posixpath.join(self.top, self.path)


async def find_kept(store: Store, root: bytes, heard: Heard = unheard) -> AsyncIterator[KeptFile]:
    """What is kept of files at or below `root`, an absolute path that need not exist; or in it, if it is kept itself.

    Looks for kept files in every directory above and below. Raises StoreError, and what `heard` raises.
    """
    names = root.split(b"/")
    if KEPT_DIRECTORY in names:
        top = b"/".join(names[: names.index(KEPT_DIRECTORY)]) or b"/"
        async for found in _in(store, top, heard):
            if holds(root, found.kept):
                yield found
        return
    for top in await _tops(store, root, heard):
        async for found in _in(store, top, heard):
            if holds(root, found.original):
                yield found


async def _tops(store: Store, root: bytes, heard: Heard) -> list[bytes]:
    """Directories above, at and below a path in which something is kept."""
    above, found = posixpath.dirname(root), []
    while True:
        if await _keeps(store, above):
            found.append(above)
        if posixpath.dirname(above) == above:
            break
        above = posixpath.dirname(above)
    tree = await scan(store, root, heard=heard)
    return [*found, *(posixpath.dirname(tree.absolute(path)) for path in tree.kept)]


async def _keeps(store: Store, directory: bytes) -> bool:
    """Whether anything is kept in a directory; False where looking is not permitted."""
    try:
        kept = await store.look(posixpath.join(directory, KEPT_DIRECTORY))
    except FileTrouble:
        return False
    return kept is not None and kept.kind is Kind.DIRECTORY


async def _in(store: Store, top: bytes, heard: Heard) -> AsyncIterator[KeptFile]:
    """What is kept in one destination."""
    tree = await scan(store, posixpath.join(top, KEPT_DIRECTORY), ours=True, heard=heard)
    for path, facts in sorted(tree.entries.items()):
        batch, slash, relative = path.partition(b"/")
        if slash and facts.kind is not Kind.DIRECTORY:
            replaced = tree.entries[posixpath.dirname(path)].mtime_ns
            yield KeptFile(top, batch.decode("utf-8", "surrogateescape"), relative, facts, replaced)


def newest_of_each(found: Iterable[KeptFile]) -> list[KeptFile]:
    """Of several kept files from one path the one that was replaced last."""
    newest: dict[bytes, KeptFile] = {}
    for each in found:
        other = newest.get(each.original)
        if other is None or (each.replaced_ns, each.batch) > (other.replaced_ns, other.batch):
            newest[each.original] = each
    return [newest[path] for path in sorted(newest)]


async def restore(store: Store, kept: KeptFile, batch: str) -> bytes:
    """Bring a kept file back to its path. Returns where what had the name is kept now, in the name of `batch`; or b"".

    Raises StoreError: KIND_IN_THE_WAY for a directory, IS_LINK when one is on the way. On an error all is as before.
    """
    directory, aside = posixpath.dirname(kept.original), b""
    await make_directories(store, directory)
    if not await store.is_real(directory, kept.top):
        raise StoreError(Fault.IS_LINK, directory, store=store.name)
    present = await store.look(kept.original)
    if present is not None:
        if present.kind is Kind.DIRECTORY:
            raise StoreError(Fault.KIND_IN_THE_WAY, kept.original, store=store.name, detail=present.kind.value)
        aside = await KeptDirectories(store, kept.top, batch.encode()).path_for(kept.path)
        await store.rename(kept.original, aside)
    try:
        await store.rename(kept.kept, kept.original)
    except StoreError as error:
        if aside and not isinstance(error, LineLost):
            await store.rename(aside, kept.original)
        raise
    return aside


async def remove_kept(
    store: Store, found: Iterable[KeptFile], failed: Callable[[KeptFile, Fault, str], None]
) -> list[KeptFile]:
    """Remove kept files. Returns those that are gone; `failed` hears of the others. Raises StoreError for a lost
    connection.
    """
    by_path = {kept.kept: kept for kept in found}
    gone = await remove_files(store, by_path, lambda path, fault, detail: failed(by_path[path], fault, detail))
    return [by_path[path] for path in gone]


async def remove_empty(store: Store, tops: Iterable[bytes]) -> None:
    """Remove the directories in which nothing is kept any more."""
    for top in tops:
        tree = await scan(store, posixpath.join(top, KEPT_DIRECTORY), ours=True)
        for path in _empty_first(tree):
            try:
                await store.remove_directory(tree.absolute(path))
            except FileTrouble:
                pass


def _empty_first(tree: Tree) -> list[bytes]:
    """The directories that hold no file at any depth, the deepest first."""
    held: set[bytes] = set()
    for path, facts in tree.entries.items():
        while facts.kind is not Kind.DIRECTORY and path and (path := posixpath.dirname(path)) not in held:
            held.add(path)
    empty = [path for path, facts in tree.entries.items() if facts.kind is Kind.DIRECTORY and path not in held]
    return sorted(empty, key=lambda path: path.count(b"/") + bool(path), reverse=True)
