"""What becomes of a batch in the queue: every decision. No I/O.

The queue keeps the entries, and the worker does what is decided here: so all of it can be played through, with clocks
that jump and machines that stop, in no time.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from enum import StrEnum

from yatagan.batches.locks import Holder
from yatagan.batches.moments import NEVER, Moment, seconds_left
from yatagan.batches.said import Said
from yatagan.batches.states import ENDED, BatchState
from yatagan.faults import SPACE_FAULTS, Fault

#: So often a worker may end without being asked to, and without progress, before a person must look.
ENDS_WITHOUT_PROGRESS = 3
#: Seconds until a batch is looked at again that another machine, or another process, has.
ELSEWHERE_SECONDS = 60.0
#: Seconds until it is looked again whether a full disk has room.
ROOM_SECONDS = 600.0
#: Seconds until a journal is read again that could not be; the last one is repeated.
_UNREADABLE_WAITS = (60.0, 600.0, 3600.0)


class WaitsFor(StrEnum):
    """What a batch in the queue waits for."""

    ITS_TURN = ""
    #: The node could not be reached; tried again at a time.
    CONNECTION = "connection"
    #: A person must log in.
    LOGIN = "login"
    #: A process that is not this machine's has it.
    OTHER_HOST = "other host"
    #: The disk there was full; looked at again at a time.
    ROOM = "free space"
    #: Its journal cannot be read; tried again at a time.
    JOURNAL = "journal"


@dataclass(frozen=True, slots=True)
class QueueEntry:
    """A batch in the queue.

    `worker`: who took it last. It waits for `seconds` from `since` on; `failures`: how often it was tried without
    success. `ends`: how often its worker has ended without being asked to, and without progress; `progress`: how far it
    was when it was taken. `routine`: the routine that made it, or "".
    """

    place: int
    batch: str
    nodes: tuple[str, ...]
    umask: int
    worker: Holder | None
    waits_for: WaitsFor
    since: Moment
    seconds: float
    failures: int
    ends: int
    progress: str
    routine: str

    def retried_at(self, now: Moment) -> float | None:
        """When it is tried again, by the wall's clock; None if it may be now, or waits for something else."""
        left = self.left(now)
        return now.wall + left if left and self.waits_for is not WaitsFor.LOGIN else None

    def left(self, now: Moment) -> float:
        """Seconds until it may be tried; 0 when it may."""
        return seconds_left(self.since, self.seconds, now) if self.since != NEVER else 0.0


@dataclass(frozen=True, slots=True)
class Attendance:
    """Whether a worker is alive, who carries what is in the queue and runs routines.

    `seen`: when one was last there, by the wall's clock; None for never.
    """

    attended: bool
    seen: float | None = None


@dataclass(frozen=True, slots=True)
class QueueLimits:
    """How many batches are carried at once: in all, and over each node."""

    at_once: int
    over_node: Callable[[str], int]


def ready(
    entries: Iterable[QueueEntry], is_running: Callable[[QueueEntry], bool], limits: QueueLimits, now: Moment
) -> Iterator[QueueEntry]:
    """The entries that may go on now, in order: the first of them, or where that cannot be locked, the next."""
    known = [(entry, is_running(entry)) for entry in entries]
    running = [entry for entry, runs in known if runs]
    if len(running) >= limits.at_once:
        return
    over = Counter(node for entry in running for node in entry.nodes)
    for entry, runs in known:
        if runs or entry.waits_for is WaitsFor.LOGIN or entry.left(now) > 0:
            continue
        if all(over[node] < limits.over_node(node) for node in entry.nodes):
            yield entry


def next_look(entries: Iterable[QueueEntry], now: Moment) -> float | None:
    """Seconds until the next entry that waits for a time may be tried; None without one."""
    return min(
        (entry.left(now) for entry in entries if entry.seconds and entry.waits_for is not WaitsFor.LOGIN), default=None
    )


def ends_after(entry: QueueEntry, progress: str) -> int:
    """How often a batch's worker has died without progress, now that the batch is taken anew."""
    if entry.worker is None:  # the last one said why it stopped
        return 0
    return entry.ends + 1 if progress == entry.progress else 0


class OnTaking(StrEnum):
    """What is done with a batch that a worker has locked."""

    CARRY = "carry"
    #: Nothing is left to do: it only leaves the queue, and whoever waits for that hears of it.
    END = "end"
    #: A person has stopped it for good, or something else has; nobody needs to hear of that.
    LEAVE = "leave"
    #: A person has stopped it for now.
    HOLD = "hold"
    #: Its workers die of it.
    GIVE_UP = "give up"


def on_taking(state: BatchState, word: Said | None, *, nothing_left: bool, ends: int) -> OnTaking:
    """What is done with a batch whose journal is in a state, of which a person has said something, or nothing."""
    if state is BatchState.CANCELLED or word is Said.CANCEL:
        return OnTaking.LEAVE
    if state in ENDED and nothing_left:
        return OnTaking.END
    if word is Said.HOLD:
        return OnTaking.HOLD
    return OnTaking.GIVE_UP if ends >= ENDS_WITHOUT_PROGRESS else OnTaking.CARRY


def after_run(
    state: BatchState, fault: Fault | None, *, stopped_by_person: bool, shutting_down: bool
) -> WaitsFor | None:
    """What a batch waits for after a run that ended in this state by a fault; None if it leaves the queue.

    It leaves when nothing is left to do, or when only a person can say that it goes on.
    """
    if stopped_by_person:
        return None
    match state:
        case BatchState.NEEDS_LOGIN:
            return WaitsFor.LOGIN
        case BatchState.INTERRUPTED:
            return WaitsFor.ITS_TURN if shutting_down else WaitsFor.CONNECTION
        case BatchState.HELD if fault in SPACE_FAULTS:
            return WaitsFor.ROOM
        case _:
            return None


def unreadable_seconds(failures: int) -> float:
    """Seconds until a journal is read again that could not be read `failures` times before."""
    return _UNREADABLE_WAITS[min(failures, len(_UNREADABLE_WAITS) - 1)]
