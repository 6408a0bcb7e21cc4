"""What this machine does for its own store: hashing, and many small files at once, by code that nodes run, too."""

from __future__ import annotations

import asyncio
import hashlib
from collections.abc import Callable, Sequence

from yatagan.errors import StoreError
from yatagan.faults import Fault
from yatagan.portable import small_files
from yatagan.portable.block_sums import Match
from yatagan.portable.small_files import BundledFile
from yatagan.stores.interface import Digested, Extracted, Facts, NodeBlocks, NodeDigest, SmallFile, Values
from yatagan.stores.local_calls import in_thread, with_umask
from yatagan.stores.system_errors import digested, extracted, facts_to_list, small_file


def _quiet() -> None:
    """Nobody here needs a sign of life."""


class LocalMachine:
    """See `Machine`. `umask` as for LocalStore; `alive` raises StoreError once the store is closed."""

    def __init__(self, umask: int | None, alive: Callable[[], None]) -> None:
        self._umask = umask
        self._alive = alive

    async def digest(self, path: bytes, algorithm: str, seen: Facts | None = None) -> NodeDigest:
        (made,) = await self.digests([(path, None)], algorithm)
        if made.facts is None:
            raise StoreError(made.fault or Fault.REFUSED, path)
        return NodeDigest(made.digest, made.facts)

    async def digest_start(self, path: bytes, size: int, algorithm: str) -> NodeDigest:
        made = digested(*await asyncio.to_thread(small_files.digest_start, path, size, algorithm, self._alive))
        if made.facts is None:
            raise StoreError(made.fault or Fault.REFUSED, path)
        return NodeDigest(made.digest, made.facts)

    async def digests(
        self, files: Sequence[tuple[bytes, Facts | None]], algorithm: str, processes: int = 0
    ) -> list[Digested]:
        """Here every request has a thread of its own."""
        if algorithm not in hashlib.algorithms_available:
            raise StoreError(Fault.UNSUPPORTED, files[0][0] if files else b"")
        known = [(path, facts_to_list(facts)) for path, facts in files]
        return [digested(*each) for each in await asyncio.to_thread(small_files.digests, known, algorithm, self._alive)]

    async def block_sums(self, path: bytes, block: int) -> NodeBlocks:
        """Here files are open to everybody."""
        raise StoreError(Fault.UNSUPPORTED, path)

    async def read_small(self, paths: Sequence[bytes], most: int) -> list[SmallFile]:
        return [
            small_file(*each) for each in await asyncio.to_thread(small_files.read_small, list(paths), most, _quiet)
        ]

    async def extract(self, bundle: bytes, files: Sequence[BundledFile]) -> list[Extracted]:

        def extract() -> list[tuple[int, int]]:
            with with_umask(self._umask):
                return small_files.extract(bundle, list(files), _quiet)

        return [extracted(*each) for each in await in_thread(bundle, extract)]

    async def finish(self, files: Sequence[BundledFile]) -> list[Extracted]:
        return [extracted(*each) for each in await in_thread(b"", small_files.finish, list(files), _quiet)]

    async def copy_matches(self, old: bytes, part: bytes, matches: Sequence[Match]) -> list[bool]:
        """Here files are open to everybody."""
        raise StoreError(Fault.UNSUPPORTED, part)

    async def run(self, modules: tuple[str, ...], what: str, path: bytes, values: Values) -> Values:
        """Here a handler is called directly."""
        raise StoreError(Fault.UNSUPPORTED, path)

    async def same_disk(self, token: bytes) -> bool:
        return True
