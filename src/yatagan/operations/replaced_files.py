"""Files that were replaced and are kept: found, brought back, removed for good."""

from __future__ import annotations

import time
from collections.abc import AsyncIterator, Sequence
from contextlib import asynccontextmanager
from dataclasses import dataclass

from yatagan.batches.batch_store import new_name
from yatagan.desk.desk import Desk
from yatagan.errors import FileTrouble, StoreError
from yatagan.faults import Fault
from yatagan.ledger.ledger import OnRecord
from yatagan.ledger.records import RecordedPlace, RecordKind
from yatagan.operations.put_on_record import Done, put_on_record
from yatagan.operations.watching import Unwatched, Watcher
from yatagan.places import Place, holds
from yatagan.planning.destination_areas import refuse_read_only
from yatagan.stores.interface import Store
from yatagan.trees import kept as kept_files
from yatagan.trees.kept import KeptFile, newest_of_each
from yatagan.trees.patterns import EVERYTHING, Choice


@dataclass(frozen=True, slots=True)
class KeptRequest:
    """Which kept files are meant: of a file that was replaced, or of all below a directory.

    `batch`: only what it has replaced. `older_than`: only what was replaced so many seconds ago or before.
    """

    place: Place
    batch: str = ""
    older_than: float = 0.0
    choice: Choice = EVERYTHING

    def takes(self, root: bytes, kept: KeptFile) -> bool:
        """Whether a kept file is meant, of a place with this absolute path."""
        below = kept.original[len(root) :].lstrip(b"/") if holds(root, kept.original) else kept.path
        aged = time.time() - kept.replaced_ns / 1e9 >= self.older_than
        return self.batch in kept.batch and aged and (not self.choice or self.choice.chooses(below))


#: A kept file with which something could not be done, and why.
KeptFailure = tuple[KeptFile, Fault, str]


@dataclass(frozen=True, slots=True)
class BroughtBack:
    """Kept files that have their names again, each with where what had that name is kept in turn, by `batch`."""

    done: Sequence[tuple[KeptFile, bytes]]
    failures: Sequence[KeptFailure]
    batch: str
    record: OnRecord | None


@dataclass(frozen=True, slots=True)
class KeptRemoved:
    """Kept files that are gone for good."""

    gone: Sequence[KeptFile]
    failures: Sequence[KeptFailure]
    record: OnRecord | None


async def list_kept(desk: Desk, request: KeptRequest, watcher: Watcher | None = None) -> list[KeptFile]:
    """Find kept files. Raises CannotReach, StoreError."""
    store = await desk.open(desk.source(request.place, commands=False))
    try:
        return await _find(store, request, watcher or Unwatched())
    finally:
        await store.close()


class FoundKept:
    """Kept files that were found, `files`, and what can be done with them as long as their store is open."""

    def __init__(self, desk: Desk, store: Store, node: str, files: list[KeptFile]) -> None:
        self._desk = desk
        self._store = store
        self._node = node
        self.files = files

    async def bring_back(self) -> BroughtBack:
        """Give them their names again, on the spot; what has a name by now is kept in turn. Raises StoreError."""
        batch = new_name()
        done: list[tuple[KeptFile, bytes]] = []
        failures: list[KeptFailure] = []
        for kept in self.files:
            try:
                done.append((kept, await kept_files.restore(self._store, kept, batch)))
            except FileTrouble as error:
                failures.append((kept, error.fault, error.detail))
        await kept_files.remove_empty(self._store, {kept.top for kept, _ in done})
        record = self._put_on_record(RecordKind.REPLACED, [kept for kept, _ in done], len(failures))
        return BroughtBack(done, failures, batch, record)

    async def remove(self) -> KeptRemoved:
        """Remove them for good. Raises StoreError."""
        failures: list[KeptFailure] = []
        gone = await kept_files.remove_kept(self._store, self.files, lambda *failure: failures.append(failure))
        await kept_files.remove_empty(self._store, {each.top for each in gone})
        return KeptRemoved(gone, failures, self._put_on_record(RecordKind.REMOVED, gone, len(failures)))

    def _put_on_record(self, kind: RecordKind, files: Sequence[KeptFile], failed: int) -> OnRecord | None:
        """Put on record which were brought back or removed; nothing where there was none."""
        if not files:
            return None
        done = Done(
            kind,
            "with failures" if failed else "good",
            origins=tuple(RecordedPlace(self._node, kept.original) for kept in files),
            counts={"files": len(files), "failed": failed},
            size=sum(each.facts.size for each in files),
        )
        return put_on_record(self._desk, done)


@asynccontextmanager
async def found_kept(
    desk: Desk, request: KeptRequest, watcher: Watcher | None = None, *, newest: bool = False
) -> AsyncIterator[FoundKept]:
    """Find kept files, to do something with them. `newest`: of each file the version that was replaced last.

    Raises StoreError, NOT_KEPT where the newest of none are asked for; ReadOnlyArea; CannotReach.
    """
    where = request.place
    store = await desk.open(desk.source(where, commands=False, writing=True))
    try:
        files = await _find(store, request, watcher or Unwatched())
        if newest:
            files = newest_of_each(files)
            if not files:
                raise StoreError(Fault.NOT_KEPT, where.path or b".", store=where.node)
        if where.node:
            for top in {each.top for each in files}:
                await refuse_read_only(store, desk.nodes().get(where.node), top)
        yield FoundKept(desk, store, where.node, files)
    finally:
        await store.close()


async def _find(store: Store, request: KeptRequest, watcher: Watcher) -> list[KeptFile]:
    root = await store.resolve(request.place.path)
    with watcher.reading([request.place]) as heard:
        return [each async for each in kept_files.find_kept(store, root, heard) if request.takes(root, each)]
