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
        self._at = self._sent = self._placed = self._files = 0
        self._done: list[PaceRow] = []
        self._began: dict[int, float] = {}
        self._slowest: list[SlowStep] = []

    def take(self, event: ev.Event) -> None:
        """Count an event. There are several for every file, so this costs as little as can be."""
        kind = type(event)
        if kind is ev.BytesMoved:
            self._turn()
            self._sent += event.count  # type: ignore[union-attr]
        elif kind is ev.StepSettled:
            self._settled(event)  # type: ignore[arg-type]
        elif kind is ev.StepStarted and event.kind is StepKind.FILE:  # type: ignore[union-attr]
            self._began[event.number] = self._clock()  # type: ignore[union-attr]
        elif kind is ev.StepPostponed:
            self._end(event.number)  # type: ignore[union-attr]

    def _settled(self, event: ev.StepSettled) -> None:
        if event.kind is not StepKind.FILE:
            return
        if event.number in self._began:
            self._end(event.number)
        if event.state is StepState.IN_PLACE:
            self._turn()
            self._placed += event.size
            self._files += 1

    def _turn(self) -> None:
        """Begin a new row with a new second."""
        at = int(self._clock())
        if at != self._at:
            if self._at:
                self._done.append(self._row())
            self._at, self._sent, self._placed, self._files = at, 0, 0, 0

    def _row(self) -> PaceRow:
        return PaceRow(self._at, 1, self._sent, self._placed, self._files)

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
        rows = self.rows() + ([self._row()] if self._at else [])
        self._at = 0
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
