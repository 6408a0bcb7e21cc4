"""Reading a whole tree through a store.

Directories are listed several at a time, since over a network each listing costs round trips. Links are not followed.
Yatagan's own part files and kept files are no content and never appear.

A listing is a stranger's word. Names that no directory can hold are dropped and counted; a name that comes twice in
one directory counts once, or the directory fails when its facts disagree; paths have the length that systems allow,
which also ends directories that contain themselves. How much is read in all is for `heard` to bound.
"""

from __future__ import annotations

import asyncio
import posixpath
from collections.abc import Callable
from contextlib import aclosing
from dataclasses import dataclass, field

from yatagan.errors import FileTrouble, StoreError
from yatagan.faults import Fault
from yatagan.futures import first_of
from yatagan.places import is_name, is_ours
from yatagan.stores.interface import Facts, Kind, Readable
from yatagan.trees.entries import Entries
from yatagan.trees.patterns import EVERYTHING, Choice

#: Directories listed at once.
_LISTINGS = 16
#: Bytes of the longest path that systems take: PATH_MAX of Linux, without its final NUL.
_LONGEST_PATH = 4095
#: Names that may come again in one listing, besides as many as there are, before it is taken for an endless one.
_REPEATED = 1000
#: Dropped names that are kept, to be shown.
_DROPPED_SHOWN = 20

#: Hears that so many more entries have been listed. May raise an error of ours, which ends the scan.
Heard = Callable[[int], None]


def unheard(more: int) -> None:
    """The default listener: does nothing."""


@dataclass(slots=True)
class Tree:
    """A root and everything below it.

    `entries` maps paths relative to the root (the root itself is b"") to facts; `targets` holds what
    links point to; `unread` what could not be looked into, and why; `skipped` counts what was left out by a
    choice, a directory with all below it as one; `unfinished` are part files of ours and `kept` the directories of
    replaced files, which are no entries.
    `dropped` counts names that no directory can hold, of which the first are in `dropped_names`; `repeated` counts
    entries that a listing named more than once.
    """

    root: bytes
    entries: Entries = field(default_factory=Entries)
    targets: dict[bytes, bytes] = field(default_factory=dict)
    unread: dict[bytes, Fault] = field(default_factory=dict)
    skipped: int = 0
    unfinished: dict[bytes, Facts] = field(default_factory=dict)
    kept: list[bytes] = field(default_factory=list)
    dropped: int = 0
    dropped_names: list[bytes] = field(default_factory=list)
    repeated: int = 0

    def absolute(self, relative: bytes) -> bytes:
        """The full path of an entry."""
        return posixpath.join(self.root, relative) if relative else self.root

    def graft(self, name: bytes, other: Tree) -> None:
        """Insert another tree below an entry of this one."""
        self.entries.update({posixpath.join(name, path): facts for path, facts in other.entries.items() if path})
        self.targets.update({posixpath.join(name, path): target for path, target in other.targets.items() if path})
        self.unread.update({posixpath.join(name, path): fault for path, fault in other.unread.items()})
        self.skipped += other.skipped
        self.dropped += other.dropped
        self.dropped_names += other.dropped_names[: _DROPPED_SHOWN - len(self.dropped_names)]
        self.repeated += other.repeated
        self.unfinished.update({posixpath.join(name, path): facts for path, facts in other.unfinished.items()})
        self.kept += [posixpath.join(name, path) for path in other.kept]

    def files(self) -> list[bytes]:
        """The regular files, sorted by path."""
        return sorted(self.entries.of_kind(Kind.FILE))


async def scan(
    store: Readable,
    root: bytes,
    *,
    depth: int | None = None,
    ours: bool = False,
    choice: Choice = EVERYTHING,
    heard: Heard = unheard,
    into: Entries | None = None,
) -> Tree:
    """Read a tree; empty when there is nothing at `root`. `depth` 1 stops after the root's own entries.

    Part files and kept files are left out, but for `ours`. What `choice` skips is not even looked into; of what is
    not chosen, the directories above what is chosen stay. `into`: empty entries that are to hold it.

    Raises StoreError when the root cannot be read or the connection is lost, and what `heard` raises; what fails below
    is in `unread`.
    """
    tree = Tree(root, into if into is not None else Entries())
    facts = await store.look_closely(root)
    if facts is None:
        return tree
    tree.entries[b""] = facts
    if facts.kind is Kind.LINK:
        tree.targets[b""] = await store.read_link(root)
    if facts.kind is not Kind.DIRECTORY:
        return tree
    try:
        await _Scan(store, tree, depth, ours, choice, heard).run()
    except BaseExceptionGroup as group:
        raise first_of(group) from None
    if b"" in tree.unread:
        raise StoreError(tree.unread[b""], root, store=store.name)
    return tree


class _Contradiction(Exception):
    """A listing names an entry twice with different facts, or does not end."""


class _Scan:
    def __init__(
        self, store: Readable, tree: Tree, depth: int | None, ours: bool, choice: Choice, heard: Heard
    ) -> None:
        self._store = store
        self._tree = tree
        self._depth = depth
        self._ours = ours
        self._choice = choice
        self._heard = heard
        self._slots = asyncio.Semaphore(_LISTINGS)

    async def run(self) -> None:
        level = [b""]
        reached = 0
        while level and (self._depth is None or reached < self._depth):
            async with asyncio.TaskGroup() as group:
                listings = [group.create_task(self._list(path)) for path in level]
            level = [path for listing in listings for path in listing.result()]
            reached += 1
        if self._choice:
            self._leave_out()

    def _leave_out(self) -> None:
        """Drop what is not chosen, except directories above what is."""
        tree = self._tree
        kept: set[bytes] = {b""}
        for path in tree.entries:
            if self._choice.chooses(path):
                while path not in kept:
                    kept.add(path)
                    path = posixpath.dirname(path)
        left = [path for path in tree.entries if path not in kept]
        tree.skipped += sum(tree.entries[path].kind is not Kind.DIRECTORY for path in left)
        for path in left:
            del tree.entries[path]
            tree.targets.pop(path, None)
            tree.unread.pop(path, None)

    async def _list(self, relative: bytes) -> list[bytes]:
        """List one directory. Returns the directories in it. A listing that breaks off counts for nothing."""
        async with self._slots:
            try:
                try:
                    found = await self._names(relative)
                except _Contradiction:  # disks of other machines repeat entries while a directory changes
                    found = await self._names(relative)
            except _Contradiction:
                self._tree.unread[relative] = Fault.LISTING
                return []
            except FileTrouble as error:
                self._tree.unread[relative] = error.fault
                return []
            for path, facts in found.items():
                if facts.kind is Kind.LINK:
                    await self._read_link(path)
        self._tree.entries.update(found)
        return [path for path, facts in found.items() if facts.kind is Kind.DIRECTORY and self._may_enter(path)]

    async def _names(self, relative: bytes) -> dict[bytes, Facts]:
        """The entries of a directory, by path. Raises _Contradiction, StoreError."""
        found: dict[bytes, Facts] = {}
        above = relative + b"/" if relative else b""
        repeated = 0
        async with aclosing(self._store.entries(self._tree.absolute(relative))) as handfuls:
            async for handful in handfuls:
                self._heard(len(handful))
                for name, facts in handful:
                    if not is_name(name):
                        self._drop(above + name)
                        continue
                    path = above + name
                    if path in found:
                        repeated += 1
                        if not facts.same_as(found[path]) or repeated > len(found) + _REPEATED:
                            raise _Contradiction
                    elif is_ours(name) and not self._ours:
                        self._note_ours(path, facts)
                    elif self._choice.skips(path):
                        self._tree.skipped += 1
                    else:
                        found[path] = facts
        self._tree.repeated += repeated
        return found

    def _note_ours(self, path: bytes, facts: Facts) -> None:
        if facts.kind is Kind.FILE:
            self._tree.unfinished[path] = facts
        elif facts.kind is Kind.DIRECTORY:
            self._tree.kept.append(path)

    def _drop(self, path: bytes) -> None:
        self._tree.dropped += 1
        if len(self._tree.dropped_names) < _DROPPED_SHOWN:
            self._tree.dropped_names.append(path)

    def _may_enter(self, path: bytes) -> bool:
        """Whether a directory's path is short enough for the system; deeper ones are not read."""
        if len(self._tree.absolute(path)) <= _LONGEST_PATH - 2:
            return True
        self._tree.unread[path] = Fault.NAME_TOO_LONG
        return False

    async def _read_link(self, path: bytes) -> None:
        try:
            self._tree.targets[path] = await self._store.read_link(self._tree.absolute(path))
        except FileTrouble as error:
            self._tree.unread[path] = error.fault
