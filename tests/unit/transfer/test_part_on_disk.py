"""How often a part file is synced: by bytes or by time, never twice at once, and never for holes."""

from __future__ import annotations

import asyncio
from types import SimpleNamespace
from typing import Any, cast

from yatagan.transfer.extents import Extents
from yatagan.transfer.part_on_disk import PartOnDisk
from yatagan.transfer.transfer import Transfer, Tuning


class Part:
    """A part file that takes a while to sync."""

    def __init__(self) -> None:
        self.syncs = 0
        self.zeros: list[int] = []
        self.going_on = asyncio.Event()

    async def sync(self) -> bool:
        self.syncs += 1
        await self.going_on.wait()
        return True

    async def write(self, offset: int, data: bytes) -> None:
        self.zeros.append(offset)


def test_a_part_file_is_synced_every_so_many_bytes_or_seconds() -> None:
    async def work() -> None:
        part, durable, now = Part(), list[Extents](), 0.0
        moved, left_out = list[int](), list[int]()

        def synced(extents: Extents, digest: str) -> None:
            durable.append(extents)

        reports = SimpleNamespace(moved=moved.append, left_out=left_out.append, synced=synced)
        transfer = SimpleNamespace(durable=Extents(), ends=SimpleNamespace(part=part), reports=reports, sync_last=True)
        tuning = Tuning(sync_bytes=100, sync_seconds=10.0)
        file = PartOnDisk(cast(Transfer, transfer), tuning, lambda: now, lambda task: None)

        async def due() -> int:
            file.sync_if_due()
            await asyncio.sleep(0)
            return part.syncs

        file.add(0, 99)
        assert await due() == 0
        file.add(99, 1000, left_out=True)
        assert await due() == 0, "holes are no bytes"
        file.add(1000, 1001)
        assert await due() == 1, "so many bytes"
        file.add(1001, 2000)
        assert await due() == 1, "one is under way"
        part.going_on.set()
        await cast("asyncio.Task[Any]", file.syncing)
        assert [each.encode() for each in durable] == ["0-1001"], "what came after it began is not said to be on disk"
        assert await due() == 2
        await cast("asyncio.Task[Any]", file.syncing)
        now += 9
        file.add(2000, 2001)
        assert await due() == 2
        now += 2
        assert await due() == 3, "so many seconds"
        now += 100
        await cast("asyncio.Task[Any]", file.syncing)
        assert await due() == 3, "nothing new"
        file.add(2001, 3000, left_out=True)
        assert await file.finish() and part.syncs == 4
        assert part.zeros == [2999], "the last zero of a hole at the end makes the size"
        assert durable[-1].encode() == "0-3000" and sum(moved) + sum(left_out) == 3000 and sum(left_out) == 1900

    asyncio.run(work())
