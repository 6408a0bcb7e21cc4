"""Both ends of a stage: how each is opened, and its store, which planning and carrying share."""

from __future__ import annotations

import contextlib
from collections.abc import AsyncIterator
from contextlib import AsyncExitStack, asynccontextmanager
from dataclasses import dataclass

from yatagan.batches.batch_store import Batch
from yatagan.desk.desk import Desk
from yatagan.desk.open_session import OpenSession
from yatagan.operations.stage_request import StageRequest
from yatagan.places import Place
from yatagan.stores.interface import Source, Store


@dataclass(frozen=True, slots=True)
class StageEnds:
    """Both ends of a stage, open."""

    source: Store
    destination: Store
    _how: tuple[Source, Source]
    _opened: AsyncExitStack

    @property
    def stores(self) -> tuple[Store, Store]:
        """Source and destination."""
        return self.source, self.destination

    async def hand_over(self, desk: Desk, batch: Batch) -> tuple[Source, Source]:
        """The ends for the run of a batch, which closes them; a new store where that is pinned to another address."""
        self._opened.pop_all()
        with contextlib.closing(batch.journal()) as journal:
            header, pins = journal.header(), journal.standing().pins
        found: list[Source] = []
        for node, store, how in zip((header.source_node, header.destination_node), self.stores, self._how, strict=True):
            if pins.get(node) in (None, how.pins().get(node)):
                found.append(OpenSession(store, how))
            else:
                await store.close()
                found.append(desk.source(Place(node, b""), pinned=pins[node]))
        return found[0], found[1]


@asynccontextmanager
async def open_ends(desk: Desk, request: StageRequest) -> AsyncIterator[StageEnds]:
    """Open both ends of a stage, for as long as they are not handed over. Raises CannotReach, StoreError."""
    how = desk.source(Place(request.source_node, b"")), desk.source(request.destination, writing=True)
    async with AsyncExitStack() as opened:
        stores = []
        for end in how:
            stores.append(await desk.open(end))
            opened.push_async_callback(stores[-1].close)
        yield StageEnds(stores[0], stores[1], how, opened)
