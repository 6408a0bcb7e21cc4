"""How a batch is getting on at this moment: a small file in its directory, for those who watch from elsewhere.

The process that carries the batch writes it about once a second. It is no record: it is not synced, and nothing is ever
decided by it. What is done stands in the journal; here is what the journal cannot know yet, such as how many bytes of
a file are under way, how fast they move, and that a node does not answer.
"""

from __future__ import annotations

import base64
import contextlib
import json
import time
from collections import deque
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

from yatagan.batches import events as ev
from yatagan.batches.steps import StepKind
from yatagan.config.guarded_files import parse_json, read_small
from yatagan.config.own_files import replace_file
from yatagan.errors import CannotReach
from yatagan.faults import Fault

#: Things under way that are named, at most.
_NAMED = 8
#: The rate is taken over this many seconds.
_RATE_SECONDS = 3.0
#: A snapshot that is older, in seconds, tells nothing of this moment.
_STALE = 10.0


@dataclass(slots=True)
class Moving:
    """A step that is being worked on: `done` of `size` bytes. `began` in seconds since the epoch."""

    kind: StepKind
    label: bytes
    size: int
    done: int
    began: float
    #: Whether it is a bundle that is still being made.
    made: bool = False


@dataclass(slots=True)
class Snapshot:
    """A moment of a batch.

    `taken` in seconds since the epoch. `rate`: bytes a second that the connection carries; `sent`: all in this run.
    `fault` and `said`: why there is no connection, and `again` when it is tried next. `quiet_node` has not answered for
    `quiet` seconds. `settled`: steps that this run has settled.
    """

    taken: float
    rate: float = 0.0
    sent: int = 0
    settled: int = 0
    fault: Fault | None = None
    said: str = ""
    again: float = 0.0
    quiet_node: str = ""
    quiet: float = 0.0
    ageing_until: float = 0.0
    moving: dict[int, Moving] = field(default_factory=dict)

    @property
    def is_fresh(self) -> bool:
        """Whether it tells of this moment."""
        return time.time() - self.taken < _STALE


class SnapshotWriter:
    """Counts the events of a run, and writes what they come to."""

    def __init__(self, file: Path) -> None:
        self._file = file
        self._now = Snapshot(time.time())
        self._carried: deque[tuple[float, int]] = deque([(time.monotonic(), 0)])
        self._bytes = 0

    def take(self, event: ev.Event) -> None:
        """Count an event."""
        now = self._now
        match event:
            case ev.StepStarted(number, kind, label, size, done):
                if kind in (StepKind.FILE, StepKind.BUNDLE, StepKind.ARCHIVE):
                    now.moving[number] = Moving(kind, label, size, done, time.time())
            case ev.BundleMade(number, label, done, size):
                now.moving[number] = Moving(StepKind.ARCHIVE, label, size, done, time.time(), made=True)
            case ev.BytesMoved(number, count):
                self._bytes += count
                if (moving := now.moving.get(number)) is not None:
                    moving.done += count
            case ev.StepPostponed(number):
                now.moving.pop(number, None)
            case ev.StepSettled(number):
                now.moving.pop(number, None)
                now.settled += 1
            case ev.RetryWaiting(seconds, fault, error):
                now.fault, now.said = fault or Fault.CONNECTION_LOST, _said(error)
                now.again = time.time() + seconds
            case ev.ConnectionOpened():
                now.fault, now.said, now.again = None, "", 0.0
            case ev.Quiet(node, seconds):
                now.quiet_node, now.quiet = node, seconds
            case ev.Ageing(seconds):
                now.ageing_until = time.time() + seconds

    def encode(self) -> bytes:
        """This moment, as it is written."""
        now, clock = self._now, time.monotonic()
        self._carried.append((clock, self._bytes))
        while len(self._carried) > 2 and clock - self._carried[0][0] > _RATE_SECONDS:
            self._carried.popleft()
        began, carried = self._carried[0]
        now.rate = (self._bytes - carried) / max(clock - began, 0.2)
        now.taken, now.sent = time.time(), self._bytes
        longest = sorted(now.moving.items(), key=lambda each: each[1].began)[:_NAMED]
        fields = {
            **asdict(now),
            "moving": [{**asdict(each), "number": number, "label": _text(each.label)} for number, each in longest],
        }
        return json.dumps(fields).encode()

    def write(self, moment: bytes) -> None:
        """Write what was encoded, as far as possible. May be called by any one thread at a time."""
        with contextlib.suppress(OSError):  # a full disk stops the batch, and says so, by its journal
            replace_file(self._file, moment, durable=False)

    def remove(self) -> None:
        """Nothing moves any more."""
        with contextlib.suppress(OSError):
            self._file.unlink(missing_ok=True)


def read_snapshot(file: Path) -> Snapshot | None:
    """The last snapshot that tells of this moment; None if there is none."""
    try:
        fields: dict[str, Any] = parse_json(read_small(file, ours=True))
        moving = {}
        for each in fields.pop("moving"):
            number, label = each.pop("number"), base64.b64decode(each.pop("label"))
            moving[number] = Moving(**{**each, "kind": StepKind(each["kind"])}, label=label)
        fault = fields.pop("fault")
        found = Snapshot(**fields, fault=Fault(fault) if fault else None, moving=moving)
    except (OSError, ValueError, TypeError, KeyError, AttributeError):  # it is no record, and decides nothing
        return None
    return found if found.is_fresh else None


def _text(label: bytes) -> str:
    return base64.b64encode(label).decode("ascii")


def _said(error: CannotReach | None) -> str:
    return error.detail if error is not None else ""
