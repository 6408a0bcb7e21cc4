"""What a batch reports to its listeners. Plain objects; a state is in the journal before its event is sent."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from yatagan.batches.states import BatchState, Evidence, StepState
from yatagan.batches.steps import StepKind
from yatagan.errors import CannotReach
from yatagan.faults import Fault


@dataclass(frozen=True, slots=True)
class ConnectionOpened:
    """Both ends are connected; `again` after a connection was lost."""

    again: bool


@dataclass(frozen=True, slots=True)
class RetryWaiting:
    """The connection is lost; the next try comes after `seconds`. `error`: why the last try failed, if it did."""

    seconds: float
    fault: Fault | None
    error: CannotReach | None


@dataclass(frozen=True, slots=True)
class StepStarted:
    """A step is being worked on; `done` bytes of it were there already."""

    number: int
    kind: StepKind
    label: bytes
    size: int
    done: int


@dataclass(frozen=True, slots=True)
class BytesMoved:
    """`count` more bytes of a step were acknowledged."""

    number: int
    count: int


@dataclass(frozen=True, slots=True)
class BundleMade:
    """A bundle is being made of a directory: `done` of `size` bytes are in it."""

    number: int
    label: bytes
    done: int
    size: int


@dataclass(frozen=True, slots=True)
class PartsFound:
    """`there` of a step's `size` bytes are in the file that it replaces, and are not sent.

    `growing`: it was looked for at the beginning only.
    """

    number: int
    label: bytes
    size: int
    there: int
    growing: bool = False


@dataclass(frozen=True, slots=True)
class StepProven:
    """The contents of a step's part file are proven; it has no final name yet."""

    number: int


@dataclass(frozen=True, slots=True)
class StepSettled:
    """A step is settled."""

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
class StepReopened:
    """A step that was in place is to be done again: what it had put there is gone."""

    number: int
    kind: StepKind
    size: int


@dataclass(frozen=True, slots=True)
class LookedAgain:
    """The last look at the destination: of `looked_at` names, how many were `gone` and how many `changed`."""

    looked_at: int
    gone: int
    changed: int


@dataclass(frozen=True, slots=True)
class Note:
    """Something to report that is no failure, such as a fact that could not be set."""

    label: bytes
    fault: Fault
    detail: str


@dataclass(frozen=True, slots=True)
class Quiet:
    """A node has answered nothing for `seconds`, though it was asked; 0 when it answers again."""

    node: str
    seconds: float


@dataclass(frozen=True, slots=True)
class Ageing:
    """The batch waits until a change to a new file would show in its times."""

    seconds: float


@dataclass(frozen=True, slots=True)
class BatchSettled:
    """The run has ended, with the state of the batch."""

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
    | StepProven
    | StepSettled
    | StepPostponed
    | StepReopened
    | LookedAgain
    | Note
    | Quiet
    | Ageing
    | BatchSettled
)
Listener = Callable[[Event], None]
