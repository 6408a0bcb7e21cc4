"""A worker: takes batches from the queue, one after the other, and carries each to its end.

A worker ends when there is nothing more for it to do. It starts another one when there is more than it can do itself,
so that together they are as many as the limits allow. Where the next batch waits for a time, one worker stays and waits
with it. Any of them may be killed at any moment: what it carried is then taken by the next.

What becomes of a batch after a run is decided by `after_run`; what may go on, and in which order, by the queue.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
import time
from collections.abc import Awaitable, Callable
from typing import Protocol, TypeVar

from yatagan.background.carrying import make_run
from yatagan.background.routines import RoutineBook
from yatagan.batches.batch_store import Batch
from yatagan.batches.events import ConnectionOpened, Event
from yatagan.batches.journal import Journal
from yatagan.batches.locks import LockTaken
from yatagan.batches.queue import Queue, QueueLimits, Taken, WaitsFor
from yatagan.batches.states import ENDED, BatchState
from yatagan.config.home import Home
from yatagan.config.nodes import NodeBook
from yatagan.config.settings import load_settings
from yatagan.engine.accepted_paths import refuse_moved
from yatagan.engine.retry import wait_for_node
from yatagan.engine.run import BatchRun
from yatagan.engine.run_log import RunLog
from yatagan.errors import BatchInUse, CannotReach, Refused, StoreError, UnknownNode, YataganError
from yatagan.faults import Fault
from yatagan.keeper.client import KeeperRun
from yatagan.ledger.ledger import Ledger

T = TypeVar("T")

#: A worker that waits looks again after so many seconds at the latest: a clock may jump, and limits may change.
_LOOK = 20.0


def after_run(state: BatchState, *, stopped_by_person: bool, shutting_down: bool) -> WaitsFor | None:
    """What a batch waits for after a run that ended in this state; None if it leaves the queue.

    It leaves when nothing is left to do, or when only a person can say that it goes on.
    """
    match state:
        case BatchState.NEEDS_LOGIN:
            return WaitsFor.LOGIN
        case BatchState.INTERRUPTED if stopped_by_person:
            return None
        case BatchState.INTERRUPTED:
            return WaitsFor.ITS_TURN if shutting_down else WaitsFor.CONNECTION
        case _:
            return None


class WorkerListener(Protocol):
    """Hears what a worker does."""

    def begins(self, batch: Batch) -> None:
        """A batch is taken."""

    def ended(self, batch: Batch, journal: Journal, problem: CannotReach | None, routine: str, *, queued: bool) -> None:
        """A run of it has ended. `problem`: why the node could not be reached. `queued`: it goes on by itself later.

        `routine`: the routine that made it, or "".
        """

    def failed(self, batch: Batch, error: YataganError) -> None:
        """It could not be carried, for a reason that is not in the batch."""

    def node_trouble(self, batch: Batch, node: str, waiting: int, problem: CannotReach | None, *, login: bool) -> None:
        """So many batches wait for a node, this one first: a person must log in, or it is away. Reported once."""

    def node_well(self, batch: Batch, node: str) -> None:
        """A node whose trouble was reported is reached again."""


def queue_limits(home: Home) -> QueueLimits:
    """How many batches may be carried at once, as the settings and the nodes say now."""
    nodes = NodeBook(home.nodes_file)

    def over_node(name: str) -> int:
        try:
            return nodes.get(name).batches_at_once
        except UnknownNode:
            return 1

    return QueueLimits(load_settings(home).queue.at_once, over_node)


class Worker:
    """One worker. `agent`: the socket of the SSH agent, "" without one. `another` starts a further worker.

    `routines` runs the routines that are due, and returns when to look again, as `RoutineRunner.tick`.
    """

    def __init__(
        self,
        home: Home,
        agent: str,
        listener: WorkerListener,
        another: Callable[[], object],
        routines: Callable[[], Awaitable[float | None]],
    ) -> None:
        self._routines = routines
        self._home = home
        self._agent = agent
        self._queue = Queue.of(home)
        self._listener = listener
        self._another = another
        self._run: BatchRun | KeeperRun | None = None
        self._carried = ""
        self._shutting_down = False
        self._woken = asyncio.Event()

    def shut_down(self) -> None:
        """Come to a clean stop; what is carried goes on with the next worker. May be called from a signal handler."""
        self._shutting_down = True
        self._woken.set()
        if self._run is not None:
            self._run.stop()

    def stop_batch(self) -> None:
        """Stop the batch that is carried now, cleanly, as a person has asked; then go on with the next.

        It has left the queue before. One that is in it was not meant: the signal came a moment too late.
        """
        if self._run is not None and self._queue.entry(self._carried) is None:
            self._run.stop()

    async def run(self) -> None:
        """Work until nothing is left to do. Raises JournalError, BadConfig."""
        while not self._shutting_down:
            taken = self._queue.take(queue_limits(self._home))
            if taken is not None:
                if self._queue.has_more(queue_limits(self._home)) or self._lacks_waiter():
                    self._another()
                try:
                    await self._attend(taken)
                except Exception:  # a defect: the next worker takes it, and after three times a person must look
                    self._another()
                    raise
            elif not await self._wait():
                return

    def _lacks_waiter(self) -> bool:
        """Whether routines may become due, and no worker waits for that."""
        routines = RoutineBook.of(self._home).all()
        return any(not routine.held for routine in routines) and not self._queue.waiting_lock().is_held()

    async def _wait(self) -> bool:
        """Wait for the next batch, and run routines. False if there is nothing to wait for, or another worker does."""
        lock = self._queue.waiting_lock()
        try:
            lock.take()
        except LockTaken:
            return False
        try:
            while not self._shutting_down:
                looks = [self._queue.next_time(), await self._unless_woken(self._routines())]
                if self._queue.has_more(queue_limits(self._home)):
                    return True
                until = min((look for look in looks if look is not None), default=None)
                if until is None:
                    return False
                await self._unless_woken(asyncio.sleep(min(max(until - time.time(), 0.1), _LOOK)))
        finally:
            lock.release()
        return False

    async def _unless_woken(self, work: Awaitable[T]) -> T | None:
        """Wait for something, but not when this worker is to shut down."""
        task, woken = asyncio.ensure_future(work), asyncio.ensure_future(self._woken.wait())
        try:
            await asyncio.wait((task, woken), return_when=asyncio.FIRST_COMPLETED)
            return task.result() if task.done() else None
        finally:
            for each in (task, woken):
                each.cancel()
            await asyncio.gather(task, woken, return_exceptions=True)

    async def _attend(self, taken: Taken) -> None:
        """Carry a batch that is locked by us, and say in the queue what becomes of it."""
        batch, self._carried = taken.batch, taken.batch.name
        self._listener.begins(batch)
        try:
            with contextlib.closing(batch.journal()) as journal:
                problem = await self._carry(taken, journal)
                self._settle(taken, journal, problem)
        except YataganError as error:
            # A keeper that has gone or still has it, a full disk here, a file of settings that makes no sense.
            self._listener.failed(batch, error)
            wait = _LOOK if isinstance(error, BatchInUse) else wait_for_node(taken.entry.failures + 1)
            self._queue.wait(batch.name, WaitsFor.CONNECTION, time.time() + wait)
        finally:
            self._run = None
            batch.unlock()

    async def _carry(self, taken: Taken, journal: Journal) -> CannotReach | None:
        """Run a batch, unless it may not go on. Returns why its node could not be reached."""
        state = journal.standing().state
        if state in ENDED and not journal.size_left() and not journal.open_steps((-1, -1), 1):
            return None
        if taken.given_up:
            journal.settle(BatchState.HELD, Fault.NO_PROGRESS)
            return None
        try:
            await refuse_moved(journal.header())
            ledger = Ledger.of(
                self._home, load_settings(self._home).ledger, self._agent, journal.header().purpose.ledger
            )

            def hear(event: Event) -> None:
                if isinstance(event, ConnectionOpened):
                    self._queue.reached(taken.batch.name)
                    for node in self._queue.note_well(taken.entry.nodes):
                        self._listener.node_well(taken.batch, node)

            self._run = make_run(self._home, taken.batch, journal, hear, ledger, umask=taken.entry.umask)
        except StoreError as error:
            journal.settle(BatchState.HELD, error.fault, os.fsdecode(error.path))
            return None
        except UnknownNode as error:
            journal.settle(BatchState.HELD, Fault.NO_SUCH_NODE, error.name)
            return None
        if self._shutting_down:  # since it was taken
            self._run.stop()
        try:
            return await self._run.run()
        except Refused as error:  # the keeper does not take it: a person must open the node again
            journal.settle(BatchState.NEEDS_LOGIN)
            return CannotReach(taken.entry.nodes[0], "keeper", error.why, remedy=error.remedy, passing=False)

    def _settle(self, taken: Taken, journal: Journal, problem: CannotReach | None) -> None:
        """Say in journal and queue what becomes of a batch. What a person has taken out of the queue stays out."""
        batch, standing = taken.batch, journal.standing()
        entry = self._queue.entry(batch.name)
        asked, failures = entry is None and not taken.given_up, entry.failures if entry is not None else 0
        waits = after_run(standing.state, stopped_by_person=asked, shutting_down=self._shutting_down)
        until = time.time() + wait_for_node(failures + 1) if waits is WaitsFor.CONNECTION else 0.0
        if waits is None:
            self._queue.remove(batch.name)
        else:
            if waits is not WaitsFor.LOGIN:
                journal.settle(BatchState.QUEUED, standing.fault, standing.detail)
            self._queue.wait(batch.name, waits, until)
            seconds = round(until - time.time()) if until else None
            RunLog(batch).write("waits", waits_for=waits.value, retry_seconds=seconds)
        self._listener.ended(batch, journal, problem, taken.entry.routine, queued=waits is not None)
        if waits in (WaitsFor.LOGIN, WaitsFor.CONNECTION):
            node = problem.node if problem is not None else taken.entry.nodes[0]
            waiting = self._queue.note_trouble(node, waits)
            if waiting:
                self._listener.node_trouble(batch, node, waiting, problem, login=waits is WaitsFor.LOGIN)
