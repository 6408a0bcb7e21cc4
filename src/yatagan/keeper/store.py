"""A node as a store, through its keeper: every method is a question to the keeper's own store."""

from __future__ import annotations

import contextlib
from collections.abc import AsyncGenerator, Awaitable, Callable, Sequence
from typing import Any

from yatagan.config.nodes import Node
from yatagan.errors import StoreError
from yatagan.faults import Fault
from yatagan.keeper.client import SOON, Keeper, StoreTerms, answered
from yatagan.keeper.protocol import Gone, Peer
from yatagan.portable.block_sums import Match
from yatagan.portable.small_files import BundledFile
from yatagan.stores.in_flight import LANE_BYTES, InFlight
from yatagan.stores.interface import (
    Digested,
    Extracted,
    Facts,
    NodeBlocks,
    NodeDigest,
    Piece,
    Placement,
    Reader,
    SmallFile,
    Values,
    Writer,
)
from yatagan.version import __version__


class KeeperFile:
    """An open file on a node, by the number that the keeper has given it."""

    def __init__(self, store: KeeperStore, number: int) -> None:
        self._store = store
        self._number = number
        self.flow = store.flow
        self.read_here = self.write_here = None

    async def facts(self) -> Facts:
        found: Facts = await self._store.ask("file.facts", self._number)
        return found

    async def read(self, offset: int, size: int) -> bytes:
        data: bytes = await self._store.ask("file.read", self._number, offset, size)
        return data

    async def write(self, offset: int, data: Piece) -> None:
        await self._store.ask("file.write", self._number, offset, bytes(data))

    def copy_here(self, source: Reader, offset: int, size: int) -> bool:
        return False

    async def keep_others_out(self) -> None:
        pass

    async def is_untouched(self, size: int) -> bool:
        return False

    async def sync(self) -> bool:
        return bool(await self._store.ask("file.sync", self._number))

    async def place(self, wanted: Placement) -> Fault | None:
        """The keeper still holds the number, which `close` gives back."""
        unset: Fault | None = await self._store.ask("place", self._number, wanted)
        return unset

    async def close(self) -> None:
        if self._number:
            number, self._number = self._number, 0
            await self._store.ask("file.close", number)


class KeeperStore:
    """A node as a store, through its keeper. Every method is a question to the keeper's own store."""

    def __init__(self, node: Node, peer: Peer, lease: StoreTerms) -> None:
        self._peer = peer
        self._witness = lease.witness
        self.lone_round_trip = lease.lone_round_trip
        self.quiet_seconds = 0.0  # the keeper watches
        self.name = node.name
        self.traits = lease.traits
        self.machine = KeeperMachine(self.ask, node.name) if lease.machine else None
        self.max_rate = node.rate_cap
        self.flow = InFlight(LANE_BYTES)

    async def ask(self, what: str, *values: object) -> Any:
        """Ask the keeper. Raises StoreError."""
        try:
            return await self._peer.ask(what, *values)
        except Gone:
            raise StoreError(Fault.CONNECTION_LOST, store=self.name, detail="its keeper has ended") from None

    async def resolve(self, path: bytes, *, follow: bool = False) -> bytes:
        found: bytes = await self.ask("resolve", path, follow)
        return found

    async def look(self, path: bytes) -> Facts | None:
        found: Facts | None = await self.ask("look", path)
        return found

    async def look_closely(self, path: bytes) -> Facts | None:
        found: Facts | None = await self.ask("look_closely", path)
        return found

    async def entries(self, path: bytes) -> AsyncGenerator[list[tuple[bytes, Facts]], None]:
        number, ended = await self.ask("entries", path), False
        try:
            while handful := await self.ask("more", number):
                yield list(handful)
            ended = True
        except StoreError:
            ended = True
            raise
        finally:
            if not ended:  # the caller has seen enough
                with contextlib.suppress(StoreError):
                    await self.ask("no more", number)

    async def read_link(self, path: bytes) -> bytes:
        found: bytes = await self.ask("read_link", path)
        return found

    async def owner(self, path: bytes) -> str:
        return str(await self.ask("owner", path))

    async def group(self, path: bytes) -> int | None:
        found: int | None = await self.ask("group", path)
        return found

    async def free_space(self, path: bytes) -> int | None:
        found: int | None = await self.ask("free_space", path)
        return found

    async def clock_ns(self) -> int | None:
        found: int | None = await self.ask("clock_ns")
        return found

    async def open(self, path: bytes) -> Reader:
        return KeeperFile(self, await self.ask("open", path))

    async def create_part(self, path: bytes, mode: int = 0o600) -> Writer:
        return KeeperFile(self, await self.ask("create_part", path, mode))

    async def reopen_part(self, path: bytes) -> Writer:
        return KeeperFile(self, await self.ask("reopen_part", path))

    async def copy_part(self, old: bytes, new: bytes, size: int, mode: int = 0o600) -> None:
        await self.ask("copy_part", old, new, size, mode)

    async def make_directory(self, path: bytes, mode: int) -> None:
        await self.ask("make_directory", path, mode)

    async def sync_directory(self, path: bytes) -> bool:
        return bool(await self.ask("sync_directory", path))

    async def make_link(self, path: bytes, target: bytes) -> None:
        await self.ask("make_link", path, target)

    async def set_facts(self, path: bytes, *, mode: int | None, mtime_ns: int | None) -> None:
        await self.ask("set_facts", path, mode, mtime_ns)

    async def is_real(self, directory: bytes, top: bytes) -> bool:
        return bool(await self.ask("is_real", directory, top))

    async def place(self, part: Writer, wanted: Placement) -> Fault | None:
        assert isinstance(part, KeeperFile)
        unset: Fault | None = await part.place(wanted)
        return unset

    async def keep(self, path: bytes, kept: bytes) -> None:
        await self.ask("keep", path, kept)

    async def rename(self, path: bytes, new: bytes) -> None:
        await self.ask("rename", path, new)

    async def remove(self, path: bytes) -> None:
        await self.ask("remove", path)

    async def remove_directory(self, path: bytes) -> None:
        await self.ask("remove_directory", path)

    def expect(self, size: int, *, limited: bool) -> None:
        pass

    async def recorded(self, path: bytes) -> str:
        return ""

    def witness(self) -> str:
        return self._witness

    def note_writers(self, noted: Callable[[str], Awaitable[None]]) -> None:
        pass

    async def writers_gone(self, witness: str) -> bool:
        return bool(await self.ask("writers_gone", witness))

    async def close(self) -> None:
        """The login stays open."""
        await self._peer.close()


class KeeperMachine:
    """A node as a machine, through its keeper. Batches run inside the keeper: what only they need is not relayed."""

    def __init__(self, ask: Callable[..., Awaitable[Any]], name: str) -> None:
        self._ask = ask
        self._name = name

    async def digest(self, path: bytes, algorithm: str, seen: Facts | None = None) -> NodeDigest:
        found: NodeDigest = await self._ask("machine.digest", path, algorithm, seen)
        return found

    async def digests(
        self, files: Sequence[tuple[bytes, Facts | None]], algorithm: str, processes: int = 0
    ) -> list[Digested]:
        return list(await self._ask("machine.digests", tuple(files), algorithm, processes))

    async def read_small(self, paths: Sequence[bytes], most: int) -> list[SmallFile]:
        return list(await self._ask("machine.read_small", tuple(paths), most))

    async def run(self, modules: tuple[str, ...], what: str, path: bytes, values: Values) -> Values:
        found: Values = await self._ask("machine.run", modules, what, path, values)
        return found

    async def same_disk(self, token: bytes) -> bool:
        return bool(await self._ask("machine.same_disk", token))

    async def digest_start(self, path: bytes, size: int, algorithm: str) -> NodeDigest:
        """See the class."""
        raise StoreError(Fault.UNSUPPORTED, path, store=self._name)

    async def block_sums(self, path: bytes, block: int) -> NodeBlocks:
        """See the class."""
        raise StoreError(Fault.UNSUPPORTED, path, store=self._name)

    async def extract(self, bundle: bytes, files: Sequence[BundledFile]) -> list[Extracted]:
        """See the class."""
        raise StoreError(Fault.UNSUPPORTED, bundle, store=self._name)

    async def finish(self, files: Sequence[BundledFile]) -> list[Extracted]:
        """See the class."""
        raise StoreError(Fault.UNSUPPORTED, store=self._name)

    async def copy_matches(self, old: bytes, part: bytes, matches: Sequence[Match]) -> list[bool]:
        """See the class."""
        raise StoreError(Fault.UNSUPPORTED, part, store=self._name)


class KeeperSource:
    """Opens a node through its keeper, as often as needed."""

    def __init__(self, keeper: Keeper, node: Node, *, pinned: tuple[str, int] | None = None) -> None:
        self._keeper = keeper
        self._node = node
        self._pinned = pinned

    async def open(self) -> KeeperStore:
        peer = await self._keeper.connect()
        try:
            async with answered(self._node.name, peer, SOON):
                lease: StoreTerms = await peer.ask("lease", __version__, self._node, self._pinned)
        except BaseException:
            await peer.close()
            raise
        self._pinned = lease.address
        return KeeperStore(self._node, peer, lease)

    def pins(self) -> dict[str, tuple[str, int]]:
        return {} if self._pinned is None else {self._node.name: self._pinned}
