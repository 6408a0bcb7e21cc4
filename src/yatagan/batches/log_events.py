"""What a batch's log keeps, an event a line: one type for each, and one codec for all that write and read. No I/O."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from yatagan.batches.queueing import WaitsFor
from yatagan.batches.states import BatchState
from yatagan.faults import Fault
from yatagan.json_codec import JsonCodec

_CODEC = JsonCodec()


@dataclass(frozen=True, slots=True)
class LogAccepted:
    """The plan was accepted."""

    files: int
    size_bytes: int


@dataclass(frozen=True, slots=True)
class LogQueued:
    """It was left to a worker."""


@dataclass(frozen=True, slots=True)
class LogBegun:
    """A process carries it."""

    process: int
    host: str


@dataclass(frozen=True, slots=True)
class LogConnected:
    """Both ends are open; `again` after the connection was lost."""

    again: bool = False


@dataclass(frozen=True, slots=True)
class LogConnectionLost:
    """The connection was lost, and is tried again after so long. `said`: by whom or what refused it."""

    reason: Fault | None = None
    said: str = ""
    retry_seconds: float = 0.0


@dataclass(frozen=True, slots=True)
class LogNoAnswer:
    """A node was silent for a while; "" for a disk of this machine."""

    node: str


@dataclass(frozen=True, slots=True)
class LogAnswersAgain:
    """It answers again."""

    node: str


@dataclass(frozen=True, slots=True)
class LogPostponed:
    """A step is tried again, for another reason than the connection."""

    step: int
    reason: Fault
    path: bytes


@dataclass(frozen=True, slots=True)
class LogFailed:
    """A step failed."""

    step: int
    path: bytes
    reason: Fault | None = None
    detail: str = ""


@dataclass(frozen=True, slots=True)
class LogNote:
    """Something that is no failure, such as a time that could not be set."""

    reason: Fault
    path: bytes
    detail: str = ""


@dataclass(frozen=True, slots=True)
class LogLooked:
    """The last look at the destination: of so many names, how many were gone and how many changed."""

    looked_at: int
    gone: int = 0
    changed: int = 0


@dataclass(frozen=True, slots=True)
class LogProgress:
    """How far it is, now and then."""

    settled_steps: int
    sent_bytes: int


@dataclass(frozen=True, slots=True)
class LogEnded:
    """The end of a run."""

    state: BatchState
    settled_steps: int
    sent_bytes: int
    reason: Fault | None = None
    detail: str = ""


@dataclass(frozen=True, slots=True)
class LogWaits:
    """It stays in the queue."""

    waits_for: WaitsFor = WaitsFor.ITS_TURN
    retry_seconds: int = 0


@dataclass(frozen=True, slots=True)
class LogNotice:
    """A notice went, or did not: then `why_not`."""

    way: str
    to: str
    subject: str
    why_not: str = ""


@dataclass(frozen=True, slots=True)
class LogHeld:
    """A person holds it."""

    by: str


@dataclass(frozen=True, slots=True)
class LogCancelled:
    """A person has cancelled it."""

    by: str
    removed_parts: int = 0


LogEvent = (
    LogAccepted
    | LogQueued
    | LogBegun
    | LogConnected
    | LogConnectionLost
    | LogNoAnswer
    | LogAnswersAgain
    | LogPostponed
    | LogFailed
    | LogNote
    | LogLooked
    | LogProgress
    | LogEnded
    | LogWaits
    | LogNotice
    | LogHeld
    | LogCancelled
)

#: The events by their names.
LOG_EVENTS: dict[str, type[LogEvent]] = {
    "accepted": LogAccepted,
    "queued": LogQueued,
    "begun": LogBegun,
    "connected": LogConnected,
    "connection-lost": LogConnectionLost,
    "no-answer": LogNoAnswer,
    "answers-again": LogAnswersAgain,
    "postponed": LogPostponed,
    "failed": LogFailed,
    "note": LogNote,
    "looked-again": LogLooked,
    "progress": LogProgress,
    "ended": LogEnded,
    "waits": LogWaits,
    "notice": LogNotice,
    "held": LogHeld,
    "cancelled": LogCancelled,
}
_NAMES = {kind: name for name, kind in LOG_EVENTS.items()}


def write_event(event: LogEvent) -> dict[str, Any]:
    """An event as JSON: `event` is its name, and what is as usual is left out."""
    return {"event": _NAMES[type(event)], **_CODEC.write(event)}


def read_event(line: Mapping[str, Any]) -> LogEvent | None:
    """The event of a line of a log; None for one that makes no sense."""
    given = {key: value for key, value in line.items() if key not in ("time", "batch", "event")}
    kind = LOG_EVENTS.get(str(line.get("event")))
    try:
        found: LogEvent | None = _CODEC.read(kind, given) if kind is not None else None
    except ValueError:
        return None
    return found
