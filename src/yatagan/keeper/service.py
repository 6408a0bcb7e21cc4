"""The keeper itself: one login, held open for its user's commands, and the batches that are carried over it.

It begins with one conversation, over a socket that it was started with: the command that opens the node, whose
terminal answers what the server asks. Once it is let in, others may connect. It ends, and says why, when it is
closed, when its time is up, when the connection is lost, when it cannot be reached any more, or when a signal ends it.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
import signal
import time
from collections.abc import Coroutine
from typing import Any, TypeVar

from yatagan.batches.batch_store import Batch, Batches
from yatagan.batches.events import Event
from yatagan.config.home import Home
from yatagan.config.nodes import Node
from yatagan.config.settings import load_settings
from yatagan.engine.run import BatchRun
from yatagan.errors import BatchInUse, CannotReach, KeeperFault, KeeperRefuses
from yatagan.keeper.client import KeeperStatus, StoreTerms, codec
from yatagan.keeper.endpoint import Endpoint, KeeperEnd, is_ours
from yatagan.keeper.protocol import Peer
from yatagan.keeper.requests import Conversation, PromptRelay, of_the_store
from yatagan.ledger.ledger import Ledger
from yatagan.nodes.login import Login, log_in, renew
from yatagan.nodes.prompts import Prompter
from yatagan.stores.interface import Source
from yatagan.stores.local import LocalSource
from yatagan.stores.node_probe import AreaSpace, Checkup, check_up
from yatagan.stores.node_source import more_logins
from yatagan.stores.sftp import SftpStore
from yatagan.version import __version__

T = TypeVar("T")

#: Bytes of news that a command may leave unread before its batch is stopped, as if the command had gone.
_BACKLOG = 32 << 20
#: Seconds between looks at the clock, which jumps when the machine was asleep.
_TICK = 10.0


class Service:
    """One open node, from the login to the end."""

    def __init__(self, home: Home, node: Node, until: float) -> None:
        self._home = home
        self._node = node
        self._until = until
        self._since = time.time()
        self._meeting = Endpoint(home, node.name)
        self._settings = load_settings(home).connection
        self._login: Login | None = None
        self._again = asyncio.Lock()
        self._runs: dict[str, BatchRun] = {}
        self._changed = asyncio.Event()
        self._why: str | None = None
        self._told = True
        self._server: asyncio.Server | None = None
        self._tasks: set[asyncio.Task[Any]] = set()

    # -- the life of a keeper ----------------------------------------------------------------------------

    async def open(self, answers: Prompter) -> KeeperStatus:
        """Log in, and let others connect. Raises CannotReach, Refused."""
        self._meeting.take()
        try:
            self._hold(await log_in(self._node, self._home, self._settings, answers))
            self._server = await asyncio.start_unix_server(self._connected, path=self._meeting.socket)
            os.chmod(self._meeting.socket, 0o600)
        except BaseException:
            self._meeting.leave(None)
            raise
        return self.status()

    def _hold(self, login: Login) -> None:
        self._login = login
        self._begin(self._watch(login))

    async def _watch(self, login: Login) -> None:
        await login.lost.wait()
        self._changed.set()

    def _begin(self, work: Coroutine[Any, Any, T]) -> asyncio.Task[T]:
        task = asyncio.create_task(work)
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)
        return task

    async def serve(self) -> None:
        """Serve every program that connects, until the end; then log out."""
        loop = asyncio.get_running_loop()
        for number in (signal.SIGTERM, signal.SIGINT, signal.SIGHUP):
            loop.add_signal_handler(number, self._end, "a signal ended it")
        try:
            await self._until_the_end()
        finally:
            assert self._server is not None and self._login is not None
            self._server.close()
            await self._stop_runs()
            await self._login.close()
            self._meeting.leave(KeeperEnd(time.time(), self._why or "") if self._told else None)
            for task in list(self._tasks):
                task.cancel()
            await asyncio.gather(*self._tasks, return_exceptions=True)

    async def _until_the_end(self) -> None:
        """Wait for the batch after the time is up, and log in again if its connection is lost."""
        while self._why is None:
            if not self._runs:
                assert self._login is not None
                if self._login.lost.is_set():
                    self._end("the connection was lost")
                elif time.time() >= self._until:
                    self._end("its time was up")
                elif not self._meeting.is_found():  # as when the user logs out of this machine
                    self._end("its socket was taken away")
            with contextlib.suppress(TimeoutError):
                left = self._until - time.time()
                async with asyncio.timeout(min(_TICK, left) if left > 0 else _TICK):
                    await self._changed.wait()
            self._changed.clear()

    def _end(self, why: str, *, told: bool = True) -> None:
        if self._why is None:
            self._why, self._told = why, told
            self._changed.set()

    async def _stop_runs(self) -> None:
        for run in self._runs.values():
            run.stop()
        while self._runs:
            self._changed.clear()
            await self._changed.wait()

    def status(self) -> KeeperStatus:
        """What people see of an open node."""
        address = self._login.address if self._login is not None else None
        return KeeperStatus(self._node.name, os.getpid(), self._since, self._until, address, tuple(sorted(self._runs)))

    # -- commands ----------------------------------------------------------------------------------------

    async def _connected(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        task = asyncio.current_task()
        assert task is not None
        self._tasks.add(task)
        try:
            if is_ours(writer.get_extra_info("socket")):
                await self._attend(reader, writer)
        except asyncio.CancelledError:
            pass  # the keeper ends, and with it all its conversations
        finally:
            writer.close()
            self._tasks.discard(task)

    async def _attend(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        client = Conversation()

        async def handle(what: str, values: tuple[Any, ...]) -> Any:
            return await self._handle(client, peer, what, values)

        def hear(what: str, values: tuple[Any, ...]) -> None:
            if what == "stop":
                client.stop()

        peer = Peer(codec(Checkup, AreaSpace), reader, writer, handle, hear)
        try:
            await peer.gone.wait()
        finally:
            await client.close()
            await peer.close()

    async def _handle(self, client: Conversation, peer: Peer, what: str, values: tuple[Any, ...]) -> Any:
        match what:
            case "status":
                return self.status()
            case "extend":
                (self._until,) = values
                self._changed.set()
                return self.status()
            case "close":
                return self._close(stop_batches=values[0])
            case "stop batch":
                return self._stop_batch(values[0])
            case "lease":
                version, node, pinned = values
                client.store = await self._lease(version, node, pinned)
                store = client.store
                if store.lone_round_trip is not None:
                    await store.resolve(b"")  # one answer at least, so that it is known
                return StoreTerms(
                    store.traits, store.address, store.witness(), store.lone_round_trip, store.machine is not None
                )
            case "check":
                return await self._check(*values)
            case "carry":
                return await self._carry(client, peer, *values)
            case _:
                assert client.store is not None
                return await of_the_store(client, client.store, what, values)

    def _stop_batch(self, batch: str) -> None:
        if (run := self._runs.get(batch)) is not None:
            run.stop()

    def _close(self, *, stop_batches: bool) -> None:
        if self._runs and not stop_batches:
            raise BatchInUse(next(iter(self._runs)), f"the keeper of {self._node.name}")
        self._end("it was closed", told=False)

    async def _lease(self, version: str, node: Node, pinned: tuple[str, int] | None) -> SftpStore:
        """Open a store for one command over the shared login. Raises KeeperRefuses, CannotReach."""
        if version != __version__:
            raise KeeperRefuses(KeeperFault.OTHER_VERSION, node.name)
        if _way(node) != _way(self._node):
            raise KeeperRefuses(KeeperFault.NODE_CHANGED, node.name)
        login = await self._whole_login(node)
        if pinned is not None and login.address is not None and pinned != login.address:
            raise CannotReach(
                node.name,
                "keeper",
                f"it is open at {login.address[0]}, and the batch began at {pinned[0]}",
                passing=False,
                remedy=f"yatagan node close {node.name}, then resume the batch",
            )
        return SftpStore(login, self._settings, more_logins(login, self._home, self._settings), shared=True, node=node)

    async def _whole_login(self, node: Node) -> Login:
        """The login, with a new file channel or helper where one has ended. Raises CannotReach."""
        async with self._again:
            assert self._login is not None
            if self._login.lost.is_set():
                remedy = f"yatagan node open {node.name}"
                raise CannotReach(node.name, "keeper", "the connection was lost", remedy=remedy)
            if not self._login.is_whole:
                self._login = await renew(self._login)
            return self._login

    async def _check(self, version: str, node: Node) -> Checkup:
        store = await self._lease(version, node, None)
        try:
            found = await check_up(store)
            found.open_until = self._until
            return found
        finally:
            await store.close()

    async def _carry(
        self, client: Conversation, peer: Peer, version: str, node: Node, name: str, umask: int
    ) -> CannotReach | None:
        """Carry a batch whose command has released its lock, and send it the events."""
        await (await self._lease(version, node, None)).close()  # only to see that it would be given
        batch = Batches(self._home.batches).find(name)
        batch.lock()
        work = self._begin(self._carried(client, peer, node, batch, umask))
        try:
            return await asyncio.shield(work)
        except asyncio.CancelledError:  # the command has gone
            client.stop()
            raise

    async def _carried(
        self, client: Conversation, peer: Peer, node: Node, batch: Batch, umask: int
    ) -> CannotReach | None:
        """A locked batch, from here to its end, whether or not its command stays. `umask` is its command's."""
        try:
            journal = batch.journal()
            try:
                header, pins = journal.header(), journal.standing().pins
                far, near = _Shared(self, node, pins.get(node.name), PromptRelay(peer)), LocalSource(b"/", umask=umask)
                ends: tuple[Source, Source] = (far, near) if header.source_node else (near, far)

                def listen(event: Event) -> None:
                    peer.tell("event", event)
                    if peer.backlog > _BACKLOG:
                        run.stop()

                settings = load_settings(self._home)
                agent = os.environ.get("SSH_AUTH_SOCK", "")
                ledger = Ledger.of(self._home, settings.ledger, agent, header.purpose.ledger)
                run = client.run = BatchRun(batch, journal, ends, listen, ledger, settings.connection.patience)
                self._runs[batch.name] = run
                if client.stopped:
                    run.stop()
                return await run.run()
            finally:
                self._runs.pop(batch.name, None)
                journal.close()
        finally:
            batch.unlock()
            self._changed.set()

    async def _regain(self, node: Node, pinned: tuple[str, int] | None, answers: Prompter) -> SftpStore:
        """Open a store for a batch, after a new login if the connection was lost."""
        async with self._again:
            assert self._login is not None
            if self._login.lost.is_set():
                if self._why is not None:
                    raise CannotReach(node.name, "keeper", self._why, passing=False)
                self._hold(await log_in(self._node, self._home, self._settings, answers, pinned=self._login.address))
        return await self._lease(__version__, node, pinned)


class _Shared:
    """Opens stores for a batch over the shared login."""

    def __init__(self, service: Service, node: Node, pinned: tuple[str, int] | None, answers: Prompter) -> None:
        self._service = service
        self._node = node
        self._pinned = pinned
        self._answers = answers

    async def open(self) -> SftpStore:
        store = await self._service._regain(self._node, self._pinned, self._answers)
        self._pinned = store.address
        return store

    def pins(self) -> dict[str, tuple[str, int]]:
        return {} if self._pinned is None else {self._node.name: self._pinned}


def _way(node: Node) -> tuple[object, ...]:
    """The parts of a node's entry that a login depends on."""
    return node.address, node.port, node.user, node.key
