"""A worker: takes batches from the queue, one after the other, and carries each to its end.

A worker ends when there is nothing more for it to do. It starts another one when there is more than it can do itself,
so that together they are as many as the limits allow. Where the next batch waits for a time, one worker stays and waits
with it. Any of them may be killed at any moment: what it carried is then taken by the next.

What is done with a batch, and what becomes of it after a run, is decided in `batches/queueing.py`.

Where our own disk is full, or cannot be read for a while, a worker waits for that to pass.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
from collections.abc import Awaitable, Callable
from typing import Protocol, TypeVar

from yatagan.batches.batch_store import Batch
from yatagan.batches.events import ConnectionOpened, Event, Listener
from yatagan.batches.journal import Journal
from yatagan.batches.locks import LockTaken
from yatagan.batches.log_events import LogHeld, LogWaits
from yatagan.batches.queue import Queue, Taken
from yatagan.batches.queueing import (
    ROOM_SECONDS,
    OnTaking,
    QueueLimits,
    WaitsFor,
    after_run,
    unreadable_seconds,
)
from yatagan.batches.said import Said, said, until_said
from yatagan.batches.states import BatchState, batch_may_move
from yatagan.engine.retry import wait_for_node
from yatagan.engine.run_log import RunLog
from yatagan.errors import (
    BadConfig,
    BatchInUse,
    CannotReach,
    JournalError,
    KeeperRefuses,
    StoreError,
    Trouble,
    UnknownNode,
    YataganError,
)
from yatagan.faults import Fault

T = TypeVar("T")

#: A worker that waits looks again after so many seconds at the latest: a clock may jump, and limits may change.
_LOOK = 20.0
#: Seconds until it tries again to use a disk of ours that does not work; the last one is repeated.
_OWN_DISK_WAITS = (5.0, 20.0, 60.0, 300.0)


class WorkerListener(Protocol):
    """Hears what a worker does."""

    def begins(self, batch: Batch) -> None:
        """A batch is taken."""

    def ended(self, batch: Batch, journal: Journal, problem: Trouble | None, routine: str, *, queued: bool) -> None:
        """A run of it has ended. `problem`: why the node could not be reached. `queued`: it goes on by itself later.

        `routine`: the routine that made it, or "".
        """

    def failed(self, batch: Batch, error: YataganError) -> None:
        """It could not be carried, for a reason that is not in the batch."""

    def unread(self, batch: Batch, error: JournalError) -> None:
        """Its journal cannot be read. Reported once; it is tried again now and then."""

    def own_trouble(self, error: YataganError) -> None:
        """Our own files cannot be used. Reported once until they can be."""

    def node_trouble(self, batch: Batch, node: str, waiting: int, problem: Trouble | None, *, login: bool) -> None:
        """So many batches wait for a node, this one first: a person must log in, or it is away. Reported once."""

    def node_well(self, batch: Batch, node: str) -> None:
        """A node whose trouble was reported is reached again."""


class Routines(Protocol):
    """Runs routines, as `RoutineRunner` does."""

    def any_active(self) -> bool:
        """Whether a routine may become due."""

    def tick(self) -> float | None:
        """Begin what is due. Returns in how many seconds to look again; None without an active routine."""

    async def sleep(self, seconds: float) -> None:
        """Wait so long, or until a plan is made."""

    async def finish(self) -> None:
        """Wait for the plans that are being made."""

    async def close(self) -> None:
        """Break off the plans that are being made."""


class StoppableRun(Protocol):
    """A run of a batch, as `BatchRun` and `KeeperRun` are."""

    async def run(self) -> CannotReach | None:
        """Carry it. Returns why its node could not be reached."""

    def stop(self) -> None:
        """Stop it, cleanly."""


class Carrying(Protocol):
    """What a worker takes from the settings: limits, and runs (`carrying.py`)."""

    def limits(self) -> QueueLimits:
        """How many batches may be carried at once now. Raises BadConfig."""

    async def make_run(self, taken: Taken, journal: Journal, listener: Listener) -> StoppableRun:
        """The run of a batch whose lock is held. Raises StoreError where it may not go on, UnknownNode, BadConfig."""

    def record(self, journal: Journal) -> None:
        """Put a finished batch on record, unless it is. Raises JournalError, BadConfig."""


class Worker:
    """One worker. `another` starts a further one. `replaced`: whether another version of this program is installed now.

    Then it ends before it takes the next batch, and another one, of that version, comes in its place.
    """

    def __init__(
        self,
        queue: Queue,
        carrying: Carrying,
        listener: WorkerListener,
        another: Callable[[], object],
        routines: Routines,
        replaced: Callable[[], bool] = lambda: False,
    ) -> None:
        self._replaced = replaced
        self._routines = routines
        self._carrying = carrying
        self._queue = queue
        self._listener = listener
        self._another = another
        self._run: StoppableRun | None = None
        self._carried: Batch | None = None
        self._shutting_down = False
        self._woken = asyncio.Event()

    def shut_down(self) -> None:
        """Come to a clean stop; what is carried goes on with the next worker. May be called from a signal handler."""
        self._shutting_down = True
        self._woken.set()
        if self._run is not None:
            self._run.stop()

    def stop_batch(self) -> None:
        """Stop the batch that is carried now, cleanly, if a person has asked for that; then go on with the next.

        One of which nobody has said so was not meant: the signal came a moment too late.
        """
        if self._run is not None and self._carried is not None and self._is_stopped(self._carried):
            self._run.stop()

    def _is_stopped(self, batch: Batch) -> bool:
        """Whether a person has stopped a batch."""
        try:
            return said(batch) is not None or self._queue.entry(batch.name) is None
        except JournalError:
            return False

    async def run(self) -> None:
        """Work until nothing is left to do. Raises what is a defect."""
        failures = 0
        while not self._shutting_down:
            try:
                if self._replaced():
                    self._start_another()
                    break
                if not await self._step():
                    break
                failures = 0
            except (JournalError, BadConfig) as error:
                # A full disk here, or settings that make no sense. Another worker would fare no better.
                if not failures:
                    self._listener.own_trouble(error)
                failures += 1
                wait = _OWN_DISK_WAITS[min(failures, len(_OWN_DISK_WAITS)) - 1]
                await self._unless_woken(asyncio.sleep(wait))
        if self._shutting_down:
            await self._routines.close()
        else:
            await self._routines.finish()

    async def _step(self) -> bool:
        """Carry the next batch, or wait for one; False if there is none. Raises JournalError, BadConfig."""
        taken = self._queue.take(self._carrying.limits(), self._listener.unread)
        if taken is None:
            return await self._wait()
        if self._queue.has_more(self._carrying.limits()) or self._lacks_waiter():
            self._start_another()
        try:
            await self._attend(taken)
        except (JournalError, BadConfig):
            raise
        except Exception:  # a defect: the next worker takes it, and after three times a person must look
            self._start_another()
            raise
        return True

    def _start_another(self) -> None:
        with contextlib.suppress(JournalError, OSError):  # then this one comes to it in the end
            self._another()

    def _lacks_waiter(self) -> bool:
        """Whether routines may become due, and no worker waits for that."""
        return self._routines.any_active() and not self._queue.waiting_lock().is_held()

    async def _wait(self) -> bool:
        """Wait for the next batch, and run routines. False if there is nothing to wait for, or another worker does."""
        lock = self._queue.waiting_lock()
        try:
            lock.take()
        except LockTaken:
            return False
        try:
            while not self._shutting_down:
                if self._replaced():
                    return True
                self._queue.note_attended()
                looks = [self._queue.next_look(), self._routines.tick()]
                if self._queue.has_more(self._carrying.limits()):
                    return True
                until = min((look for look in looks if look is not None), default=None)
                if until is None:
                    return False
                await self._unless_woken(self._routines.sleep(min(max(until, 0.1), _LOOK)))
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
        """Do with a batch that is locked by us what is to be done, and say in the queue what becomes of it."""
        batch, self._carried = taken.batch, taken.batch
        try:
            if taken.todo is OnTaking.LEAVE:
                self._queue.remove(batch.name)
                return
            with contextlib.closing(batch.journal()) as journal:
                if taken.todo is OnTaking.HOLD:
                    self._hold(batch, journal)
                    self._queue.remove(batch.name)
                    return
                self._listener.begins(batch)
                problem = await self._carry(taken, journal)
                self._settle(taken, journal, problem)
        except JournalError as error:
            self._listener.failed(batch, error)
            with contextlib.suppress(JournalError):
                self._queue.wait(batch.name, WaitsFor.JOURNAL, unreadable_seconds(taken.entry.failures))
                return
            raise
        except YataganError as error:
            # A keeper that has gone or still has it, a file of settings that makes no sense.
            self._listener.failed(batch, error)
            wait = _LOOK if isinstance(error, BatchInUse) else wait_for_node(taken.entry.failures + 1)
            self._queue.wait(batch.name, WaitsFor.CONNECTION, wait)
        finally:
            self._run = self._carried = None
            batch.unlock()

    @staticmethod
    def _hold(batch: Batch, journal: Journal) -> None:
        """Note that a person holds a batch, who could not write its journal while this process had the lock."""
        if batch_may_move(journal.standing().state, BatchState.HELD):
            journal.settle(BatchState.HELD)
            RunLog(batch).write(LogHeld("a person"))

    @staticmethod
    async def _stop_when_said(batch: Batch, run: StoppableRun) -> None:
        """Stop a run once a person has said so, from whichever machine."""
        await until_said(batch)
        run.stop()

    async def _carry(self, taken: Taken, journal: Journal) -> Trouble | None:
        """Run a batch, unless it may not go on. Returns why its node could not be reached."""
        if taken.todo is OnTaking.END:  # the process that carried it may have ended a moment too soon
            self._carrying.record(journal)
            return None
        if taken.todo is OnTaking.GIVE_UP:
            journal.settle(BatchState.HELD, Fault.NO_PROGRESS)
            return None
        try:

            def hear(event: Event) -> None:
                if isinstance(event, ConnectionOpened):
                    self._queue.reached(taken.batch.name)
                    for node in self._queue.note_well(taken.entry.nodes):
                        self._listener.node_well(taken.batch, node)

            self._run = await self._carrying.make_run(taken, journal, hear)
        except StoreError as error:
            journal.settle(BatchState.HELD, error.fault, os.fsdecode(error.path))
            return None
        except UnknownNode as error:
            journal.settle(BatchState.HELD, Fault.NO_SUCH_NODE, error.name)
            return None
        if self._shutting_down:  # since it was taken
            self._run.stop()
        watching = asyncio.ensure_future(self._stop_when_said(taken.batch, self._run))
        try:
            return await self._run.run()
        except KeeperRefuses as error:  # a person must open the node again
            journal.settle(BatchState.NEEDS_LOGIN)
            return error
        finally:
            watching.cancel()

    def _settle(self, taken: Taken, journal: Journal, problem: Trouble | None) -> None:
        """Say in journal and queue what becomes of a batch. What a person has taken out of the queue stays out."""
        batch, standing = taken.batch, journal.standing()
        entry = self._queue.entry(batch.name)
        word, failures = said(batch), entry.failures if entry is not None else 0
        asked = word is not None or entry is None
        fault = standing.fault
        waits = after_run(standing.state, fault, stopped_by_person=asked, shutting_down=self._shutting_down)
        seconds = float(wait_for_node(failures + 1)) if waits is WaitsFor.CONNECTION else 0.0
        seconds = ROOM_SECONDS if waits is WaitsFor.ROOM else seconds
        if waits is None:
            if word is Said.HOLD:
                self._hold(batch, journal)
            self._queue.remove(batch.name)
        else:
            if waits not in (WaitsFor.LOGIN, WaitsFor.ROOM):
                journal.settle(BatchState.QUEUED, standing.fault, standing.detail)
            self._queue.wait(batch.name, waits, seconds)
            RunLog(batch).write(LogWaits(waits, round(seconds)))
        newly_full = waits is WaitsFor.ROOM and taken.entry.waits_for is not WaitsFor.ROOM  # one notice for that
        queued = waits is not None and not newly_full
        self._listener.ended(batch, journal, problem, taken.entry.routine, queued=queued)
        if waits in (WaitsFor.LOGIN, WaitsFor.CONNECTION):
            node = problem.node if isinstance(problem, CannotReach) else taken.entry.nodes[0]
            waiting = self._queue.note_trouble(node, waits)
            if waiting:
                self._listener.node_trouble(batch, node, waiting, problem, login=waits is WaitsFor.LOGIN)
