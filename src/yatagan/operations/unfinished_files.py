"""Unfinished files in a place: whose they are, and removing those that no batch will finish."""

from __future__ import annotations

import contextlib
import posixpath
from collections.abc import AsyncIterator, Sequence
from contextlib import asynccontextmanager
from dataclasses import dataclass
from enum import StrEnum

from yatagan.batches.batch_store import Batches
from yatagan.batches.states import ENDED
from yatagan.desk.desk import Desk
from yatagan.errors import FileTrouble, JournalError, StoreError
from yatagan.faults import Fault
from yatagan.operations.watching import Unwatched, Watcher
from yatagan.places import Place, batch_of_part, is_ours
from yatagan.request_errors import BadEntry, WrongEntry
from yatagan.stores.interface import Facts, Kind, Store
from yatagan.trees.removing import remove_files
from yatagan.trees.scan import scan


class PartOwner(StrEnum):
    """Whether any batch will finish a part file."""

    #: Its batch is carried now, or can be resumed.
    NEEDED = "needed"
    #: Its batch, of this account on this machine, is finished or cancelled.
    DEAD = "dead"
    #: Of another account or machine, as far as is known here: it may be carried now.
    UNKNOWN = "unknown"


@dataclass(frozen=True, slots=True)
class Part:
    """A part file: its absolute path, the one below the place that was asked for, facts, batch ("" where its name says
    none), owner, and who will finish it.
    """

    path: bytes
    below: bytes
    facts: Facts
    batch: str
    owner: str
    prospect: PartOwner


@dataclass(frozen=True, slots=True)
class PartsRemoved:
    """How many part files are gone, and why others stayed."""

    removed: int
    failures: Sequence[tuple[Part, Fault]]


class FoundParts:
    """Part files that were found; `going`: those that no batch will finish, or the one that was named itself."""

    def __init__(self, store: Store, found: list[Part], going: list[Part]) -> None:
        self._store = store
        self.found = found
        self.going = going

    async def remove(self) -> PartsRemoved:
        """Remove those that go. Raises StoreError when the connection is lost."""
        by_path, failures = {part.path: part for part in self.going}, list[tuple[Part, Fault]]()
        gone = await remove_files(
            self._store, by_path, lambda path, fault, detail: failures.append((by_path[path], fault))
        )
        return PartsRemoved(len(gone), failures)


async def list_parts(desk: Desk, where: Place, watcher: Watcher | None = None) -> list[Part]:
    """Find the unfinished files in a place and below. Raises CannotReach, StoreError."""
    store = await desk.open(desk.source(where, commands=False))
    try:
        return await _find(desk, store, where, watcher or Unwatched())
    finally:
        await store.close()


@asynccontextmanager
async def found_parts(desk: Desk, where: Place, watcher: Watcher | None = None) -> AsyncIterator[FoundParts]:
    """Find unfinished files, to remove some. Raises BadEntry for one that a batch needs, CannotReach and others.

    Those of other machines and accounts may still be written: such a file goes only when the place is that file.
    """
    store = await desk.open(desk.source(where, commands=False, writing=True))
    try:
        found = await _find(desk, store, where, watcher or Unwatched())
        named = is_ours(posixpath.basename(where.path))
        needed = [part.batch for part in found if part.prospect is PartOwner.NEEDED]
        if named and needed:
            raise BadEntry(WrongEntry.NEEDED, str(where), needed[0])
        yield FoundParts(store, found, [part for part in found if named or part.prospect is PartOwner.DEAD])
    finally:
        await store.close()


async def _find(desk: Desk, store: Store, where: Place, watcher: Watcher) -> list[Part]:
    root = await store.resolve(where.path)
    with watcher.reading([where]) as heard:
        tree = await scan(store, root, heard=heard)
    if not tree.entries:
        raise StoreError(Fault.MISSING, root, store=where.node)
    found = {tree.absolute(path): facts for path, facts in tree.unfinished.items()}
    itself = tree.entries[b""]
    if itself.kind is Kind.FILE and is_ours(posixpath.basename(root)):
        found[root] = itself
    batches = Batches(desk.home.batches)
    known = {name: _prospect(batches, name) for name in {batch_of_part(posixpath.basename(path)) for path in found}}
    parts = []
    for path, facts in sorted(found.items()):
        batch = batch_of_part(posixpath.basename(path))
        below = posixpath.basename(path) if path == root else posixpath.relpath(path, root)
        parts.append(Part(path, below, facts, batch, await _owner(store, path), known[batch]))
    return parts


async def _owner(store: Store, path: bytes) -> str:
    try:
        return await store.owner(path)
    except FileTrouble:
        return ""  # finished or removed meanwhile


def _prospect(batches: Batches, name: str) -> PartOwner:
    """Whether a batch of this machine will still finish its files."""
    if not batches.holds(name):
        return PartOwner.UNKNOWN
    try:
        batch = batches.find(name)
        with contextlib.closing(batch.journal()) as journal:
            ended = journal.standing().state in ENDED
    except JournalError:
        return PartOwner.UNKNOWN
    return PartOwner.DEAD if ended and not batch.is_carried() else PartOwner.NEEDED
