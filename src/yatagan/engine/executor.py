"""The executor carries out the scheduler's commands, and reports what came of them.

It owns the tasks, the connection and the queue of events, and decides nothing. Clock, jitter and the way in which work
runs in threads are handed in, so that a simulation can replay a run.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
import random
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from yatagan.batches.events import BatchSettled, ConnectionOpened, Event, Listener, RetryWaiting, StepPostponed
from yatagan.batches.group_commit import GroupCommit
from yatagan.batches.journal import Journal
from yatagan.batches.journal_data import Header, Standing
from yatagan.batches.pace import Pace
from yatagan.batches.states import SETTLED, BatchState, Evidence, StepState
from yatagan.batches.steps import SessionWriters, Step, token_path
from yatagan.bundles.see_through import SeeThrough
from yatagan.engine import run_messages, scheduler
from yatagan.engine.destination import look_at_destination, make_again, set_facts_again
from yatagan.engine.growing_files import GrowingFiles
from yatagan.engine.last_look import LastLook
from yatagan.engine.session import RetryStep, Session, evidence_for
from yatagan.engine.source_files import Clock
from yatagan.engine.step_context import StepContext
from yatagan.engine.step_worker import StepWorker
from yatagan.errors import CannotReach, FileTrouble, JournalError, LineLost, StoreError
from yatagan.faults import DESTINATION_FAULTS, STOPPING_FAULTS, Fault
from yatagan.stores.interface import Readable, Source, Store
from yatagan.transfer.carrier import Carrier
from yatagan.transfer.extents import Extents
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
        self._header: Header = journal.header()
        self._ends = (source, destination)
        self._listener = listener
        self._conditions = conditions or Conditions()
        self._pace = Pace(self._conditions.wall)
        self._clock = self._conditions.clock
        self._commits = GroupCommit(journal, threaded=self._conditions.threaded, pace=self._pace.rows)
        self._carrier = Carrier(self._conditions.tuning, self._clock.monotonic, self._clock.sleep)
        self._scheduler = scheduler.Scheduler(self._conditions.limits, self._conditions.jitter)
        self._events: asyncio.Queue[run_messages.Event] = asyncio.Queue()
        self._tasks: set[asyncio.Task[None]] = set()
        self._stores: tuple[Readable, ...] = ()
        self._closing: list[asyncio.Task[None]] = []
        self._context: StepContext | None = None
        self._worker: StepWorker | None = None
        self._fetched: dict[int, Step] = {}
        #: What the system or a server said of steps that came back.
        self._said: dict[int, str] = {}
        self._stop = asyncio.Event()
        self._opened_before = False
        self._opened_at = 0.0
        self._problem: CannotReach | None = None
        self._stopped_by: StoreError | None = None
        self._free: int | None = None
        self._was_full = self._was_elsewhere = False
        self._failure: BaseException | None = None
        self._settled: run_messages.EndRun | None = None
        self._checks = 0

    def _tell(self, event: Event) -> None:
        self._pace.take(event)
        self._listener(event)

    def stop(self) -> None:
        """Come to a clean stop soon. May be called from a signal handler of the loop."""
        self._events.put_nowait(run_messages.StopRequested(None))

    async def run(self) -> Standing:
        """Run until the batch is settled. Raises JournalError when the journal cannot be written any more."""
        began = self._clock.monotonic()
        fault = self._journal.standing().fault
        self._was_full, self._was_elsewhere = fault is Fault.NO_SPACE, fault in DESTINATION_FAULTS
        self._journal.settle(BatchState.MOVING)
        try:
            self._obey(self._scheduler.handle(run_messages.Begun()))
            while self._settled is None:
                event = await self._events.get()
                if self._failure is not None:
                    raise self._failure
                self._obey(self._scheduler.handle(event))
            await self._commits.finish()
        finally:
            await self._close_all()
        fault, detail = self._settled.fault, str(self._problem.detail) if self._problem else ""
        if self._stopped_by is not None and fault is self._stopped_by.fault:
            detail = os.fsdecode(self._stopped_by.path)
        if fault is Fault.NO_SPACE:
            detail = "" if self._free is None else str(self._free)
        self._journal.spend(self._clock.monotonic() - began, *self._pace.rest())
        self._journal.settle(self._settled.state, fault, detail)
        self._tell(BatchSettled(self._settled.state, fault, detail))
        return self._journal.standing()

    @property
    def stores(self) -> tuple[Readable, ...]:
        """The open ends; empty without a connection."""
        return self._stores

    @property
    def problem(self) -> CannotReach | None:
        """Why the last try to connect failed; None if it did not."""
        return self._problem

    # -- commands ----------------------------------------------------------------------------------------

    def _obey(self, commands: list[run_messages.Command]) -> None:
        for command in commands:
            match command:
                case run_messages.Connect(wait, fault):
                    self._begin(self._open(wait, fault))
                case run_messages.Disconnect():
                    if self._worker is not None:
                        self._carrier.connection_lost(self._clock.monotonic() - self._opened_at)
                    self._worker = None
                    stores, self._stores = self._stores, ()
                    self._closing += [self._begin(_close(store)) for store in stores]
                case run_messages.FetchSteps(after, limit):
                    self._fetch(after, limit)
                case run_messages.StartStep(number, wait):
                    self._begin(self._work(self._fetched[number], wait, self._worker))
                case run_messages.FailStep(number, fault):
                    self._begin(self._give_up(self._fetched[number], fault))
                case run_messages.CheckClaims():
                    self._begin(self._check())
                case run_messages.StopSteps():
                    self._stop.set()
                    self._begin(self._take_the_line())
                case run_messages.EndRun():
                    self._settled = command

    def _begin(self, work: Any) -> asyncio.Task[None]:
        task: asyncio.Task[None] = asyncio.ensure_future(work)
        self._tasks.add(task)
        task.add_done_callback(self._ended)
        return task

    def _ended(self, task: asyncio.Task[None]) -> None:
        self._tasks.discard(task)
        if not task.cancelled() and task.exception() is not None and self._failure is None:
            self._failure = task.exception()
            self._events.put_nowait(run_messages.StopRequested(None))  # wakes the loop, which raises

    def _fetch(self, after: tuple[int, int], limit: int) -> None:
        steps = self._journal.open_steps(after, limit)
        for step in steps:
            self._fetched[step.number] = step
        tickets = tuple(run_messages.Ticket(step.number, step.phase, step.facts.size) for step in steps)
        self._events.put_nowait(run_messages.StepsFetched(tickets, last=len(steps) < limit))

    async def _open(self, wait: float, fault: Fault | None) -> None:
        if fault is not None:
            self._tell(RetryWaiting(wait, fault, self._problem))
            await self._clock.sleep(wait)
        opened: list[Readable] = []
        left = self._journal.size_left()
        try:
            # What is to be carried may be in a bundle that stands for its directory.
            source = SeeThrough(await self._ends[0].open())
            opened.append(source)
            destination = await self._ends[1].open()
            opened.append(destination)
            limited = bool(self._header.max_rate or source.max_rate or destination.max_rate)
            source.expect(left, limited=limited)  # soon, because lanes take a while to open
            destination.expect(left, limited=limited)
            await self._look_at_destination(destination)  # before anything is written there
            await self._refuse_without_room(destination, left)
            hashes_there = await self._hashes_there(destination)
            self._keep_promise(source, destination, hashes_there)
        except (CannotReach, StoreError) as error:
            for store in opened:
                await _close(store)
            self._refused(error)
            return
        except BaseException:  # cancelled: what is open already must not stay so
            for store in opened:
                await _close(store)
            raise
        if self._scheduler.state is scheduler.RunState.ENDED:
            for store in opened:
                await _close(store)
            return
        self._problem = None
        self._stores = (source, destination)
        number = self._journal.new_session(destination.witness())
        destination.note_writers(lambda witness: self._commits.note(SessionWriters(number, witness)))
        caps = [cap for cap in (self._header.max_rate, source.max_rate, destination.max_rate) if cap]
        self._carrier.rate_limit.rate = min(caps, default=None)
        self._pin()
        session = Session(
            number,
            self._header.id,
            self._header.destination,
            self._header.prove,
            self._header.modes,
            self._header.times,
            source,
            destination,
            hashes_there,
        )
        self._context = StepContext(session, self._journal, self._commits, self._tell)
        self._worker = StepWorker(self._context, self._carrier, self._clock, self._stop)
        self._tell(ConnectionOpened(self._opened_before))
        self._opened_before = True
        self._opened_at = self._clock.monotonic()
        self._events.put_nowait(run_messages.Connected())

    async def _refuse_without_room(self, destination: Store, left: int) -> None:
        """Raise StoreError, NO_SPACE, where a disk that was full has no room for what is left."""
        if not (self._was_full and self._conditions.room_first):
            return
        self._free = await destination.free_space(self._header.destination)
        safe = sum(Extents.decode(step.durable).total for step in self._journal.begun())
        if self._free is not None and self._free < left - safe:
            raise StoreError(Fault.NO_SPACE, self._header.destination, store=destination.name)

    def _keep_promise(self, source: Readable, destination: Store, hashes_there: bool) -> None:
        """Raise StoreError if files can no longer be proven as the plan said."""
        promised = self._header.promised
        evidence = evidence_for(self._header.prove, source, destination, hashes_there)
        if promised is None or not promised.is_proof:
            return
        if not evidence.is_proof or (promised is evidence is Evidence.ON_NODE and not (hashes_there or self._near)):
            fault = Fault.OTHER_DISK if destination.machine is not None else Fault.NO_PROOF
            raise StoreError(fault, self._header.destination, store=destination.name)

    @property
    def _near(self) -> bool:
        """Whether the destination is on this machine."""
        return not self._header.destination_node

    async def _look_at_destination(self, destination: Store) -> None:
        """Check the destination, or make it again if that was asked for. Raises StoreError."""
        if self._journal.standing().make_again:
            await make_again(self._journal, destination, self._header.destination)
        await look_at_destination(self._journal, destination, self._header.destination)
        if self._was_elsewhere:
            set_facts_again(self._journal)
            self._was_elsewhere = False

    def _refused(self, error: CannotReach | StoreError) -> None:
        if isinstance(error, StoreError):
            if not isinstance(error, LineLost):  # what we meet before the first step befalls all of them
                self._stopped_by = error
                self._events.put_nowait(run_messages.StopRequested(error.fault))
                return
            error = CannotReach(error.store, "sftp", error.detail or error.fault.value)
        self._problem = error
        self._events.put_nowait(run_messages.ConnectFailed(self._clock.monotonic(), error.passing))

    async def _hashes_there(self, destination: Store) -> bool:
        """Whether the destination's commands see the disk that its store writes to; checked once a session."""
        machine = destination.machine
        if machine is None:
            return False
        top = self._header.destination
        while (await destination.look(top)) is None and len(top) > 1:
            top = top.rpartition(b"/")[0] or b"/"
        try:
            # The name is the batch's own, so that one left behind by a killed process is found again.
            return await machine.same_disk(token_path(top, self._header.id))
        except FileTrouble as error:
            if error.fault is Fault.NO_SPACE:  # not even for a token: nothing is shown by that but a full disk
                self._free = await destination.free_space(top)
                raise
            if error.fault not in (Fault.DENIED, Fault.READ_ONLY):
                return False
            # Nothing can be written just there: then what both say of that directory must do.
            found = await destination.look_closely(top)
            return found is not None and found.inode is not None

    def _pin(self) -> None:
        pins = {name: address for end in self._ends for name, address in end.pins().items()}
        if pins and pins != self._journal.standing().pins:
            self._journal.pin(pins)

    async def _work(self, step: Step, wait: float, worker: StepWorker | None) -> None:
        """Do one step, and report its outcome to the scheduler."""
        number = step.number
        if wait:
            await self._clock.sleep(wait)
        if wait or step.bundle:
            step = self._journal.step(number)
        if step.state in SETTLED:  # a bundle has brought it since it was fetched
            self._fetched.pop(number, None)
            self._events.put_nowait(run_messages.StepEnded(number))
            return
        durable = step.durable
        try:
            if worker is None:
                raise StoreError(Fault.CONNECTION_LOST)
            await worker.do(step)
        except (StoreError, Stopped, RetryStep) as error:
            fault = error.fault if isinstance(error, StoreError | RetryStep) else Fault.CONNECTION_LOST
            if isinstance(error, StoreError):
                self._said[number] = error.detail
            if isinstance(error, StoreError) and fault in STOPPING_FAULTS:
                self._stopped_by = error
                await self._look_at_space(fault)
            await self._commits.note()
            now = self._fetched[number] = self._journal.step(number)
            self._tell(StepPostponed(number, step.label, fault))
            moved = now.durable != durable and now.generation == step.generation
            self._events.put_nowait(run_messages.StepReturned(number, fault, moved, self._clock.monotonic()))
        else:
            self._fetched.pop(number, None)
            self._events.put_nowait(run_messages.StepEnded(number))

    async def _look_at_space(self, fault: Fault) -> None:
        """Note how much is free at the destination, once it was too little."""
        if fault is Fault.NO_SPACE and self._free is None and self._context is not None:
            with contextlib.suppress(StoreError):
                self._free = await self._context.destination.free_space(self._header.destination)

    async def _give_up(self, step: Step, fault: Fault) -> None:
        assert self._context is not None  # only what was tried is given up
        if self._worker is not None:
            with contextlib.suppress(StoreError):
                await self._worker.clear(step)
        detail = self._said.get(step.number, "")
        await self._context.settle(step, StepState.FAILED, fault=fault, detail=detail)
        self._fetched.pop(step.number, None)
        self._events.put_nowait(run_messages.StepEnded(step.number))

    async def _check(self) -> None:
        """Compare what is claimed with the destination, which must still be the directory that was meant."""
        assert self._context is not None
        look, trouble = LastLook(self._context, self._journal), self._journal.sessions() > 1
        destination, top = self._context.destination, self._header.destination
        try:
            await look_at_destination(self._journal, destination, top)
            await look.sync(all_names=trouble)
            again = await look.look(everything=trouble, again=self._checks < _CHECKS)
            self._checks += 1
            if not again:
                await GrowingFiles(self._context).let_go()
                await look_at_destination(self._journal, destination, top)  # the last thing that is asked
                self._journal.looked(int(self._conditions.wall() * 1e9))
        except StoreError as error:
            self._stopped_by = error if not isinstance(error, LineLost) else None
            self._events.put_nowait(run_messages.ClaimsNotChecked(error.fault, self._clock.monotonic()))
        else:
            self._events.put_nowait(run_messages.ClaimsChecked(again))

    async def _take_the_line(self) -> None:
        await self._clock.sleep(_HALT_SECONDS)
        for store in self._stores:
            await _close(store)

    async def _close_all(self) -> None:
        for store in self._stores:
            await _close(store)
        self._stores = ()
        await asyncio.gather(*self._closing, return_exceptions=True)
        for task in list(self._tasks):
            task.cancel()
        await asyncio.gather(*self._tasks, return_exceptions=True)
        if isinstance(self._failure, JournalError):
            with contextlib.suppress(JournalError):
                await self._commits.finish()


async def _close(store: Readable) -> None:
    with contextlib.suppress(StoreError):
        await store.close()
