"""Running routines when they are due, and noting what came of it.

What a run does is handed in: it plans, and answers that there is nothing new, that a batch goes on, or why not. So all
that is decided here can be played through with a clock that is none, a thousand runs in a second.
"""

from __future__ import annotations

import asyncio
import time
from collections.abc import Awaitable, Callable
from dataclasses import dataclass
from typing import Protocol

from yatagan.background.routines import Routine, RoutineBook, Run, RunOutcome
from yatagan.background.schedules import OnChange, Schedule

#: A routine looks at its batch again after so many seconds, and at a clock that may have jumped.
_LOOK = 20.0
#: Seconds between questions whether something has changed.
_CHANGES = 2.0


@dataclass(frozen=True, slots=True)
class Planned:
    """What planning came to: a batch that goes on, or nothing new. `newer`: files left because they are newer there.

    `unsettled`: files that are left for another time. `failure`: why there is no plan, "" if there is one.
    """

    batch: str = ""
    newer: int = 0
    unsettled: int = 0
    failure: str = ""


@dataclass(frozen=True, slots=True)
class Ended:
    """What became of a run's batch. `failure`: what is wrong with it, "" if it is good."""

    files: int
    size: int
    failure: str = ""


def next_due(schedule: Schedule, due: float, now: float) -> float:
    """When a routine is due next that was due, and is run, now. What was missed is not made up for again."""
    while (found := schedule.after(due, now)) <= now:
        due = found
    return found


class RunListener(Protocol):
    """Hears of routines."""

    def routine_trouble(self, routine: Routine, why: str) -> None:
        """Something is wrong with a routine that went well before."""

    def routine_well(self, routine: Routine) -> None:
        """A routine goes well again."""


class RoutineRunner:
    """Runs what is due. One at a time may do so.

    `plan` makes a run's plan and leaves its batch to a worker; `ended` says what became of that batch, None while it
    goes on. `changed` tells of a routine's name and sources whether something has changed there since that was last
    asked, None where that is unknown.
    """

    def __init__(
        self,
        book: RoutineBook,
        plan: Callable[[Routine], Awaitable[Planned]],
        ended: Callable[[str], Ended | None],
        listener: RunListener,
        clock: Callable[[], float] = time.time,
        changed: Callable[[str, tuple[str, ...]], bool | None] = lambda name, sources: None,
    ) -> None:
        self._changed = changed
        self._book = book
        self._plan = plan
        self._ended = ended
        self._listener = listener
        self._clock = clock

    async def tick(self) -> float | None:
        """Do what is due. Returns when to look again, in seconds since the epoch; None without an active routine."""
        looks = await asyncio.gather(*(self._look_at(routine) for routine in self._book.all()))
        return min((look for look in looks if look is not None), default=None)

    async def _look_at(self, routine: Routine) -> float | None:
        now = self._clock()
        last = next(iter(self._book.runs(routine.name, 1)), None)
        going_on = last if last is not None and last.outcome is RunOutcome.RUNNING else None
        if going_on is not None and self._settle(routine, going_on):
            going_on = None
            routine = self._book.get(routine.name)
        if routine.held or (routine.until and now >= routine.until):
            return now + _LOOK if going_on is not None else None
        due = self._due(routine, now)
        if due > now and due - now > max(0.0, routine.schedule.after(now, now) - now):
            due = routine.schedule.after(now, now)  # the clock was put back: it is not due so late as that
            self._book.change(routine.name, due=due)
        if due > now:
            look = now + _CHANGES if isinstance(routine.schedule, OnChange) else due
            return min(look, due) if going_on is None else min(look, due, now + _LOOK)
        self._book.change(routine.name, due=self._next(routine, due, now))
        if going_on is not None:
            self._book.leave_out(going_on.number)
            return now + _LOOK
        await self.run(routine)
        return self._clock() + 1.0

    def _due(self, routine: Routine, now: float) -> float:
        """When a routine is due: on a change, once that has settled."""
        if not isinstance(routine.schedule, OnChange):
            return routine.due
        changed = self._changed(routine.name, routine.sources)
        due = routine.due
        if changed and due > now + routine.settles:
            due = now + routine.settles
        elif changed is None and due > now + routine.schedule.looks:
            due = now + routine.schedule.looks
        if due != routine.due:
            self._book.change(routine.name, due=due)
        return due

    def _next(self, routine: Routine, due: float, now: float) -> float:
        """When a routine is due next, as far as that is known before it has run."""
        if isinstance(routine.schedule, OnChange):
            return routine.schedule.after(now, now)
        return next_due(routine.schedule, due, now)

    async def run(self, routine: Routine) -> Run:
        """Run a routine now."""
        number = self._book.begin(routine.name, self._clock())
        planned = await self._plan(routine)
        if isinstance(routine.schedule, OnChange) and (planned.unsettled or planned.failure):
            again = max(routine.settles, 1.0) if not planned.failure else routine.schedule.looks
            self._book.change(routine.name, due=self._clock() + again)
        if planned.batch:
            self._book.go_on(number, planned.batch)
        elif planned.failure:
            self._tell(routine, planned.failure)
            self._book.end(number, self._clock(), RunOutcome.FAILED, detail=planned.failure)
        else:
            newer = f"{planned.newer} newer there" if planned.newer else ""
            self._tell(routine, newer)
            self._book.end(number, self._clock(), RunOutcome.NOTHING_NEW, detail=newer)
        return self._book.runs(routine.name, 1)[-1]

    def _settle(self, routine: Routine, run: Run) -> bool:
        """Note what became of a run's batch. False while that goes on."""
        ended = self._ended(run.batch) if run.batch else Ended(0, 0, "it was broken off while it planned")
        if ended is None:
            return False
        outcome = RunOutcome.FAILED if ended.failure else RunOutcome.MOVED
        self._tell(routine, ended.failure)
        self._book.end(run.number, self._clock(), outcome, files=ended.files, size=ended.size, detail=ended.failure)
        return True

    def _tell(self, routine: Routine, trouble: str) -> None:
        """Tell of trouble when it begins, and when it is over."""
        if bool(trouble) != bool(routine.trouble):
            self._book.change(routine.name, trouble=trouble)
            if trouble:
                self._listener.routine_trouble(routine, trouble)
            else:
                self._listener.routine_well(routine)
