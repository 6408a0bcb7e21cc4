"""The scheduler decides what happens next in a run; it does nothing itself.

Events in, commands out. It holds no clock, no randomness and no files: the time comes with each event and the jitter
from a function that it was given, so a run replays from a seed.

`TABLE`, at the end, is the whole of it. For each state and event it names the function that takes the event in and says
what the situation is; for each situation, the next state and the commands. An event or a situation that is not in the
table is a defect and raises KeyError. docs/reference/states.md is printed from it.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any

from yatagan.batches.states import BatchState
from yatagan.engine.retry import ConnectionRetries, RetryPolicy
from yatagan.engine.run_messages import (
    Begun,
    CheckClaims,
    ClaimsChecked,
    ClaimsNotChecked,
    Command,
    Connect,
    Connected,
    ConnectFailed,
    Disconnect,
    EndRun,
    Event,
    FailStep,
    FetchSteps,
    StartStep,
    StepEnded,
    StepReturned,
    StepsFetched,
    StopRequested,
    StopSteps,
    Ticket,
)
from yatagan.faults import CONNECTION_FAULTS, STOPPING_FAULTS, Fault


class RunState(StrEnum):
    """Where a run stands."""

    NEW = "new"
    CONNECTING = "connecting"
    RUNNING = "running"
    #: All steps are settled, and what they claim is checked against the destination.
    CHECKING = "checking"
    #: The connection is lost, and steps that used it have not all come back yet.
    DISCONNECTING = "disconnecting"
    #: Nothing new is started; steps come to a clean stop.
    STOPPING = "stopping"
    ENDED = "ended"


@dataclass(frozen=True, slots=True)
class Limits:
    """How much goes on at once: steps, their bytes, and steps that are fetched in one go."""

    steps_at_once: int = 128
    bytes_at_once: int = 16 << 20
    fetch: int = 512
    retry: RetryPolicy = field(default_factory=RetryPolicy)


class Situation(StrEnum):
    """What an event means in the state in which it arrives."""

    ANY = "in any case"
    STEPS_LEFT = "steps are left"
    NOTHING_LEFT = "no step is left"
    RETRY = "a retry may help"
    PATIENCE_OVER = "there was no progress for as long as patience lasts"
    NEEDS_PERSON = "the login needs a person"
    STEP_RETRY = "the step has tries left"
    STEP_FAILED = "it was the step's last try"
    OTHERS_AT_WORK = "other steps are being worked on"
    LOST_OTHERS_AT_WORK = "the connection is lost, other steps are being worked on"
    NONE_AT_WORK = "no step is being worked on"
    STOP_OTHERS_AT_WORK = "the batch cannot go on, other steps are being worked on"
    STOP_NONE_AT_WORK = "the batch cannot go on, no step is being worked on"


class Scheduler:
    """See the module. `jitter` gives numbers in [0, 1)."""

    def __init__(self, limits: Limits, jitter: Callable[[], float]) -> None:
        self.state = RunState.NEW
        self._limits = limits
        self._retries = ConnectionRetries(limits.retry, jitter)
        self._queue: deque[Ticket] = deque()
        self._working: dict[int, Ticket] = {}
        self._bytes_working = 0
        self._tries: dict[int, int] = {}
        self._fetched_to = (-1, -1)
        self._fetching = False
        self._all_fetched = False
        #: Why the connection was lost.
        self._lost_by = Fault.CONNECTION_LOST
        #: What the batch comes to when the run ends.
        self._end: tuple[BatchState, Fault | None] = (BatchState.FINISHED, None)

    def handle(self, event: Event) -> list[Command]:
        """What to do about an event."""
        take_in, outcomes = TABLE[self.state, type(event)]
        self.state, commands = outcomes[take_in(self, event)]
        return [command for make in commands for command in make(self, event)]

    # -- taking an event in: what is the situation? ------------------------------------------------------

    def _as_it_is(self, event: Event) -> Situation:
        return Situation.ANY

    def _work_left(self, event: Event) -> Situation:
        return Situation.STEPS_LEFT if self._queue or self._working or not self._all_fetched else Situation.NOTHING_LEFT

    def _connect_failed(self, event: ConnectFailed) -> Situation:
        if not event.passing:
            self._end = (BatchState.NEEDS_LOGIN, None)
            return Situation.NEEDS_PERSON
        return self._lost(event.now, Fault.CONNECTION_LOST)

    def _lost(self, now: float, fault: Fault) -> Situation:
        self._lost_by = fault
        if self._retries.may_retry(now):
            return Situation.RETRY
        self._end = (BatchState.INTERRUPTED, fault)
        return Situation.PATIENCE_OVER

    def _queue_steps(self, event: StepsFetched) -> Situation:
        self._fetching = False
        self._all_fetched = event.last
        self._queue.extend(event.tickets)
        if event.tickets:
            self._fetched_to = (event.tickets[-1].phase, event.tickets[-1].number)
        return Situation.ANY

    def _queue_more(self, event: StepsFetched) -> Situation:
        self._queue_steps(event)
        return self._work_left(event)

    def _checked(self, event: ClaimsChecked) -> Situation:
        if event.again:
            self._fetched_to, self._all_fetched = (-1, -1), False
        return self._work_left(event)

    def _check_failed(self, event: ClaimsNotChecked) -> Situation:
        if event.fault in CONNECTION_FAULTS:
            return self._lost(event.now, event.fault)
        self._note_stop(event.fault)
        return Situation.STOP_NONE_AT_WORK

    def _step_done(self, event: StepEnded) -> Situation:
        self._take_back(event.number)
        self._tries.pop(event.number, None)
        self._retries.progress()
        return self._work_left(event)

    def _step_returned(self, event: StepReturned) -> Situation:
        if event.moved:
            self._retries.progress()
        if event.fault in CONNECTION_FAULTS:
            self._queue.appendleft(self._take_back(event.number))
            return Situation.LOST_OTHERS_AT_WORK if self._working else self._lost(event.now, event.fault)
        if event.fault in STOPPING_FAULTS:
            self._queue.appendleft(self._take_back(event.number))
            self._note_stop(event.fault)
            return Situation.STOP_OTHERS_AT_WORK if self._working else Situation.STOP_NONE_AT_WORK
        # A step that is tried again keeps its place among those that are worked on.
        tries = self._tries[event.number] = self._tries.get(event.number, 0) + 1
        retries = self._limits.retry.steps.get(event.fault)
        return Situation.STEP_RETRY if retries is not None and tries < retries.tries else Situation.STEP_FAILED

    def _done_while_disconnecting(self, event: StepEnded) -> Situation:
        self._take_back(event.number)
        self._retries.progress()
        return self._others()

    def _back_while_disconnecting(self, event: StepReturned) -> Situation:
        if event.moved:
            self._retries.progress()
        self._queue.appendleft(self._take_back(event.number))
        if self._working:
            return Situation.OTHERS_AT_WORK
        return self._lost(event.now, event.fault if event.fault in CONNECTION_FAULTS else Fault.CONNECTION_LOST)

    def _stop(self, event: StopRequested) -> Situation:
        self._note_stop(event.fault)
        return self._others()

    def _note_stop(self, fault: Fault | None) -> None:
        self._end = (BatchState.HELD if fault is not None else BatchState.INTERRUPTED, fault)

    def _back_while_stopping(self, event: StepEnded | StepReturned) -> Situation:
        self._take_back(event.number)
        return self._others()

    def _others(self) -> Situation:
        return Situation.OTHERS_AT_WORK if self._working else Situation.NONE_AT_WORK

    def _take_back(self, number: int) -> Ticket:
        ticket = self._working.pop(number)
        self._bytes_working -= ticket.size
        return ticket

    # -- making commands ---------------------------------------------------------------------------------

    def connect(self, event: Event) -> list[Command]:
        """Connect, at once for the first time, after the backoff when it failed."""
        if isinstance(event, ConnectFailed | StepReturned | ClaimsNotChecked):
            return [Connect(self._retries.next_wait(event.now), self._lost_by)]
        # The end of a step brings no time that could start the clock of patience: a try at once is the next best.
        return [Connect(0, Fault.CONNECTION_LOST if isinstance(event, StepEnded) else None)]

    def disconnect(self, event: Event) -> list[Command]:
        """Disconnect."""
        return [Disconnect()]

    def start_steps(self, event: Event) -> list[Command]:
        """Start the steps for which there is room."""
        started: list[Command] = []
        while self._queue and self._has_room(self._queue[0]):
            ticket = self._queue.popleft()
            self._working[ticket.number] = ticket
            self._bytes_working += ticket.size
            started.append(StartStep(ticket.number, 0))
        return started

    def _has_room(self, ticket: Ticket) -> bool:
        """Steps of one phase go on together; a step that is larger than all bytes at once goes alone."""
        if not self._working:
            return True
        phase = next(iter(self._working.values())).phase
        if ticket.phase != phase or len(self._working) >= self._limits.steps_at_once:
            return False
        return self._bytes_working + ticket.size <= self._limits.bytes_at_once

    def fetch_steps(self, event: Event) -> list[Command]:
        """Fetch more steps when the queue runs low."""
        if self._all_fetched or self._fetching or len(self._queue) >= self._limits.fetch // 2:
            return []
        self._fetching = True
        return [FetchSteps(self._fetched_to, self._limits.fetch)]

    def retry_step(self, event: StepReturned) -> list[Command]:
        """Start the step again after its backoff."""
        return [StartStep(event.number, self._limits.retry.steps[event.fault].wait_after(self._tries[event.number]))]

    def fail_step(self, event: StepReturned) -> list[Command]:
        """Settle the step as failed."""
        return [FailStep(event.number, event.fault)]

    def check(self, event: Event) -> list[Command]:
        """Hold what is claimed against the destination."""
        return [CheckClaims()]

    def stop_steps(self, event: Event) -> list[Command]:
        """Ask the steps that are being worked on to stop."""
        return [StopSteps()]

    def end_run(self, event: Event) -> list[Command]:
        """End the run."""
        return [EndRun(*self._end)]


TakeIn = Callable[[Scheduler, Any], Situation]
Make = Callable[[Scheduler, Any], list[Command]]
Outcomes = dict[Situation, tuple[RunState, tuple[Make, ...]]]

_R, _S, _D = RunState, Situation, Scheduler
_END: tuple[RunState, tuple[Make, ...]] = (_R.ENDED, (_D.disconnect, _D.end_run))
_WORK: Outcomes = {
    _S.STEPS_LEFT: (_R.RUNNING, (_D.start_steps, _D.fetch_steps)),
    _S.NOTHING_LEFT: (_R.CHECKING, (_D.check,)),
}
_STOP: Outcomes = {
    _S.OTHERS_AT_WORK: (_R.STOPPING, (_D.stop_steps,)),
    _S.NONE_AT_WORK: (_R.ENDED, (_D.stop_steps, _D.disconnect, _D.end_run)),
}
_LAST_STEPS: Outcomes = {_S.OTHERS_AT_WORK: (_R.STOPPING, ()), _S.NONE_AT_WORK: _END}


def _nothing(state: RunState) -> tuple[TakeIn, Outcomes]:
    return _D._as_it_is, {_S.ANY: (state, ())}


TABLE: dict[tuple[RunState, type], tuple[TakeIn, Outcomes]] = {
    (_R.NEW, Begun): (_D._as_it_is, {_S.ANY: (_R.CONNECTING, (_D.connect,))}),
    (_R.NEW, StopRequested): (_D._stop, _STOP),
    (_R.CONNECTING, Connected): (_D._work_left, _WORK),
    (_R.CONNECTING, ConnectFailed): (
        _D._connect_failed,
        {
            _S.RETRY: (_R.CONNECTING, (_D.connect,)),
            _S.PATIENCE_OVER: _END,
            _S.NEEDS_PERSON: _END,
        },
    ),
    (_R.CONNECTING, StepsFetched): (_D._queue_steps, {_S.ANY: (_R.CONNECTING, ())}),
    (_R.CONNECTING, StopRequested): (_D._stop, _STOP),
    (_R.RUNNING, StepsFetched): (_D._queue_more, _WORK),
    (_R.RUNNING, StepEnded): (_D._step_done, _WORK),
    (_R.RUNNING, StepReturned): (
        _D._step_returned,
        {
            _S.LOST_OTHERS_AT_WORK: (_R.DISCONNECTING, (_D.disconnect,)),
            _S.RETRY: (_R.CONNECTING, (_D.disconnect, _D.connect)),
            _S.PATIENCE_OVER: _END,
            _S.STOP_OTHERS_AT_WORK: _STOP[_S.OTHERS_AT_WORK],
            _S.STOP_NONE_AT_WORK: _STOP[_S.NONE_AT_WORK],
            _S.STEP_RETRY: (_R.RUNNING, (_D.retry_step,)),
            _S.STEP_FAILED: (_R.RUNNING, (_D.fail_step,)),
        },
    ),
    (_R.RUNNING, StopRequested): (_D._stop, _STOP),
    (_R.CHECKING, ClaimsChecked): (_D._checked, {_S.STEPS_LEFT: _WORK[_S.STEPS_LEFT], _S.NOTHING_LEFT: _END}),
    (_R.CHECKING, ClaimsNotChecked): (
        _D._check_failed,
        {
            _S.RETRY: (_R.CONNECTING, (_D.disconnect, _D.connect)),
            _S.PATIENCE_OVER: _END,
            _S.STOP_NONE_AT_WORK: _STOP[_S.NONE_AT_WORK],
        },
    ),
    (_R.CHECKING, StopRequested): (_D._stop, _STOP),
    (_R.DISCONNECTING, StepsFetched): (_D._queue_steps, {_S.ANY: (_R.DISCONNECTING, ())}),
    (_R.DISCONNECTING, StepEnded): (
        _D._done_while_disconnecting,
        {_S.OTHERS_AT_WORK: (_R.DISCONNECTING, ()), _S.NONE_AT_WORK: (_R.CONNECTING, (_D.connect,))},
    ),
    (_R.DISCONNECTING, StepReturned): (
        _D._back_while_disconnecting,
        {
            _S.OTHERS_AT_WORK: (_R.DISCONNECTING, ()),
            _S.RETRY: (_R.CONNECTING, (_D.connect,)),
            _S.PATIENCE_OVER: _END,
        },
    ),
    (_R.DISCONNECTING, StopRequested): (_D._stop, _STOP),
    (_R.STOPPING, StepEnded): (_D._back_while_stopping, _LAST_STEPS),
    (_R.STOPPING, StepReturned): (_D._back_while_stopping, _LAST_STEPS),
    # What arrives too late is ignored.
    **{(_R.STOPPING, late): _nothing(_R.STOPPING) for late in (Connected, ConnectFailed, StepsFetched, StopRequested)},
    **{
        (_R.ENDED, late): _nothing(_R.ENDED)
        for late in (
            Connected,
            ConnectFailed,
            StepsFetched,
            StepEnded,
            StepReturned,
            ClaimsChecked,
            ClaimsNotChecked,
            StopRequested,
        )
    },
}
