"""What a batch tells whoever listens. Plain objects; a state is in the journal before its event is sent."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from yatagan.batches.states import BatchState, Evidence, StepState
from yatagan.batches.steps import StepKind
from yatagan.errors import CannotReach, Fault


@dataclass(frozen=True, slots=True)
class ConnectionOpened:
    """Both ends can be reached. `again` after a connection was lost."""

    again: bool


@dataclass(frozen=True, slots=True)
class RetryWaiting:
    """The connection is gone; the next try comes after `seconds`. `error` when the last try did not get through."""

    seconds: float
    fault: Fault | None
    error: CannotReach | None


@dataclass(frozen=True, slots=True)
class StepStarted:
    """A step is being worked on; `done` bytes of it were already there."""

    number: int
    kind: StepKind
    label: bytes
    size: int
    done: int


@dataclass(frozen=True, slots=True)
class BytesMoved:
    """That many more bytes of a step were acknowledged."""

    number: int
    count: int


@dataclass(frozen=True, slots=True)
class BundleMade:
    """A bundle is being made of a step's directory: `done` of `size` bytes have gone in."""

    number: int
    label: bytes
    done: int
    size: int


@dataclass(frozen=True, slots=True)
class PartsFound:
    """Of a step's `size` bytes so many are in what it replaces, and are not sent; none where that does not pay."""

    number: int
    label: bytes
    size: int
    there: int


@dataclass(frozen=True, slots=True)
class StepSettled:
    """A step is done with."""

    number: int
    kind: StepKind
    label: bytes
    size: int
    state: StepState
    evidence: Evidence | None
    fault: Fault | None
    detail: str


@dataclass(frozen=True, slots=True)
class StepPostponed:
    """A step goes back to waiting; its bytes no longer count as done."""

    number: int
    label: bytes
    fault: Fault


@dataclass(frozen=True, slots=True)
class Note:
    """Something worth a line that is no failure, such as a fact that could not be set."""

    label: bytes
    fault: Fault
    detail: str


@dataclass(frozen=True, slots=True)
class Ageing:
    """New files are given time until a change to them could no longer hide."""

    seconds: float


@dataclass(frozen=True, slots=True)
class BatchSettled:
    """The batch has stopped or ended."""

    state: BatchState
    fault: Fault | None
    detail: str


Event = (
    ConnectionOpened
    | RetryWaiting
    | StepStarted
    | BytesMoved
    | BundleMade
    | PartsFound
    | StepSettled
    | StepPostponed
    | Note
    | Ageing
    | BatchSettled
)
Listener = Callable[[Event], None]
