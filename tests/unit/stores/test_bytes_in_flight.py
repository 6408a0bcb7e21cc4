"""No more is on its way than may be."""

from __future__ import annotations

import asyncio
import random

from hypothesis import given
from hypothesis import strategies as st

from yatagan.stores.in_flight import InFlight


@given(st.lists(st.integers(1, 30), min_size=1, max_size=30), st.integers(0, 2**32))
def test_no_more_is_on_the_way_than_may_be_and_nobody_starves(sizes: list[int], seed: int) -> None:
    rng = random.Random(seed)
    room, held, most = InFlight(40), 0, 0

    async def work(size: int) -> None:
        nonlocal held, most
        await room.take(size)
        held += size
        most = max(most, held)
        for _ in range(rng.randint(0, 3)):
            await asyncio.sleep(0)
        held -= size
        room.give(size)

    async def everybody() -> None:
        await asyncio.gather(*(work(size) for size in sizes))

    asyncio.run(everybody())
    assert held == 0 and most <= 40
