"""The carrier moves the bytes of one file: read, hash, write, sync. One carrier for every pair of stores.

Blocks are read ahead, hashed in the order of the file, and written, all three at once. A store says how much may be on
its way at once (`flow`); what is held here over all files is bounded in bytes. The carrier ends, whether well or not,
only when every write that it began has been answered or the line is gone.
"""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Coroutine
from dataclasses import replace
from typing import Any, TypeVar

from yatagan.errors import Fault, StoreError
from yatagan.stores.in_flight import InFlight
from yatagan.stores.interface import STRIPE
from yatagan.transfer.extents import Extents
from yatagan.transfer.pipeline import Pipeline
from yatagan.transfer.rate_limit import RateLimit
from yatagan.transfer.stopping import Stopped
from yatagan.transfer.transfer import Transfer, Tuning

T = TypeVar("T")

#: A line that has lasted for so many seconds is a good one.
_LASTING = 60.0
#: Bytes after which a part file is synced on the worst of lines.
_SYNC_LEAST = 1 << 20


class Carrier:
    """Carries files, one call a file; what is held of all of them is bounded."""

    def __init__(
        self, tuning: Tuning, clock: Callable[[], float], sleep: Callable[[float], Awaitable[None]] = asyncio.sleep
    ) -> None:
        self._given = self._tuning = tuning
        self._clock = clock
        self._held = InFlight(tuning.held)
        self.pace = RateLimit(clock, sleep)

    @property
    def tuning(self) -> Tuning:
        """As it is on this line."""
        return self._tuning

    def line_lost(self, lasted: float) -> None:
        """A line was lost that had lasted so many seconds: sync more often after a short one.

        What is not synced is sent again, and a line that never lasts would never bring a large file home.
        """
        tuning = self._tuning
        self._tuning = (
            self._given
            if lasted > _LASTING
            else replace(
                tuning,
                sync_bytes=max(tuning.sync_bytes // 4, min(_SYNC_LEAST, tuning.sync_bytes)),
                sync_seconds=max(tuning.sync_seconds / 2, min(0.1, tuning.sync_seconds)),
            )
        )

    async def carry(self, way: Transfer) -> bool:
        """Carry one file; whether its last byte is known to be on the far disk.

        Raises StoreError (SOURCE_CHANGED when the source is shorter than it was), or Stopped after syncing
        what could be synced.
        """
        if (piece := self.pace.piece) is not None:
            way.read_size, way.write_size = min(way.read_size, piece), min(way.write_size, piece)
        if 0 < way.size <= min(way.read_size, way.write_size, STRIPE) and not way.durable.total:
            return await self._carry_at_once(way)
        return await Pipeline(self._tuning, self._held, self.pace, self._clock, way).run()

    async def _carry_at_once(self, way: Transfer) -> bool:
        """A file of one piece: nothing of it goes on at the same time as another."""
        await self._held.take(way.size)
        try:
            await self.pace.take(way.size)
            data = await _flowing(way.source.flow, way.size, way.source.read(0, way.size))
            if len(data) != way.size:
                raise StoreError(Fault.SOURCE_CHANGED)
            if way.size >= self._tuning.hash_apart:
                await self._tuning.apart(way.hash.update, data)
            else:
                way.hash.update(data)
            if way.stop.is_set():
                raise Stopped
            await _flowing(way.part.flow, way.size, way.part.write(0, data))
            way.moved(way.size)
            if not (way.sync_last and await way.part.sync()):
                return False
            way.synced(Extents([(0, way.size)]), "")
            return True
        finally:
            self._held.give(way.size)


async def _flowing(flow: InFlight, count: int, request: Coroutine[Any, Any, T]) -> T:
    """One request, which takes its bytes of a flow until it is answered."""
    try:
        await flow.take(count)
    except BaseException:
        request.close()
        raise
    try:
        return await request
    finally:
        flow.answered(count)
