"""Messages to the scheduler about a run (events), and its answers (commands). Plain values."""

from __future__ import annotations

from dataclasses import dataclass

from yatagan.batches.states import BatchState
from yatagan.faults import Fault


@dataclass(frozen=True, slots=True)
class Ticket:
    """What the scheduler needs to know of a step. `size` in bytes."""

    number: int
    phase: int
    size: int


# -- events ----------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class Begun:
    """The batch starts or goes on."""


@dataclass(frozen=True, slots=True)
class Connected:
    """Both ends are open."""


@dataclass(frozen=True, slots=True)
class ConnectFailed:
    """A try to connect failed. `passing`: a retry may help; else a person must do something about the login."""

    now: float
    passing: bool


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
    """Stop: on request, or because going on makes no sense."""

    fault: Fault | None


@dataclass(frozen=True, slots=True)
class ClaimsChecked:
    """The destination was looked at. `again`: some of what was settled is to be done again."""

    again: bool


@dataclass(frozen=True, slots=True)
class ClaimsNotChecked:
    """The destination could not be looked at."""

    fault: Fault
    now: float


Event = (
    Begun
    | Connected
    | ConnectFailed
    | StepsFetched
    | StepEnded
    | StepReturned
    | ClaimsChecked
    | ClaimsNotChecked
    | StopRequested
)

# -- commands --------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class Connect:
    """Open both ends after `wait` seconds."""

    wait: float
    fault: Fault | None


@dataclass(frozen=True, slots=True)
class Disconnect:
    """Close both ends: at least one is of no more use."""


@dataclass(frozen=True, slots=True)
class FetchSteps:
    """Hand over the next steps after this (phase, number)."""

    after: tuple[int, int]
    limit: int


@dataclass(frozen=True, slots=True)
class StartStep:
    """Work on a step after `wait` seconds."""

    number: int
    wait: float


@dataclass(frozen=True, slots=True)
class FailStep:
    """Settle a step as failed."""

    number: int
    fault: Fault


@dataclass(frozen=True, slots=True)
class CheckClaims:
    """Hold what is claimed against the destination."""


@dataclass(frozen=True, slots=True)
class StopSteps:
    """Ask the steps that are being worked on to come to a clean stop."""


@dataclass(frozen=True, slots=True)
class EndRun:
    """The end of this run."""

    state: BatchState
    fault: Fault | None


Command = Connect | Disconnect | FetchSteps | StartStep | FailStep | CheckClaims | StopSteps | EndRun
