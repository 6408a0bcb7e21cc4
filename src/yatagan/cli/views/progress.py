"""How far a batch, or a long reading, is: counted from events. Knows nothing of how it is drawn."""

from __future__ import annotations

import time
from collections import deque
from math import inf

from yatagan.batches import events as ev
from yatagan.batches.states import StepState
from yatagan.batches.steps import StepKind
from yatagan.batches.strip import CellState, Strip
from yatagan.batches.time_left import SecondsLeft, Span, Spans, seconds_left
from yatagan.cli.terminal import text
from yatagan.cli.terminal.text import Tone
from yatagan.cli.words import fault_words, messages
from yatagan.errors import CannotReach
from yatagan.faults import CONSEQUENCES, Fault

#: Seconds after which what has happened is taken in, to tell how much longer it takes.
_SPAN_SECONDS = 0.5
#: The rate is taken over this many seconds.
_RATE_SECONDS = 3.0
#: A file costs about as much time as this many bytes more, whatever its size: its requests and its proof.
_FILE_COST = 64 << 10

#: Faults of a file's facts that say themselves what is the matter.
_SAID_WHOLE = frozenset({Fault.BITS_DROPPED, Fault.TIME_RANGE})


class MovingFile:
    """A file, or a bundle, that is being carried; `began` by the monotonic clock."""

    __slots__ = ("began", "done", "label", "made", "size", "worth")

    def __init__(self, label: bytes, size: int, done: int, worth: int | None = None, *, made: bool = False) -> None:
        self.label = label
        self.size = size
        self.done = done
        #: What all of it counts for: of a bundle, what is in it; while it is being `made`, nothing.
        self.worth = size if worth is None else worth
        self.made = made
        self.began = time.monotonic()

    def counted(self, carried: int) -> int:
        """Bytes of the plan that so many bytes on the connection stand for."""
        return carried if self.worth == self.size else carried * self.worth // max(self.size, 1)


class _Speed:
    """How fast it goes: in the last moments, and over all that was seen, to tell how long the rest takes.

    `carried`: bytes on the connection; `counted`: bytes of the plan that they stand for.
    """

    def __init__(self) -> None:
        self.carried = 0
        self.counted = 0
        self._spans = Spans([])
        self.begin(0)

    def begin(self, files_done: int) -> None:
        """Look from now on: what was done before tells nothing of how fast it goes."""
        self._samples = deque([(time.monotonic(), self.carried, self.counted, files_done)])
        self._seen = time.monotonic(), files_done, self.counted

    def sample(self, files_done: int) -> None:
        """Note how far it is now."""
        self._samples.append((time.monotonic(), self.carried, self.counted, files_done))

    def recent(self, files_done: int) -> tuple[float, int, int]:
        """Seconds, bytes sent, and files of the last moments."""
        now = time.monotonic()
        while len(self._samples) > 1 and now - self._samples[0][0] > _RATE_SECONDS:
            self._samples.popleft()
        began, carried, _, files = self._samples[0]
        return max(now - began, 0.2), self.carried - carried, files_done - files

    def left(self, files_done: int, files: int, size: int, limit: float) -> SecondsLeft | None:
        """How long so many files and bytes will take, at no more than `limit` bytes a second."""
        now = time.monotonic()
        began, before, counted = self._seen
        if now - began >= _SPAN_SECONDS:  # long enough to tell something
            self._seen = now, files_done, self.counted
            done = max(0, files_done - before), max(0, self.counted - counted)
            if any(done):
                self._spans.add(Span(now - began, *done))
        return seconds_left(self._spans.spans, files, size, limit)


class Progress:
    """How far a batch is, of `files` and `size` bytes in all; `done_before` adds what was done before it began.

    `strip` shows its files in the order of the plan; without one there is only how much is done.
    """

    def __init__(self, files: int, size: int, strip: Strip | None = None) -> None:
        self.files = files
        self.size = size
        self.files_done = 0
        self.failed = 0
        self.moving: dict[int, MovingFile] = {}
        self.doing = ""
        self.trouble = ""
        self.quiet = ""
        self.ageing_until = 0.0
        self._strip = strip
        self._settled_size = 0
        self._in_bundles: dict[int, int] = {}
        self._speed = _Speed()
        #: Bytes a second that are allowed at most; 0 for no limit.
        self.limit = 0.0

    def done_before(self, files: int, size: int) -> None:
        """So much of it was in place already when this run began."""
        self.files_done += files
        self._settled_size += size
        self._speed.begin(self.files_done)

    @property
    def size_done(self) -> int:
        """Bytes in place, or acknowledged."""
        return min(self.size, self._settled_size + sum(file.counted(file.done) for file in self.moving.values()))

    @property
    def share(self) -> float:
        """How much of the work is done, 0 to 1: bytes and files both count, as both take time."""
        whole = _work(self.size, self.files)
        return _work(self.size_done, self.files_done) / whole if whole else 0.0

    @property
    def left(self) -> SecondsLeft | None:
        """How long what is left will take; None before anything has moved, and when nothing is left."""
        files, size = self.files - self.files_done, self.size - self.size_done
        if files <= 0 and size <= 0:
            return None
        return self._speed.left(self.files_done, files, size, self.limit)

    @property
    def bytes_per_second(self) -> float:
        """Bytes a second that the connection has carried in the last moments."""
        seconds, carried, _ = self._speed.recent(self.files_done)
        return carried / seconds

    @property
    def rate(self) -> str:
        """How fast it goes now: `12.3 MB/s`, `336 files/s`; "" when nothing has moved for a while."""
        seconds, carried, files = self._speed.recent(self.files_done)
        return text.rate(files, carried, seconds)

    def cells(self, count: int) -> list[CellState]:
        """The strip; without one of files, what is done from the left."""
        if self._strip is not None:
            return self._strip.cells(count)
        done = int(count * self.share)
        return [CellState.IN_PLACE] * done + [CellState.WAITING] * (count - done)

    def take(self, event: ev.Event) -> None:
        """Count an event."""
        match event:
            case ev.StepStarted():
                self._start(event)
            case ev.BundleMade(number, label, done, size):
                self._in_bundles[number] = size
                self.moving[number] = MovingFile(label, size, done, 0, made=True)
            case ev.BytesMoved(number, count):
                self._move(number, count)
            case ev.StepPostponed(number):
                self._postpone(number)
            case ev.StepProven(number):
                self._reach(number, StepState.PROVEN)
            case ev.StepSettled(number, kind, _, size, state):
                self.moving.pop(number, None)
                if kind is StepKind.FILE:
                    self.files_done += 1
                    self._settled_size += size
                    self._reach(number, state)
                self.failed += state is StepState.FAILED
            case ev.StepReopened(number, kind, size):
                if kind is StepKind.FILE:
                    self.files_done -= 1
                    self._settled_size -= size
                    self._reach(number, StepState.WAITING)
            case ev.RetryWaiting():
                self.trouble, self.quiet, self.ageing_until = _trouble_text(event), "", 0.0
            case ev.ConnectionOpened():
                self.trouble = ""
            case ev.Quiet(node, seconds):
                self.quiet = f"{node or 'the disk'} has not answered for {text.duration(seconds)}" if seconds else ""
            case ev.Ageing(seconds):
                self.ageing_until = time.monotonic() + seconds

    def _start(self, event: ev.StepStarted) -> None:
        match event.kind:
            case StepKind.FILE:
                file = MovingFile(event.label, event.size, event.done)
            case StepKind.BUNDLE:
                file = MovingFile(event.label + b" and other small files", event.size, event.done)
            case StepKind.ARCHIVE:
                worth = self._in_bundles.setdefault(event.number, event.size)
                file = MovingFile(event.label, event.size, event.done, worth)
            case _:
                return
        self.moving[event.number] = file
        self._show(event.number, file)

    def _postpone(self, number: int) -> None:
        self.moving.pop(number, None)
        self._reach(number, StepState.WAITING)
        if self._strip is not None and number in self._in_bundles:
            self._strip.move_stored(number, 0.0)
        else:
            self._share(number, 0.0)

    def _move(self, number: int, count: int) -> None:
        file = self.moving.get(number)
        self._speed.counted += file.counted(count) if file is not None else count
        self._speed.carried += count
        if file is not None:
            file.done += count
            self._show(number, file)
        self._speed.sample(self.files_done)

    def _show(self, number: int, file: MovingFile) -> None:
        """Show the bytes of a file, or of the files of a bundle, as being on the way."""
        if self._strip is None:
            return
        if number in self._strip:
            self._strip.move(number, file.done)
            if file.done >= file.size:
                self._strip.reach(number, StepState.ARRIVED)
        elif number in self._in_bundles:
            self._strip.move_stored(number, file.done / max(file.size, 1))
        elif file.done:
            self._share(number, min(1.0, file.done / max(file.size, 1)))

    def _share(self, bundle: int, share: float) -> None:
        """Show a share of each file of a bundle that travels as being on the way."""
        if self._strip is not None:
            for member in self._strip.members(bundle):
                self._strip.move_share(member, share)

    def _reach(self, number: int, state: StepState) -> None:
        if self._strip is not None:
            self._strip.reach(number, state)

    def look(self, files: int, size: int, files_done: int, settled: int, strip: Strip | None) -> None:
        """Set the counts, as another process has seen them. `settled` bytes are done; events add what is under way."""
        before = self.size_done if self.files else None  # the first look tells nothing of how fast it goes
        self.files, self.size, self.files_done, self._settled_size, self._strip = (
            files,
            size,
            files_done,
            settled,
            strip,
        )
        for number, file in self.moving.items():
            self._show(number, file)
        if before is None:
            self._speed.begin(self.files_done)
        else:
            self._speed.counted += max(0, self.size_done - before)
            self._speed.sample(self.files_done)

    def forget(self, number: int) -> None:
        """A step is under way no more."""
        self.moving.pop(number, None)

    def expect(self, files: int, size: int) -> None:
        """More is to be done than was known."""
        self.files += files
        self.size += size

    def hashed(self, size: int, files: int = 1) -> None:
        """Count a file, or part of one, that was only read."""
        self.files_done += files
        self._settled_size += size
        self._speed.carried += size
        self._speed.counted += size
        self._speed.sample(self.files_done)

    def counts(self) -> str:
        """As text: `25.1 MB of 58.3 MB, 612 of 1,496 files, 12.3 MB/s, 3 s left`."""
        parts = [
            f"{self.doing}{text.size(self.size_done)} of {text.size(self.size)}",
            f"{text.number(self.files_done)} of {text.count(self.files, 'file')}",
        ]
        if self.trouble:
            return ", ".join(parts)
        if state := self.state():
            return ", ".join([*parts, state])
        if rate := self.rate:
            parts.append(rate)
        if (left := left_words(self.left)) and self.size_done < self.size:
            parts.append(left)
        return ", ".join(parts)

    def state(self) -> str:
        """What is so while nothing moves; "" while something does."""
        if self.quiet:
            return self.quiet
        _, carried, files = self._speed.recent(self.files_done)
        if carried or files:
            return ""
        if made := [file for file in self.moving.values() if file.made]:
            return f"making {text.count(len(made), 'bundle')}"
        if self.ageing_until > time.monotonic():
            return "looking again at new files"
        return ""

    def longest(self, count: int) -> list[MovingFile]:
        """The files that have been under way longest."""
        return sorted(self.moving.values(), key=lambda file: file.began)[:count]


def left_words(left: SecondsLeft | None) -> str:
    """`8 s left`, `8 to 40 s left`, `more than 8 s left`; "" where nothing is known."""
    if left is None:
        return ""
    if (about := left.about) is not None:
        return f"{text.duration(about)} left"
    if left.most == inf:
        return f"more than {text.duration(left.least)} left" if left.least >= 1 else ""
    return f"{text.duration(left.least)} to {text.duration(left.most)} left"


def _work(size: int, files: int) -> int:
    return size + files * _FILE_COST


def _trouble_text(event: ev.RetryWaiting) -> str:
    why = fault_words.fault(event.fault) if event.fault is not None else "the connection was lost"
    if isinstance(event.error, CannotReach):
        why = messages.explain(event.error).message
    return f"{why}; trying again {f'in {text.duration(event.seconds)}' if event.seconds >= 0.05 else 'now'}"


def event_line(progress: Progress, event: ev.Event) -> tuple[str, Tone | None]:
    """The line for an event that is worth one, and its tone; "" for others. `progress` has counted it."""
    match event:
        case ev.RetryWaiting():
            return progress.trouble, Tone.WARNING
        case ev.ConnectionOpened(again=True):
            return "the connection is back", Tone.GOOD
        case ev.StepSettled(state=StepState.FAILED, fault=fault) if fault is not None and fault not in CONSEQUENCES:
            return f"{text.show(event.label)}: {fault_words.fault(fault, event.detail)}", Tone.TROUBLE
        case ev.PartsFound():
            return _parts_text(event), None
        case ev.Note():
            return _note_text(event), Tone.WARNING
        case _:
            return "", None


def _parts_text(event: ev.PartsFound) -> str:
    """How much of a file that replaces one is sent."""
    if not event.there and event.growing:
        return f"{text.show(event.label)}: it does not begin as it did, so all of it is sent"
    if not event.there:
        return f"{text.show(event.label)}: little of it is in what it replaces, so all of it is sent"
    left = text.size(event.size - event.there)
    return f"{text.show(event.label)}: {left} of {text.size(event.size)} to send, the rest is in what it replaces"


def _note_text(event: ev.Note) -> str:
    """Which fact could not be set."""
    why = fault_words.fault(event.fault, event.detail)
    said = why if event.fault in _SAID_WHOLE else f"mode and time could not be set: {why}"
    return f"{text.show(event.label)}: {said}"
