"""Running routines when they are due, and noting what came of it.

What a run does is handed in: it plans, and answers that there is nothing new, that a batch goes on, or why not. A plan
may take hours; so each is made in a task of its own, and keeps nothing else waiting. When what is done is decided in
`routine_decisions.py`.
"""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Awaitable, Callable
from dataclasses import dataclass
from typing import Protocol

from yatagan.background.routine_decisions import Act, Owned, look, plans_on
from yatagan.background.routines import Routine, RoutineBook, Run, RunOutcome
from yatagan.background.schedules import OnChange
from yatagan.batches.locks import Holder
from yatagan.batches.moments import Moment
from yatagan.errors import NoSuchRoutine, YataganError

#: A routine that cannot be looked at is looked at again after so many seconds.
_TROUBLED = 60.0
#: Seconds between looks whether a run's batch has ended.
_BATCH_LOOK = 5.0
#: So often in a row planning may be broken off before a person must look.
_BROKEN_OFF = 3


@dataclass(frozen=True, slots=True)
class Planned:
    """What planning came to: a batch that goes on, or nothing new. `newer`: files left because they are newer there.

    `unsettled`: files left for another time. `missed`: that more is gone from the source than goes on record by
    itself. `failure`: why there is no plan, "" if there is one. `verdict`: what a run has found that has only looked.
    """

    batch: str = ""
    newer: int = 0
    unsettled: int = 0
    missed: str = ""
    failure: str = ""
    verdict: Ended | None = None


@dataclass(frozen=True, slots=True)
class Ended:
    """What became of a run. `failure`: what is wrong with it, "" if it is good. `size` in bytes."""

    files: int
    size: int
    failure: str = ""


class RunListener(Protocol):
    """Hears of routines."""

    def routine_trouble(self, routine: Routine, why: str) -> None:
        """Something is wrong with a routine that went well before."""

    def routine_well(self, routine: Routine) -> None:
        """A routine goes well again."""


class RoutineRunner:
    """Runs what is due. One process at a time looks; each ends the runs that it has begun.

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
        clock: Callable[[], Moment] = Moment.now,
        changed: Callable[[str, tuple[str, ...]], bool | None] = lambda name, sources: None,
    ) -> None:
        self._changed = changed
        self._book = book
        self._plan = plan
        self._ended = ended
        self._listener = listener
        self._clock = clock
        self._planning: dict[int, asyncio.Task[None]] = {}

    def any_active(self) -> bool:
        """Whether a routine may become due. Raises JournalError."""
        return any(not routine.held for routine in self._book.all())

    def tick(self) -> float | None:
        """Begin what is due. Returns in how many seconds to look again; None without an active routine.

        Raises JournalError where the routines cannot be read.
        """
        looks = [self._look_safely(routine) for routine in self._book.all()]
        return min((each for each in looks if each is not None), default=None)

    async def sleep(self, seconds: float) -> None:
        """Wait so long, or until a plan is made."""
        if self._planning:
            await asyncio.wait(self._planning.values(), timeout=seconds, return_when=asyncio.FIRST_COMPLETED)
        else:
            await asyncio.sleep(seconds)

    async def finish(self) -> None:
        """Wait for the plans that are being made."""
        while self._planning:
            await asyncio.wait(self._planning.values())

    async def close(self) -> None:
        """Break off the plans that are being made. Their routines are due again at once."""
        tasks = list(self._planning.values())
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)

    def _look_safely(self, routine: Routine) -> float | None:
        """One that is in trouble, or that a person has just removed, keeps no other one waiting."""
        try:
            return self._look_at(routine)
        except NoSuchRoutine:
            return None
        except YataganError as error:
            self._tell(routine, str(error))
            return _TROUBLED

    def _look_at(self, routine: Routine) -> float | None:
        last = next(iter(self._book.runs(routine.name, 1)), None)
        going_on = last if last is not None and last.outcome is RunOutcome.RUNNING else None
        if going_on is not None and self._settle(routine, going_on):
            going_on, routine = None, self._book.get(routine.name)
        now = self._clock()
        changed = self._changed(routine.name, routine.sources) if isinstance(routine.schedule, OnChange) else None
        found = look(routine.standing, going_on=going_on is not None, changed=changed, now=now)
        if found.due != routine.due:
            self._book.set_due(routine.name, found.due, now)
        if found.act is Act.LEAVE_OUT and going_on is not None:
            self._book.leave_out(going_on.number)
        elif found.act is Act.RUN:
            self._begin(routine, now)
        carried = going_on is not None and going_on.batch and found.again is not None
        return min(found.again or 0.0, _BATCH_LOOK) if carried else found.again

    def _begin(self, routine: Routine, now: Moment) -> None:
        number = self._book.begin(routine.name, now.wall, Holder.this_process())
        if number is not None:  # else a person was faster
            task = asyncio.ensure_future(self._carry_out(routine, number))
            self._planning[number] = task
            task.add_done_callback(lambda _: self._planning.pop(number, None))

    def settle(self, routine: Routine) -> None:
        """Note what became of a routine's last run, if it has ended."""
        for last in self._book.runs(routine.name, 1):
            if last.outcome is RunOutcome.RUNNING:
                self._settle(routine, last)

    async def run(self, routine: Routine) -> Run | None:
        """Run a routine now. Returns the run; None if another one goes on, or the routine was removed meanwhile."""
        number = self._book.begin(routine.name, self._clock().wall, Holder.this_process())
        if number is None:
            return None
        await self._carry_out(routine, number)
        return next((run for run in self._book.runs(routine.name) if run.number == number), None)

    async def _carry_out(self, routine: Routine, number: int) -> None:
        """Make the plan of a run, and note what it came to."""
        try:
            planned = await self._plan(routine)
        except asyncio.CancelledError:
            with contextlib.suppress(YataganError):
                now = self._clock()
                self._book.undo(number)
                self._book.set_due(routine.name, now.wall, now)
            raise
        with contextlib.suppress(YataganError):  # what cannot be noted now is found to be nobody's by the next look
            self._note(routine, number, planned)

    def _note(self, routine: Routine, number: int, planned: Planned) -> None:
        now, routine = self._clock(), self._book.get(routine.name)
        if isinstance(routine.schedule, OnChange) and (planned.unsettled or planned.failure):
            again = max(routine.settles, 1.0) if not planned.failure else routine.schedule.looks
            self._book.set_due(routine.name, now.wall + again, now)
        if planned.batch:
            self._book.go_on(number, planned.batch, planned.missed)
        elif planned.failure:
            self._tell(routine, planned.failure)
            self._book.end(number, now.wall, RunOutcome.FAILED, detail=planned.failure)
        elif (found := planned.verdict) is not None:
            self._tell(routine, found.failure)
            outcome = RunOutcome.NOT_GOOD if found.failure else RunOutcome.GOOD
            self._book.end(number, now.wall, outcome, files=found.files, size=found.size, detail=found.failure)
        else:
            newer = f"{planned.newer} newer there" if planned.newer else ""
            wrong = "; ".join(filter(None, (planned.missed, newer)))
            self._tell(routine, wrong)
            self._book.end(number, now.wall, RunOutcome.NOTHING_NEW, detail=wrong)

    def _settle(self, routine: Routine, run: Run) -> bool:
        """Note what became of a run's batch. False while that goes on, or is still being planned."""
        if not run.batch and plans_on(self._owner(run)):
            return False
        if not run.batch:
            self._break_off(routine, run)
            return True
        ended = self._ended(run.batch)
        if ended is None:
            return False
        outcome = RunOutcome.FAILED if ended.failure else RunOutcome.MOVED
        wrong = "; ".join(filter(None, (run.detail, ended.failure)))
        self._tell(routine, wrong)
        now = self._clock().wall
        self._book.end(run.number, now, outcome, files=ended.files, size=ended.size, detail=wrong)
        return True

    def _break_off(self, routine: Routine, run: Run) -> None:
        """A run's process has ended while it planned, as with the machine. Another try is due; few are no trouble."""
        now = self._clock()
        self._book.end(run.number, now.wall, RunOutcome.BROKEN_OFF)
        last = self._book.runs(routine.name, _BROKEN_OFF)
        if len(last) == _BROKEN_OFF and all(each.outcome is RunOutcome.BROKEN_OFF for each in last):
            self._tell(routine, f"its planning was broken off {_BROKEN_OFF} times in a row")
        else:
            self._book.set_due(routine.name, now.wall, now)

    def _owner(self, run: Run) -> Owned:
        """Who plans a run."""
        if run.number in self._planning:
            return Owned.OURS
        alive = run.owner is not None and run.owner != Holder.this_process() and run.owner.is_alive
        return Owned.ANOTHERS if alive else Owned.NOBODYS

    def _tell(self, routine: Routine, trouble: str) -> None:
        """Tell of trouble when it begins, and when it is over."""
        if bool(trouble) != bool(routine.trouble):
            self._book.change(routine.name, trouble=trouble)
            if trouble:
                self._listener.routine_trouble(routine, trouble)
            else:
                self._listener.routine_well(routine)
