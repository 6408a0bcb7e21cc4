"""Who hashes how much, and which digests are remembered."""

from __future__ import annotations

import asyncio
import os
from collections.abc import Sequence
from pathlib import Path

import pytest

from yatagan.stores.interface import Digested, Facts, Kind
from yatagan.stores.local import LocalStore
from yatagan.stores.local_machine import LocalMachine
from yatagan.trees import hashing
from yatagan.trees.remembered_digests import RememberedDigests
from yatagan.trees.scan import scan


@pytest.mark.parametrize("by_the_machine", [True, False])
def test_few_files_are_not_left_to_one(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, by_the_machine: bool) -> None:
    """Reading goes on for several at a time, however few there are."""
    at_once = most = 0

    async def busy() -> None:
        nonlocal at_once, most
        at_once, most = at_once + 1, max(most, at_once + 1)
        await asyncio.sleep(0.01)
        at_once -= 1

    async def read(store: LocalStore, path: bytes, algorithm: str) -> str:
        await busy()
        return "ab" * 32

    class Machine(LocalMachine):
        async def digests(
            self, files: Sequence[tuple[bytes, Facts | None]], algorithm: str, processes: int = 0
        ) -> list[Digested]:
            await busy()
            return await super().digests(files, algorithm, processes)

    monkeypatch.setattr(hashing, "digest_by_reading", read)
    for number in range(12):
        (tmp_path / str(number)).write_bytes(b"fen")

    async def work() -> None:
        store = LocalStore(b"/")
        store.machine = Machine(None, lambda: None) if by_the_machine else None  # type: ignore[assignment]
        tree = await scan(store, os.fsencode(tmp_path))
        found = await hashing.digests(store, tree, tree.files(), "sha256", lambda content: None)
        assert len(found) == 12 and all(content.digest for content in found.values())

    asyncio.run(work())
    assert most == 6


def test_what_is_remembered_is_told_apart_by_every_fact(tmp_path: Path) -> None:
    file = tmp_path / "deep" / "digests.db"
    facts = Facts(Kind.FILE, 7, -5, 0o640, 1_700_000_000_123_456_789, (1 << 64) - 1)
    memory = RememberedDigests(file)
    memory.keep("heron", "sha256", [(b"/fen/\xff", facts, "ab" * 32)])
    memory.close()
    memory = RememberedDigests(file)
    assert memory.recall("heron", "sha256", [b"/fen/\xff", b"/fen"]) == {b"/fen/\xff": (facts, "ab" * 32)}
    for store, algorithm in (("", "sha256"), ("dunlin", "sha256"), ("heron", "md5")):
        assert memory.recall(store, algorithm, [b"/fen/\xff"]) == {}
    memory.close()
