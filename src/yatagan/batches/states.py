"""The states of a step and of a batch, and every transition that is allowed. No I/O.

What decides whether a transition may happen lives in this file alone: the journal refuses any
other, for every caller. A step's way is

    waiting -> moving -> arrived -> proven -> in place

`arrived`: every byte is acknowledged in the part file and every write answered. `proven`: the digest
agrees, and the evidence is named. `in place`: the part file has its final name. Where no
proof was asked for, or none can be had, `arrived` goes straight to `in place`.
"""

from __future__ import annotations

from enum import StrEnum


class StepState(StrEnum):
    """The state of a step."""

    WAITING = "waiting"
    MOVING = "moving"
    ARRIVED = "arrived"
    PROVEN = "proven"
    IN_PLACE = "in place"
    LEFT = "left as is"
    NOT_CARRIED = "not carried"
    FAILED = "failed"


class BatchState(StrEnum):
    """The state of a batch."""

    #: It waits for its turn, or for a time at which it is tried again.
    QUEUED = "queued"
    MOVING = "moving"
    NEEDS_LOGIN = "needs a login"
    INTERRUPTED = "interrupted"
    #: A person must say that it goes on: one has held it, or it met what no retry can help.
    HELD = "held"
    CANCELLED = "cancelled"
    FINISHED = "finished"


class Evidence(StrEnum):
    """How we know what the destination holds."""

    ON_NODE = "on-node"
    READ_BACK = "read-back"
    ON_ARRIVAL = "on-arrival"
    #: By a digest that was made earlier, of a file of which neither size, times nor inode have moved since.
    REMEMBERED = "remembered"
    SIZE_AND_TIME = "size and time"
    SENT = "sent"

    @property
    def is_proof(self) -> bool:
        """Whether the contents were looked at."""
        return self in (Evidence.ON_NODE, Evidence.READ_BACK, Evidence.ON_ARRIVAL)


_S = StepState
_B = BatchState

STEP_MOVES: dict[StepState, frozenset[StepState]] = {
    _S.WAITING: frozenset({_S.MOVING, _S.IN_PLACE, _S.LEFT, _S.FAILED}),
    # Back to waiting when the connection or the source fails. Straight to its place: directories and links,
    # which are made in one request and have no part file.
    _S.MOVING: frozenset({_S.WAITING, _S.ARRIVED, _S.IN_PLACE, _S.LEFT, _S.FAILED}),
    _S.ARRIVED: frozenset({_S.PROVEN, _S.IN_PLACE, _S.MOVING, _S.WAITING, _S.LEFT, _S.FAILED}),
    _S.PROVEN: frozenset({_S.IN_PLACE, _S.MOVING, _S.WAITING, _S.LEFT, _S.FAILED}),
    # Where the destination is gone, what was in it is carried again, on purpose.
    _S.IN_PLACE: frozenset({_S.WAITING}),
    _S.LEFT: frozenset({_S.WAITING}),
    _S.NOT_CARRIED: frozenset(),
    # Tried again when the batch is resumed on purpose.
    _S.FAILED: frozenset({_S.WAITING}),
}

BATCH_MOVES: dict[BatchState, frozenset[BatchState]] = {
    _B.QUEUED: frozenset({_B.MOVING, _B.INTERRUPTED, _B.NEEDS_LOGIN, _B.HELD, _B.CANCELLED}),
    # Queued, held and cancelled: of a process that has died.
    _B.MOVING: frozenset({_B.QUEUED, _B.INTERRUPTED, _B.HELD, _B.NEEDS_LOGIN, _B.FINISHED, _B.CANCELLED}),
    _B.HELD: frozenset({_B.QUEUED, _B.MOVING, _B.CANCELLED}),
    _B.NEEDS_LOGIN: frozenset({_B.QUEUED, _B.MOVING, _B.HELD, _B.CANCELLED}),
    _B.INTERRUPTED: frozenset({_B.QUEUED, _B.MOVING, _B.HELD, _B.CANCELLED}),
    # A new plan has taken its place, or it was given up.
    _B.CANCELLED: frozenset(),
    # Its failed steps may be tried again; until they are, it is interrupted.
    _B.FINISHED: frozenset({_B.QUEUED, _B.MOVING, _B.INTERRUPTED}),
}

#: A step in one of these is done with, whatever the outcome.
SETTLED = frozenset({_S.IN_PLACE, _S.LEFT, _S.NOT_CARRIED, _S.FAILED})

#: A batch in one of these does nothing by itself any more.
ENDED = frozenset({_B.FINISHED, _B.CANCELLED})

#: A batch in one of these is carried by a process, or waits in the queue; else it was interrupted.
CARRIED = frozenset({_B.QUEUED, _B.MOVING})


def may_move(old: StepState, new: StepState) -> bool:
    """Whether a step may go from one state to another. Staying is always allowed."""
    return old is new or new in STEP_MOVES[old]


def batch_may_move(old: BatchState, new: BatchState) -> bool:
    """Whether a batch may go from one state to another."""
    return old is new or new in BATCH_MOVES[old]
