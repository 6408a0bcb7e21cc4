"""The executor carries out the scheduler's commands, and reports what came of them.

It owns the tasks, the connection and the queue of events, and decides nothing. Clock, jitter and the way in which work
runs in threads are handed in, so that a simulation can replay a run.
"""

from __future__ import annotations

import asyncio
import contextlib
import random
import time
from collections.abc import Callable
from dataclasses import dataclass, field, replace

from yatagan.batches.events import BatchSettled, ConnectionOpened, Event, Listener, RetryWaiting, StepPostponed
from yatagan.batches.group_commit import GroupCommit
from yatagan.batches.journal import Journal
from yatagan.batches.journal_data import Standing
from yatagan.batches.pace import Pace
from yatagan.batches.states import SETTLED, BatchState, StepState
from yatagan.batches.steps import SessionWriters, Step
from yatagan.engine import run_messages, scheduler
from yatagan.engine.destination import look_at_destination
from yatagan.engine.growing_files import GrowingFiles
from yatagan.engine.last_look import LastLook
from yatagan.engine.opening_ends import Opening, close_quietly
from yatagan.engine.run_tasks import RunTasks
from yatagan.engine.run_trouble import RunTrouble
from yatagan.engine.session import RetryStep
from yatagan.engine.source_files import Clock
from yatagan.engine.step_context import StepContext
from yatagan.engine.step_worker import StepWorker
from yatagan.errors import CannotReach, JournalError, LineLost, StoreError
from yatagan.faults import STOPPING_FAULTS, Fault
from yatagan.stores.interface import Readable, Source
from yatagan.transfer.carrier import Carrier
from yatagan.transfer.stopping import Stopped
from yatagan.transfer.transfer import Tuning

#: How long steps get to come to a clean stop before the connection is taken from them.
_HALT_SECONDS = 4.0
#: So often what is gone from the destination is carried again; then something removes it there.
_CHECKS = 2


class SystemClock:
    """The real clock."""

    def monotonic(self) -> float:
        return time.monotonic()

    async def sleep(self, seconds: float) -> None:
        await asyncio.sleep(seconds)


@dataclass(frozen=True, slots=True)
class Conditions:
    """What a run depends on besides its batch: limits, tuning, clocks and randomness.

    `wall`: the time since the epoch, by which the pace is kept. `room_first`: after a full disk it goes on only where
    all that is left will fit, as far as the disk tells.
    """

    limits: scheduler.Limits = field(default_factory=scheduler.Limits)
    tuning: Tuning = field(default_factory=Tuning)
    clock: Clock = field(default_factory=SystemClock)
    wall: Callable[[], float] = time.time
    jitter: Callable[[], float] = random.random
    threaded: bool = True
    room_first: bool = False


class _PacedListener:
    """Tells the listener, and keeps the pace."""

    def __init__(self, listener: Listener, wall: Callable[[], float]) -> None:
        self._listener = listener
        self.pace = Pace(wall)

    def __call__(self, event: Event) -> None:
        self.pace.take(event)
        self._listener(event)


@dataclass(slots=True)
class _Connection:
    """Both ends while they are open, and what works with them. The context outlives its connection.

    `opened_at`: by the run's clock; None before the first.
    """

    stores: tuple[Readable, ...] = ()
    context: StepContext | None = None
    worker: StepWorker | None = None
    opened_at: float | None = None


class Executor:
    """One run of a batch: from accepted or interrupted to finished or interrupted."""

    def __init__(
        self,
        journal: Journal,
        source: Source,
        destination: Source,
        listener: Listener,
        conditions: Conditions | None = None,
    ) -> None:
        self._journal = journal
        self._conditions = conditions or Conditions()
        self._tell = _PacedListener(listener, self._conditions.wall)
        self._commits = GroupCommit(journal, threaded=self._conditions.threaded, pace=self._tell.pace.rows)
        self._carrier = Carrier(self._conditions.tuning, self._clock.monotonic, self._clock.sleep)
        self._scheduler = scheduler.Scheduler(self._conditions.limits, self._conditions.jitter)
        self._events: asyncio.Queue[run_messages.Event] = asyncio.Queue()
        self._tasks = RunTasks(self.stop)  # which wakes the loop, which raises
        self._trouble = RunTrouble.after(journal.standing())
        ends, room_first = (source, destination), self._conditions.room_first
        self._opening = Opening(journal, ends, self._trouble, room_first=room_first)
        self._connection = _Connection()
        self._fetched: dict[int, Step] = {}
        self._stop = asyncio.Event()
        self._checks = 0

    def stop(self) -> None:
        """Come to a clean stop soon. May be called from a signal handler of the loop."""
        self._events.put_nowait(run_messages.StopRequested(None))

    async def run(self) -> Standing:
        """Run until the batch is settled. Raises JournalError when the journal cannot be written any more."""
        began = self._clock.monotonic()
        self._journal.settle(BatchState.MOVING)
        try:
            settled = self._obey(self._scheduler.handle(run_messages.Begun()))
            while settled is None:
                event = await self._events.get()
                if self._tasks.failure is not None:
                    raise self._tasks.failure
                settled = self._obey(self._scheduler.handle(event))
            await self._commits.finish()
        finally:
            await self._close_all()
        detail = self._trouble.detail(settled.fault)
        self._journal.spend(self._clock.monotonic() - began, *self._tell.pace.rest())
        self._journal.settle(settled.state, settled.fault, detail)
        self._tell(BatchSettled(settled.state, settled.fault, detail))
        return self._journal.standing()

    @property
    def stores(self) -> tuple[Readable, ...]:
        """The open ends; empty without a connection."""
        return self._connection.stores

    @property
    def problem(self) -> CannotReach | None:
        """Why the last try to connect failed; None if it did not."""
        return self._trouble.problem

    @property
    def _clock(self) -> Clock:
        return self._conditions.clock

    # -- commands ----------------------------------------------------------------------------------------

    def _obey(self, commands: list[run_messages.Command]) -> run_messages.EndRun | None:
        """Do what the scheduler says; how the run ends, once it does."""
        end = None
        for command in commands:
            match command:
                case run_messages.Connect(wait, fault):
                    self._tasks.begin(self._open(wait, fault))
                case run_messages.Disconnect():
                    self._disconnect()
                case run_messages.FetchSteps(after, limit):
                    self._fetch(after, limit)
                case run_messages.StartStep(number, wait):
                    self._tasks.begin(self._work(self._fetched[number], wait, self._connection.worker))
                case run_messages.FailStep(number, fault):
                    self._tasks.begin(self._give_up(self._fetched[number], fault))
                case run_messages.CheckClaims():
                    self._tasks.begin(self._check())
                case run_messages.StopSteps():
                    self._stop.set()
                    self._tasks.begin(self._take_the_line())
                case run_messages.EndRun():
                    end = command
        return end

    def _disconnect(self) -> None:
        lost = self._connection
        if lost.worker is not None and lost.opened_at is not None:
            self._carrier.connection_lost(self._clock.monotonic() - lost.opened_at)
        self._connection = replace(lost, stores=(), worker=None)
        for store in lost.stores:
            self._tasks.begin_closing(close_quietly(store))

    def _fetch(self, after: tuple[int, int], limit: int) -> None:
        steps = self._journal.open_steps(after, limit)
        for step in steps:
            self._fetched[step.number] = step
        tickets = tuple(run_messages.Ticket(step.number, step.phase, step.facts.size) for step in steps)
        self._events.put_nowait(run_messages.StepsFetched(tickets, last=len(steps) < limit))

    async def _open(self, wait: float, fault: Fault | None) -> None:
        if fault is not None:
            self._tell(RetryWaiting(wait, fault, self._trouble.problem))
            await self._clock.sleep(wait)
        try:
            source, destination, hashes_there = await self._opening.open()
        except (CannotReach, StoreError) as error:
            self._refused(error)
            return
        if self._scheduler.state is scheduler.RunState.ENDED:
            await close_quietly(source)
            await close_quietly(destination)
            return
        self._trouble.problem = None
        session = self._opening.session(source, destination, hashes_there)
        destination.note_writers(lambda witness: self._commits.note(SessionWriters(session.number, witness)))
        self._carrier.rate_limit.rate = self._opening.max_rate(source, destination)
        context = StepContext(session, self._journal, self._commits, self._tell)
        worker = StepWorker(context, self._carrier, self._clock, self._stop)
        self._tell(ConnectionOpened(self._connection.opened_at is not None))
        self._connection = _Connection((source, destination), context, worker, self._clock.monotonic())
        self._events.put_nowait(run_messages.Connected())

    def _refused(self, error: CannotReach | StoreError) -> None:
        if isinstance(error, StoreError):
            if not isinstance(error, LineLost):  # what we meet before the first step befalls all of them
                self._trouble.stopped_by = error
                self._events.put_nowait(run_messages.StopRequested(error.fault))
                return
            error = CannotReach(error.store, "sftp", error.detail or error.fault.value)
        self._trouble.problem = error
        self._events.put_nowait(run_messages.ConnectFailed(self._clock.monotonic(), error.passing))

    async def _work(self, step: Step, wait: float, worker: StepWorker | None) -> None:
        """Do one step, and report its outcome to the scheduler."""
        number = step.number
        if wait:
            await self._clock.sleep(wait)
        if wait or step.bundle:
            step = self._journal.step(number)
        if step.state in SETTLED:  # a bundle has brought it since it was fetched
            self._ended(number)
            return
        try:
            if worker is None:
                raise StoreError(Fault.CONNECTION_LOST)
            await worker.do(step)
        except (StoreError, Stopped, RetryStep) as error:
            await self._returned(step, error)
        else:
            self._ended(number)

    async def _returned(self, step: Step, error: StoreError | Stopped | RetryStep) -> None:
        """Report a step that was not done. `step`: as it was before it was tried."""
        number, fault = step.number, Fault.CONNECTION_LOST if isinstance(error, Stopped) else error.fault
        if isinstance(error, StoreError):
            self._trouble.said[number] = error.detail
            if fault in STOPPING_FAULTS:
                self._trouble.stopped_by = error
                await self._look_at_space(fault)
        await self._commits.note()
        now = self._fetched[number] = self._journal.step(number)
        self._tell(StepPostponed(number, step.label, fault))
        moved = now.durable != step.durable and now.generation == step.generation
        self._events.put_nowait(run_messages.StepReturned(number, fault, moved, self._clock.monotonic()))

    def _ended(self, number: int) -> None:
        self._fetched.pop(number, None)
        self._events.put_nowait(run_messages.StepEnded(number))

    async def _look_at_space(self, fault: Fault) -> None:
        """Note how much is free at the destination, once it was too little."""
        context = self._connection.context
        if fault is Fault.NO_SPACE and self._trouble.free is None and context is not None:
            with contextlib.suppress(StoreError):
                await self._trouble.look_at_space(context.destination, context.session.top)

    async def _give_up(self, step: Step, fault: Fault) -> None:
        context, worker = self._connection.context, self._connection.worker
        assert context is not None  # only what was tried is given up
        if worker is not None:
            with contextlib.suppress(StoreError):
                await worker.clear(step)
        detail = self._trouble.said.get(step.number, "")
        await context.settle(step, StepState.FAILED, fault=fault, detail=detail)
        self._ended(step.number)

    async def _check(self) -> None:
        """Compare what is claimed with the destination, which must still be the directory that was meant."""
        context = self._connection.context
        assert context is not None
        look, trouble = LastLook(context, self._journal), self._journal.sessions() > 1
        destination, top = context.destination, context.session.top
        try:
            await look_at_destination(self._journal, destination, top)
            await look.sync(all_names=trouble)
            again = await look.look(everything=trouble, again=self._checks < _CHECKS)
            self._checks += 1
            if not again:
                await GrowingFiles(context).let_go()
                await look_at_destination(self._journal, destination, top)  # the last thing that is asked
                self._journal.looked(int(self._conditions.wall() * 1e9))
        except StoreError as error:
            self._trouble.stopped_by = error if not isinstance(error, LineLost) else None
            self._events.put_nowait(run_messages.ClaimsNotChecked(error.fault, self._clock.monotonic()))
        else:
            self._events.put_nowait(run_messages.ClaimsChecked(again))

    async def _take_the_line(self) -> None:
        await self._clock.sleep(_HALT_SECONDS)
        for store in self.stores:
            await close_quietly(store)

    async def _close_all(self) -> None:
        for store in self.stores:
            await close_quietly(store)
        self._connection.stores = ()
        await self._tasks.end()
        if isinstance(self._tasks.failure, JournalError):
            with contextlib.suppress(JournalError):
                await self._commits.finish()
