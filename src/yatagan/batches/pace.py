"""How fast a batch goes, second by second, and which of its files took longest. No I/O, and no clock of its own.

A row is one second in which something happened; a pause has none. What a journal holds of them is thinned when it
becomes long, so that a batch of a week keeps its shape in little space.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import NamedTuple

from yatagan.batches import events as ev
from yatagan.batches.states import StepState
from yatagan.batches.steps import StepKind

#: Rows of one batch at most, and what is left of them when there are more.
MOST_ROWS, THINNED_TO = 6_000, 3_000
#: The files that took longest, of those of which it is kept.
SLOWEST = 20


class PaceRow(NamedTuple):
    """What happened in `seconds` from `at` on (since the epoch).

    `sent`: bytes that the connection carried. `placed`: bytes of files that got their names, proven as the batch
    proves, and `files`: how many.
    """

    at: int
    seconds: int
    sent: int
    placed: int
    files: int


class SlowStep(NamedTuple):
    """How long a step was worked on in one run, in seconds."""

    number: int
    seconds: float


class Pace:
    """Counts the events of a run. `clock` is the time since the epoch, in seconds."""

    def __init__(self, clock: Callable[[], float]) -> None:
        self._clock = clock
        self._now = PaceRow(0, 1, 0, 0, 0)
        self._done: list[PaceRow] = []
        self._began: dict[int, float] = {}
        self._slowest: list[SlowStep] = []

    def take(self, event: ev.Event) -> None:
        """Count an event."""
        match event:
            case ev.BytesMoved(_, count):
                self._count(sent=count)
            case ev.StepStarted(number, kind) if kind is StepKind.FILE:
                self._began[number] = self._clock()
            case ev.StepSettled(number, kind, _, size, state) if kind is StepKind.FILE:
                self._end(number)
                if state is StepState.IN_PLACE:
                    self._count(placed=size, files=1)
            case ev.StepPostponed(number):
                self._end(number)

    def _count(self, *, sent: int = 0, placed: int = 0, files: int = 0) -> None:
        at, now = int(self._clock()), self._now
        if at != now.at:
            self._done += [now] if now.at else []
            now = PaceRow(at, 1, 0, 0, 0)
        self._now = PaceRow(at, 1, now.sent + sent, now.placed + placed, now.files + files)

    def _end(self, number: int) -> None:
        if (began := self._began.pop(number, None)) is None:
            return
        self._slowest.append(SlowStep(number, self._clock() - began))
        if len(self._slowest) > 10 * SLOWEST:
            self._slowest = slowest(self._slowest)

    def rows(self) -> list[PaceRow]:
        """The seconds that have passed since this was last asked."""
        done, self._done = self._done, []
        return done

    def rest(self) -> tuple[list[PaceRow], list[SlowStep]]:
        """What is left at the end of the run: rows, and the files that took longest in it."""
        rows = self.rows() + ([self._now] if self._now.at else [])
        self._now = PaceRow(0, 1, 0, 0, 0)
        return rows, slowest(self._slowest)


def slowest(steps: Iterable[SlowStep]) -> list[SlowStep]:
    """Those that took longest, the longest first; of a step that was worked on again the sum."""
    total: dict[int, float] = {}
    for number, seconds in steps:
        total[number] = total.get(number, 0.0) + seconds
    return sorted((SlowStep(*each) for each in total.items()), key=lambda each: (-each.seconds, each.number))[:SLOWEST]


def thinned(rows: Sequence[PaceRow], most: int = MOST_ROWS, to: int = THINNED_TO) -> list[PaceRow]:
    """The same in fewer rows if there are more than `most`: neighbours are put together until `to` are left."""
    if len(rows) <= most:
        return list(rows)
    span, found = 1, list(rows)
    while len(found) > to:
        span *= 2
        together: dict[int, PaceRow] = {}
        for row in found:
            at = row.at - row.at % span
            old = together.get(at, PaceRow(at, span, 0, 0, 0))
            together[at] = PaceRow(
                at, max(span, row.seconds), old.sent + row.sent, old.placed + row.placed, old.files + row.files
            )
        found = [together[at] for at in sorted(together)]
    return found
