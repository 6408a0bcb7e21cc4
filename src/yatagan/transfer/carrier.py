"""The carrier transfers files: a pipeline for each, and bounds over all of them. One carrier serves any two stores.

Each store bounds what is in flight to it (`flow`); the carrier bounds the memory and the rate of all files together.
"""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Coroutine
from dataclasses import replace
from typing import Any, TypeVar

from yatagan.errors import StoreError
from yatagan.faults import Fault
from yatagan.stores.in_flight import InFlight
from yatagan.stores.interface import STRIPE
from yatagan.transfer.extents import Extents
from yatagan.transfer.pipeline import Pipeline
from yatagan.transfer.rate_limit import RateLimit
from yatagan.transfer.stopping import Stopped
from yatagan.transfer.transfer import Transfer, Tuning

T = TypeVar("T")

#: Seconds after which a connection counts as lasting.
_LASTING = 60.0
#: The least bytes between two syncs, on connections that never last.
_SYNC_LEAST = 1 << 20


class Carrier:
    """Transfers files, one call each. `clock` in seconds, monotonic."""

    def __init__(
        self, tuning: Tuning, clock: Callable[[], float], sleep: Callable[[float], Awaitable[None]] = asyncio.sleep
    ) -> None:
        self._given = self._tuning = tuning
        self._clock = clock
        self._memory = InFlight(tuning.memory)
        self.rate_limit = RateLimit(clock, sleep)

    @property
    def tuning(self) -> Tuning:
        """The tuning of the present connection."""
        return self._tuning

    def connection_lost(self, lasted: float) -> None:
        """Sync more often after a connection that lasted only a short time (in seconds).

        What is not synced is sent again, so on connections that never last a large file would never be complete.
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

    async def carry(self, transfer: Transfer) -> bool:
        """Transfer one file. Returns whether all of it is known to be on the destination's disk.

        Raises StoreError (SOURCE_CHANGED when the source is shorter than it was), or Stopped after syncing
        what could be synced.
        """
        ends = transfer.ends
        if (piece := self.rate_limit.piece) is not None:
            ends.read_size, ends.write_size = min(ends.read_size, piece), min(ends.write_size, piece)
        if 0 < transfer.size <= min(ends.read_size, ends.write_size, STRIPE) and not transfer.durable.total:
            return await self._carry_small(transfer)
        return await Pipeline(self._tuning, self._memory, self.rate_limit, self._clock, transfer).run()

    async def _carry_small(self, transfer: Transfer) -> bool:
        """A file of one request each way needs no pipeline."""
        source, part = transfer.ends.source, transfer.ends.part
        await self._memory.take(transfer.size)
        try:
            await self.rate_limit.take(transfer.size)
            data = await _request(source.flow, transfer.size, source.read(0, transfer.size))
            if len(data) != transfer.size:
                raise StoreError(Fault.SOURCE_CHANGED)
            if transfer.size >= self._tuning.hash_in_thread:
                await self._tuning.in_thread(transfer.hash.update, data)
            else:
                transfer.hash.update(data)
            if transfer.stop.is_set():
                raise Stopped
            await _request(part.flow, transfer.size, part.write(0, data))
            transfer.reports.moved(transfer.size)
            if not (transfer.sync_last and await part.sync()):
                return False
            transfer.reports.synced(Extents([(0, transfer.size)]), "")
            return True
        finally:
            self._memory.give(transfer.size)


async def _request(flow: InFlight, count: int, request: Coroutine[Any, Any, T]) -> T:
    """Send one request once the flow has room for its bytes; they are released when it is answered."""
    try:
        await flow.take(count)
    except BaseException:
        request.close()
        raise
    try:
        return await request
    finally:
        flow.answered(count)
