"""A command's side of a keeper: a node as a store, and batches, through a login that is open already."""

from __future__ import annotations

import asyncio
import contextlib
import os
import socket
from collections.abc import AsyncGenerator, AsyncIterator, Awaitable, Callable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from yatagan import __version__
from yatagan.batches.events import Listener
from yatagan.batches.states import BatchState
from yatagan.config.nodes import Node
from yatagan.errors import BatchInUse, CannotReach, Fault, StoreError
from yatagan.keeper.endpoint import Endpoint
from yatagan.keeper.protocol import Codec, Gone, Peer
from yatagan.nodes.prompts import Prompter
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
    Traits,
    Writer,
)

if TYPE_CHECKING:
    from yatagan.batches.batch_store import Batch
    from yatagan.batches.journal import Journal
    from yatagan.stores.node_probe import Checkup


@dataclass(frozen=True, slots=True)
class KeeperStatus:
    """An open node. Times in seconds since the epoch; `batches` are being carried now."""

    node: str
    pid: int
    since: float
    until: float
    address: tuple[str, int] | None
    batches: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class StoreTerms:
    """What a store over a keeper's login is like."""

    traits: Traits
    address: tuple[str, int] | None
    witness: str
    lone_round_trip: float | None


def codec(*more: type[Any]) -> Codec:
    """What travels between a keeper and commands."""
    return Codec(KeeperStatus, StoreTerms, *more)


async def converse(
    connection: socket.socket, answers: Prompter, listener: Listener | None = None, *more: type[Any]
) -> Peer:
    """A connection to a keeper, whose questions, which are its server's, are put to `answers`.

    `more` are classes that will travel besides those that always may.
    """

    async def handle(what: str, values: tuple[Any, ...]) -> Any:
        return await answers.answer(*values)

    def hear(what: str, values: tuple[Any, ...]) -> None:
        match what:
            case "event" if listener is not None:
                listener(*values)
            case "said":
                answers.tell(*values)
            case "noted":
                answers.note(*values)
            case "waiting":
                node, seconds, reached = values
                answers.waiting(node, seconds, reached)
            case "waited":
                answers.waited()

    reader, writer = await asyncio.open_unix_connection(sock=connection)
    return Peer(codec(*more), reader, writer, handle, hear)


#: Seconds in which a keeper must have answered what takes it no time, and what may take it a round with its node.
_AT_ONCE, _SOON = 5.0, 45.0


@contextlib.asynccontextmanager
async def _answered(node: str, peer: Peer, seconds: float) -> AsyncIterator[None]:
    """Wait no longer than this. Raises CannotReach, also for a keeper that has gone."""
    try:
        async with asyncio.timeout(seconds):
            yield
    except Gone:
        raise _ended(node) from None
    except TimeoutError:
        process = f" {peer.process}" if peer.process is not None else ""
        raise CannotReach(
            node,
            "keeper",
            f"its process{process} does not answer",
            passing=False,
            remedy=f"end it with: kill -9{process}; a batch that it carries can be resumed",
        ) from None


def _ended(node: str) -> CannotReach:
    return CannotReach(node, "keeper", "it ended just now", remedy=f"yatagan node open {node}")


class Keeper:
    """A running keeper, as commands see it. Each of its methods is a conversation of its own."""

    def __init__(self, meeting: Endpoint, answers: Prompter) -> None:
        self._meeting = meeting
        self._answers = answers
        self.node = meeting.node

    async def connect(self, listener: Listener | None = None, *more: type[Any]) -> Peer:
        """A conversation. Raises CannotReach when the keeper has gone meanwhile."""
        connection = self._meeting.connect()
        if connection is None:
            raise _ended(self.node)
        return await converse(connection, self._answers, listener, *more)

    async def _ask(
        self, what: str, *values: object, more: tuple[type[Any], ...] = (), seconds: float = _AT_ONCE
    ) -> Any:
        peer = await self.connect(None, *more)
        try:
            async with _answered(self.node, peer, seconds):
                return await peer.ask(what, *values)
        finally:
            await peer.close()

    async def status(self) -> KeeperStatus:
        """Since when it is open, until when, and what it does."""
        found: KeeperStatus = await self._ask("status")
        return found

    async def extend(self, until: float) -> KeeperStatus:
        """Keep it open until then (seconds since the epoch)."""
        found: KeeperStatus = await self._ask("extend", until)
        return found

    async def close(self, *, batches: bool) -> None:
        """Log out; returns when that is done. Raises BatchInUse while it carries some, unless told to stop them too."""
        peer = await self.connect()
        try:
            async with _answered(self.node, peer, _SOON):
                with contextlib.suppress(Gone):
                    await peer.ask("close", batches)
                await peer.gone.wait()
        finally:
            await peer.close()

    async def check_up(self, node: Node) -> Checkup:
        """What the node can do, looked at by the keeper."""
        from yatagan.stores.node_probe import AreaRoom, Checkup

        found: Checkup = await self._ask("check", __version__, node, more=(Checkup, AreaRoom), seconds=_SOON)
        return found


class KeeperRun:
    """A batch that a keeper carries, because it has the login; what `batches.run.Run` is in a process of its own."""

    def __init__(self, keeper: Keeper, node: Node, batch: Batch, journal: Journal, listener: Listener) -> None:
        self._keeper = keeper
        self._journal = journal
        self._node = node
        self._batch = batch
        self._listener = listener
        self._peer: Peer | None = None
        self._stopped = False

    def stop(self) -> None:
        """See `Run.stop`."""
        self._stopped = True
        if self._peer is not None:  # else it is told as soon as there is somebody to tell
            self._peer.tell("stop")

    async def run(self) -> CannotReach | None:
        """See `Run.run`. We hold the batch's lock, which passes to the keeper."""
        umask = os.umask(0)
        os.umask(umask)
        self._peer = await self._keeper.connect(self._listener)
        if self._stopped:
            self._peer.tell("stop")
        try:
            self._batch.unlock()
            problem: CannotReach | None = await self._peer.ask(
                "carry", __version__, self._node, self._batch.name, umask
            )
            return problem
        except Gone:
            await self._take_back()
            self._journal.settle(BatchState.INTERRUPTED, Fault.LINE_LOST, "its keeper has ended")
            return _ended(self._node.name)
        finally:
            await self._peer.close()

    async def _take_back(self) -> None:
        """Hold the batch's lock again: a process that is killed lets go of it a moment later than of its sockets."""
        for wait in (0.1, 0.3, 1.0, 3.0):
            try:
                return self._batch.lock()
            except BatchInUse:
                await asyncio.sleep(wait)
        return self._batch.lock()


class KeeperFile:
    """An open file on a node, by the number that the keeper has given it."""

    def __init__(self, store: KeeperStore, number: int) -> None:
        self._store = store
        self._number = number
        self.flow = store.flow
        self.read_here = self.write_here = None

    async def facts(self) -> Facts:
        """See `Reader.facts`."""
        found: Facts = await self._store.ask("file.facts", self._number)
        return found

    async def read(self, offset: int, size: int) -> bytes:
        """See `Reader.read`."""
        data: bytes = await self._store.ask("file.read", self._number, offset, size)
        return data

    async def write(self, offset: int, data: Piece) -> None:
        """See `Writer.write`."""
        await self._store.ask("file.write", self._number, offset, bytes(data))

    def copy_here(self, source: Reader, offset: int, size: int) -> bool:
        """See `Writer.copy_here`."""
        return False

    async def is_untouched(self, size: int) -> bool:
        """See `Writer.is_untouched`."""
        return False

    async def sync(self) -> bool:
        """See `Writer.sync`."""
        return bool(await self._store.ask("file.sync", self._number))

    async def place(self, wanted: Placement) -> Fault | None:
        """See `Store.place`. The keeper still holds the number, which `close` gives back."""
        unset: Fault | None = await self._store.ask("place", self._number, wanted)
        return unset

    async def close(self) -> None:
        """See `Reader.close` and `Writer.close`."""
        if self._number:
            number, self._number = self._number, 0
            await self._store.ask("file.close", number)


class KeeperStore:
    """A node as a store, through its keeper. Every method is a question to the keeper's own store."""

    def __init__(self, node: Node, peer: Peer, lease: StoreTerms) -> None:
        self._peer = peer
        self._witness = lease.witness
        self.lone_round_trip = lease.lone_round_trip
        self.name = node.name
        self.traits = lease.traits
        self.max_rate = node.rate_cap
        self.flow = InFlight(LANE_BYTES)

    async def ask(self, what: str, *values: object) -> Any:
        """One question. Raises StoreError."""
        try:
            return await self._peer.ask(what, *values)
        except Gone:
            raise StoreError(Fault.LINE_LOST, store=self.name, detail="its keeper has ended") from None

    async def resolve(self, path: bytes, *, follow: bool = False) -> bytes:
        """See `Store.resolve`."""
        found: bytes = await self.ask("resolve", path, follow)
        return found

    async def look(self, path: bytes) -> Facts | None:
        """See `Store.look`."""
        found: Facts | None = await self.ask("look", path)
        return found

    async def look_closely(self, path: bytes) -> Facts | None:
        """See `Store.look_closely`."""
        found: Facts | None = await self.ask("look_closely", path)
        return found

    async def entries(self, path: bytes) -> AsyncGenerator[list[tuple[bytes, Facts]], None]:
        """See `Store.entries`."""
        number, ended = await self.ask("entries", path), False
        try:
            while handful := await self.ask("more", number):
                yield list(handful)
            ended = True
        except StoreError:
            ended = True
            raise
        finally:
            if not ended:  # whoever looked has seen enough
                with contextlib.suppress(StoreError):
                    await self.ask("no more", number)

    async def read_link(self, path: bytes) -> bytes:
        """See `Store.read_link`."""
        found: bytes = await self.ask("read_link", path)
        return found

    async def owner(self, path: bytes) -> str:
        """See `Store.owner`."""
        return str(await self.ask("owner", path))

    async def room(self, path: bytes) -> int | None:
        """See `Store.room`."""
        found: int | None = await self.ask("room", path)
        return found

    async def clock_ns(self) -> int | None:
        """See `Store.clock_ns`."""
        found: int | None = await self.ask("clock_ns")
        return found

    async def open(self, path: bytes) -> Reader:
        """See `Store.open`."""
        return KeeperFile(self, await self.ask("open", path))

    async def create_part(self, path: bytes, mode: int = 0o600) -> Writer:
        """See `Store.create_part`."""
        return KeeperFile(self, await self.ask("create_part", path, mode))

    async def reopen_part(self, path: bytes) -> Writer:
        """See `Store.reopen_part`."""
        return KeeperFile(self, await self.ask("reopen_part", path))

    async def copy_part(self, old: bytes, new: bytes, size: int, mode: int = 0o600) -> None:
        """See `Store.copy_part`."""
        await self.ask("copy_part", old, new, size, mode)

    async def reuse(self, old: bytes, part: bytes, runs: Sequence[Match]) -> list[bool]:
        """See `Store.reuse`, and `unload` here."""
        raise StoreError(Fault.UNSUPPORTED, part, store=self.name)

    async def make_directory(self, path: bytes, mode: int) -> None:
        """See `Store.make_directory`."""
        await self.ask("make_directory", path, mode)

    async def make_link(self, path: bytes, target: bytes) -> None:
        """See `Store.make_link`."""
        await self.ask("make_link", path, target)

    async def set_facts(self, path: bytes, *, mode: int | None, mtime_ns: int | None) -> None:
        """See `Store.set_facts`."""
        await self.ask("set_facts", path, mode, mtime_ns)

    async def is_real(self, directory: bytes, top: bytes) -> bool:
        """See `Store.is_real`."""
        return bool(await self.ask("is_real", directory, top))

    async def place(self, part: Writer, wanted: Placement) -> Fault | None:
        """See `Store.place`."""
        assert isinstance(part, KeeperFile)
        unset: Fault | None = await part.place(wanted)
        return unset

    async def keep(self, path: bytes, kept: bytes) -> None:
        """See `Store.keep`."""
        await self.ask("keep", path, kept)

    async def rename(self, path: bytes, new: bytes) -> None:
        """See `Store.rename`."""
        await self.ask("rename", path, new)

    async def remove(self, path: bytes) -> None:
        """See `Store.remove`."""
        await self.ask("remove", path)

    async def remove_directory(self, path: bytes) -> None:
        """See `Store.remove_directory`."""
        await self.ask("remove_directory", path)

    async def digest(self, path: bytes, algorithm: str, seen: Facts | None = None) -> NodeDigest:
        """See `Store.digest`."""
        found: NodeDigest = await self.ask("digest", path, algorithm, seen)
        return found

    async def digests(self, files: Sequence[tuple[bytes, Facts | None]], algorithm: str) -> list[Digested]:
        """See `Store.digests`."""
        return list(await self.ask("digests", tuple(files), algorithm))

    async def blocks(self, path: bytes, block: int) -> NodeBlocks:
        """See `Store.blocks`, and `unload` here."""
        raise StoreError(Fault.UNSUPPORTED, path, store=self.name)

    def expect(self, size: int) -> None:
        """See `Readable.expect`."""

    async def recorded(self, path: bytes) -> str:
        """See `Store.recorded`."""
        return ""

    async def gather(self, paths: Sequence[bytes], most: int) -> list[SmallFile]:
        """See `Store.gather`."""
        return list(await self.ask("gather", tuple(paths), most))

    async def unload(self, bundle: bytes, parcels: Sequence[BundledFile]) -> list[Extracted]:
        """See `Store.unload`. Batches run inside the keeper: nobody has asked for this through it yet."""
        raise StoreError(Fault.UNSUPPORTED, bundle, store=self.name)

    async def finish(self, parcels: Sequence[BundledFile]) -> list[Extracted]:
        """See `Store.finish`, and `unload` here."""
        raise StoreError(Fault.UNSUPPORTED, store=self.name)

    async def work(self, modules: tuple[str, ...], what: str, path: bytes, values: dict[str, Any]) -> dict[str, Any]:
        """See `Store.work`."""
        found: dict[str, Any] = await self.ask("work", modules, what, path, values)
        return found

    async def same_disk(self, token: bytes) -> bool:
        """See `Store.same_disk`."""
        return bool(await self.ask("same_disk", token))

    def witness(self) -> str:
        """See `Store.witness`."""
        return self._witness

    def note_writers(self, noted: Callable[[str], Awaitable[None]]) -> None:
        """See `Store.note_writers`."""

    async def writers_gone(self, witness: str) -> bool:
        """See `Store.writers_gone`."""
        return bool(await self.ask("writers_gone", witness))

    async def close(self) -> None:
        """See `Store.close`. The login stays open."""
        await self._peer.close()


class KeeperSource:
    """Opens a node through its keeper, as often as somebody likes."""

    def __init__(self, keeper: Keeper, node: Node, *, pinned: tuple[str, int] | None = None) -> None:
        self._keeper = keeper
        self._node = node
        self._pinned = pinned

    async def open(self) -> KeeperStore:
        """See `Source.open`."""
        peer = await self._keeper.connect()
        try:
            async with _answered(self._node.name, peer, _SOON):
                lease: StoreTerms = await peer.ask("lease", __version__, self._node, self._pinned)
        except BaseException:
            await peer.close()
            raise
        self._pinned = lease.address
        return KeeperStore(self._node, peer, lease)

    def pins(self) -> dict[str, tuple[str, int]]:
        """See `Source.pins`."""
        return {} if self._pinned is None else {self._node.name: self._pinned}
