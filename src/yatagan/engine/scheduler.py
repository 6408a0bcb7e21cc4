"""The runner decides what happens next; it does nothing itself.

Events in, commands out. It holds no clock, no randomness and no files: the time comes with each
event and the jitter from a function that it was given, so a run replays from a seed. `_TABLE` at
the end is the whole of it: for each state of the line, what each event means. An event that the
table does not know is a defect and raises.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from dataclasses import dataclass
from enum import Enum
from typing import Any

from yatagan.batches.states import BatchState
from yatagan.errors import LINE_FAULTS, ROOM_FAULTS, STOPPING_FAULTS, Fault


class RunState(Enum):
    """Where the line stands, as the runner sees it."""

    DOWN = "down"
    OPENING = "opening"
    UP = "up"
    #: Lost, but steps that were using it have not all come back yet.
    BREAKING = "breaking"
    #: Stopping: nothing new is started.
    ENDING = "ending"
    ENDED = "ended"


@dataclass(frozen=True, slots=True)
class Limits:
    """Limits. Times in seconds, weights in bytes.

    `patience`: how long to try without progress. `waits`: between tries, the last one repeated.
    `tries`: how often one step is tried when its own fault may pass.
    """

    patience: float = 600.0
    waits: tuple[float, ...] = (1, 2, 4, 8, 15, 30)
    tries: int = 4
    steps_at_once: int = 128
    weight_at_once: int = 16 << 20
    fetch: int = 512


@dataclass(frozen=True, slots=True)
class Ticket:
    """A step, as far as the runner needs to know it."""

    number: int
    phase: int
    weight: int


# -- events ----------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class Begun:
    """The batch starts or goes on."""


@dataclass(frozen=True, slots=True)
class Connected:
    """Both ends are open."""


@dataclass(frozen=True, slots=True)
class ConnectFailed:
    """A try to open the line failed. `person`: it needs somebody to answer."""

    now: float
    passing: bool
    person: bool


@dataclass(frozen=True, slots=True)
class StepsFetched:
    """Steps that were asked for; `last` when there are no more after them."""

    tickets: tuple[Ticket, ...]
    last: bool


@dataclass(frozen=True, slots=True)
class StepEnded:
    """A step is settled."""

    number: int


@dataclass(frozen=True, slots=True)
class StepReturned:
    """A step was not done, for a reason that may pass. `moved`: more of it is on disk than before."""

    number: int
    fault: Fault
    moved: bool
    now: float


@dataclass(frozen=True, slots=True)
class StopRequested:
    """Stop: somebody asked, or going on makes no sense."""

    fault: Fault | None


Event = Begun | Connected | ConnectFailed | StepsFetched | StepEnded | StepReturned | StopRequested

# -- commands --------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class Connect:
    """Open both ends, after a wait."""

    wait: float
    fault: Fault | None


@dataclass(frozen=True, slots=True)
class Disconnect:
    """Let go of both ends: at least one is of no more use."""


@dataclass(frozen=True, slots=True)
class FetchSteps:
    """Hand over the next steps after this (phase, number)."""

    after: tuple[int, int]
    limit: int


@dataclass(frozen=True, slots=True)
class StartStep:
    """Work on a step."""

    number: int
    wait: float


@dataclass(frozen=True, slots=True)
class FailStep:
    """Write a step off as failed."""

    number: int
    fault: Fault


@dataclass(frozen=True, slots=True)
class StopSteps:
    """Ask the steps that are being worked on to come to a clean stop."""


@dataclass(frozen=True, slots=True)
class EndRun:
    """The end of this run."""

    state: BatchState
    fault: Fault | None


Command = Connect | Disconnect | FetchSteps | StartStep | FailStep | StopSteps | EndRun


class Scheduler:
    """See the module. `jitter` gives numbers in [0, 1)."""

    def __init__(self, policy: Limits, jitter: Callable[[], float]) -> None:
        self._policy = policy
        self._jitter = jitter
        self.line = RunState.DOWN
        self._queue: deque[Ticket] = deque()
        self._working: dict[int, Ticket] = {}
        self._weight = 0
        self._tries: dict[int, int] = {}
        self._cursor = (-1, -1)
        self._fetching = False
        self._all_fetched = False
        self._lost_at: float | None = None
        self._failures = 0
        self._stop: tuple[BatchState, Fault | None] | None = None

    def handle(self, event: Event) -> list[Command]:
        """What to do about an event."""
        return _TABLE[self.line, type(event)](self, event)

    # -- the line ----------------------------------------------------------------------------------------

    def _begin(self, event: Begun) -> list[Command]:
        self.line = RunState.OPENING
        return [Connect(0, None)]

    def _line_up(self, event: Connected) -> list[Command]:
        self.line = RunState.UP
        return self._fill()

    def _line_refused(self, event: ConnectFailed) -> list[Command]:
        if event.person:
            return self._end(BatchState.NEEDS_LOGIN, None)
        if not event.passing:
            return self._end(BatchState.INTERRUPTED, Fault.LINE_LOST)
        return self._open_again(event.now, Fault.LINE_LOST)

    def _open_again(self, now: float, fault: Fault) -> list[Command]:
        if self._lost_at is None:
            self._lost_at = now
        if now - self._lost_at >= self._policy.patience:
            return self._end(BatchState.INTERRUPTED, fault)
        waits = self._policy.waits
        wait = waits[min(self._failures, len(waits) - 1)]
        self._failures += 1
        self.line = RunState.OPENING
        left = self._policy.patience - (now - self._lost_at)
        return [Connect(min(wait * (0.8 + 0.4 * self._jitter()), left), fault)]

    def _progress(self) -> None:
        self._lost_at = None
        self._failures = 0

    # -- steps -------------------------------------------------------------------------------------------

    def _fetched(self, event: StepsFetched) -> list[Command]:
        self._fetching = False
        self._all_fetched = event.last
        self._queue.extend(event.tickets)
        if event.tickets:
            self._cursor = (event.tickets[-1].phase, event.tickets[-1].number)
        return self._fill() if self.line is RunState.UP else []

    def _fill(self) -> list[Command]:
        """Start what may be started; ask for more when the queue runs low; end when nothing is left."""
        commands: list[Command] = []
        while self._queue and self._has_room(self._queue[0]):
            ticket = self._queue.popleft()
            self._working[ticket.number] = ticket
            self._weight += ticket.weight
            commands.append(StartStep(ticket.number, 0))
        if not self._all_fetched and not self._fetching and len(self._queue) < self._policy.fetch // 2:
            self._fetching = True
            commands.append(FetchSteps(self._cursor, self._policy.fetch))
        if self._all_fetched and not self._queue and not self._working:
            commands += self._end(BatchState.FINISHED, None)
        return commands

    def _has_room(self, ticket: Ticket) -> bool:
        if not self._working:
            return True
        phase = next(iter(self._working.values())).phase
        if ticket.phase != phase or len(self._working) >= self._policy.steps_at_once:
            return False
        return self._weight + ticket.weight <= self._policy.weight_at_once

    def _drop(self, number: int) -> Ticket:
        ticket = self._working.pop(number)
        self._weight -= ticket.weight
        return ticket

    def _step_ended(self, event: StepEnded) -> list[Command]:
        self._drop(event.number)
        self._tries.pop(event.number, None)
        self._progress()
        return self._fill()

    def _step_back(self, event: StepReturned) -> list[Command]:
        if event.moved:
            self._progress()
        if event.fault in LINE_FAULTS:
            self._queue.appendleft(self._drop(event.number))
            self.line = RunState.BREAKING
            return [Disconnect(), *self._broken(event.fault, event.now)]
        if event.fault in STOPPING_FAULTS:
            self._queue.appendleft(self._drop(event.number))
            return self._stop_asked(StopRequested(event.fault))
        tries = self._tries[event.number] = self._tries.get(event.number, 0) + 1
        if tries >= self._policy.tries:
            return [FailStep(event.number, event.fault)]
        # The step keeps its slot while it waits.
        return [StartStep(event.number, self._policy.waits[min(tries - 1, len(self._policy.waits) - 1)])]

    # -- a line that is breaking -------------------------------------------------------------------------

    def _broken(self, fault: Fault, now: float) -> list[Command]:
        return [] if self._working else self._open_again(now, fault)

    def _ended_while_breaking(self, event: StepEnded) -> list[Command]:
        self._drop(event.number)
        self._progress()
        # Without a time of its own this event cannot start the clock: a try at once is the next best.
        if self._working:
            return []
        self.line = RunState.OPENING
        return [Connect(0, Fault.LINE_LOST)]

    def _back_while_breaking(self, event: StepReturned) -> list[Command]:
        if event.moved:
            self._progress()
        self._queue.appendleft(self._drop(event.number))
        return self._broken(event.fault if event.fault in LINE_FAULTS else Fault.LINE_LOST, event.now)

    # -- the end -----------------------------------------------------------------------------------------

    def _stop_asked(self, event: StopRequested) -> list[Command]:
        held = event.fault in ROOM_FAULTS
        self._stop = (BatchState.HELD if held else BatchState.INTERRUPTED, event.fault)
        self.line = RunState.ENDING
        return [StopSteps(), *self._ended()]

    def _ended(self) -> list[Command]:
        if self._working or self._stop is None:
            return []
        return self._end(*self._stop)

    def _gone_while_ending(self, event: StepEnded | StepReturned) -> list[Command]:
        self._drop(event.number)
        return self._ended()

    def _end(self, state: BatchState, fault: Fault | None) -> list[Command]:
        self.line = RunState.ENDED
        return [Disconnect(), EndRun(state, fault)]

    def _nothing(self, event: Event) -> list[Command]:
        return []


_TABLE: dict[tuple[RunState, type], Callable[[Scheduler, Any], list[Command]]] = {
    (RunState.DOWN, Begun): Scheduler._begin,
    (RunState.DOWN, StopRequested): Scheduler._stop_asked,
    (RunState.OPENING, Connected): Scheduler._line_up,
    (RunState.OPENING, ConnectFailed): Scheduler._line_refused,
    (RunState.OPENING, StepsFetched): Scheduler._fetched,
    (RunState.OPENING, StopRequested): Scheduler._stop_asked,
    (RunState.UP, StepsFetched): Scheduler._fetched,
    (RunState.UP, StepEnded): Scheduler._step_ended,
    (RunState.UP, StepReturned): Scheduler._step_back,
    (RunState.UP, StopRequested): Scheduler._stop_asked,
    (RunState.BREAKING, StepsFetched): Scheduler._fetched,
    (RunState.BREAKING, StepEnded): Scheduler._ended_while_breaking,
    (RunState.BREAKING, StepReturned): Scheduler._back_while_breaking,
    (RunState.BREAKING, StopRequested): Scheduler._stop_asked,
    (RunState.ENDING, StepsFetched): Scheduler._nothing,
    (RunState.ENDING, Connected): Scheduler._nothing,
    (RunState.ENDING, ConnectFailed): Scheduler._nothing,
    (RunState.ENDING, StepEnded): Scheduler._gone_while_ending,
    (RunState.ENDING, StepReturned): Scheduler._gone_while_ending,
    (RunState.ENDING, StopRequested): Scheduler._nothing,
    (RunState.ENDED, StepsFetched): Scheduler._nothing,
    (RunState.ENDED, Connected): Scheduler._nothing,
    (RunState.ENDED, ConnectFailed): Scheduler._nothing,
    (RunState.ENDED, StepEnded): Scheduler._nothing,
    (RunState.ENDED, StepReturned): Scheduler._nothing,
    (RunState.ENDED, StopRequested): Scheduler._nothing,
}
