"""A command's side of a keeper: looking at it, closing it, and handing it a batch."""

from __future__ import annotations

import asyncio
import contextlib
import socket
from collections.abc import AsyncIterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from yatagan.batches.events import Listener
from yatagan.batches.states import CARRIED, BatchState
from yatagan.config.nodes import Node
from yatagan.errors import BatchInUse, CannotReach, YataganError
from yatagan.faults import Fault
from yatagan.keeper.endpoint import Endpoint
from yatagan.keeper.protocol import Codec, Gone, Peer
from yatagan.nodes.prompts import Prompter
from yatagan.stores.interface import (
    Traits,
)
from yatagan.stores.local_calls import own_umask
from yatagan.version import __version__

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
    """What a command must know of a store over a keeper's login."""

    traits: Traits
    address: tuple[str, int] | None
    witness: str
    lone_round_trip: float | None
    #: Whether the node runs commands.
    machine: bool


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
            case "refused":
                answers.refused(*values)
            case "waited":
                answers.waited()

    reader, writer = await asyncio.open_unix_connection(sock=connection)
    return Peer(codec(*more), reader, writer, handle, hear)


#: Seconds in which a keeper must have answered what takes it no time, and what may take it a round with its node.
AT_ONCE, SOON = 5.0, 45.0


@contextlib.asynccontextmanager
async def answered(node: str, peer: Peer, seconds: float) -> AsyncIterator[None]:
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

    async def _ask(self, what: str, *values: object, more: tuple[type[Any], ...] = (), seconds: float = AT_ONCE) -> Any:
        peer = await self.connect(None, *more)
        try:
            async with answered(self.node, peer, seconds):
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
            async with answered(self.node, peer, SOON):
                with contextlib.suppress(Gone):
                    await peer.ask("close", batches)
                await peer.gone.wait()
        finally:
            await peer.close()

    async def stop(self, batch: str) -> None:
        """Stop a batch that it carries, cleanly. Returns at once; the batch's lock is free when it has stopped."""
        await self._ask("stop batch", batch)

    async def check_up(self, node: Node) -> Checkup:
        """What the node can do, looked at by the keeper."""
        from yatagan.stores.node_probe import AreaSpace, Checkup

        found: Checkup = await self._ask("check", __version__, node, more=(Checkup, AreaSpace), seconds=SOON)
        return found


class KeeperRun:
    """A batch that runs inside a keeper, because that has the login; see `BatchRun`."""

    def __init__(self, keeper: Keeper, node: Node, batch: Batch, journal: Journal, listener: Listener) -> None:
        self._keeper = keeper
        self._journal = journal
        self._node = node
        self._batch = batch
        self._listener = listener
        self._peer: Peer | None = None
        self._stopped = False

    def stop(self) -> None:
        self._stopped = True
        if self._peer is not None:  # else it is sent once there is a connection
            self._peer.tell("stop")

    async def run(self) -> CannotReach | None:
        """We hold the batch's lock, which passes to the keeper and comes back."""
        umask = own_umask()
        self._peer = await self._keeper.connect(self._listener)
        if self._stopped:
            self._peer.tell("stop")
        try:
            self._batch.unlock()
            problem: CannotReach | None = await self._peer.ask(
                "carry", __version__, self._node, self._batch.name, umask
            )
        except Gone:
            problem = _ended(self._node.name)
        except YataganError:
            await self._take_back()
            raise
        finally:
            await self._peer.close()
        await self._take_back()
        if self._journal.standing().state in CARRIED:  # it has ended without a word
            self._journal.settle(BatchState.INTERRUPTED, Fault.CONNECTION_LOST, "its keeper has ended")
        return problem

    async def _take_back(self) -> None:
        """Hold the batch's lock again: a process that is killed lets go of it a moment later than of its sockets."""
        for wait in (0.1, 0.3, 1.0, 3.0):
            try:
                return self._batch.lock()
            except BatchInUse:
                await asyncio.sleep(wait)
        return self._batch.lock()
