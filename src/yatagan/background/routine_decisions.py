"""When a routine runs, and what becomes of a run that is under way: every decision. No I/O.

A routine that runs at intervals goes by the clock that only counts on, as long as the machine is not restarted; one
that runs at a time of day by the wall's. A moment that is further ahead than any interval could have made it is wrong:
then the next one is found anew.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from yatagan.background.schedules import DailyAt, OnChange, Schedule
from yatagan.batches.moments import Moment, seconds_left

#: Seconds until a routine's batch is looked at again.
LOOK = 20.0
#: Seconds between questions whether something has changed.
_CHANGES = 2.0
#: A due time that is found anew, and is no further off than so many seconds, is the same.
_SAME = 1.0


class Act(StrEnum):
    """What is done now."""

    WAIT = "wait"
    RUN = "run"
    #: It is due while its last run goes on: that is counted.
    LEAVE_OUT = "leave out"


@dataclass(frozen=True, slots=True)
class RoutineLook:
    """What to do with a routine now.

    `due`: when it is due next, by the wall's clock. `again`: seconds until the next look; None for never by itself.
    """

    act: Act
    due: float
    again: float | None


@dataclass(frozen=True, slots=True)
class RoutineStanding:
    """What a routine's state says. `due` was set at `since`; `until` is 0 without an end; `settles` in seconds."""

    schedule: Schedule
    due: float
    since: Moment
    held: bool = False
    until: float = 0.0
    settles: float = 0.0


def look(routine: RoutineStanding, *, going_on: bool, changed: bool | None, now: Moment) -> RoutineLook:
    """What is done with a routine now.

    `going_on`: whether its last run is under way. `changed`: whether something has changed in what it follows since
    that was last asked; None where that is unknown.
    """
    if routine.held or (routine.until and now.wall >= routine.until):
        return RoutineLook(Act.WAIT, routine.due, LOOK if going_on else None)
    due = _brought_forward(routine, due_at(routine, now), changed, now)
    if due > now.wall:
        again = min(due - now.wall, _CHANGES if isinstance(routine.schedule, OnChange) else LOOK)
        return RoutineLook(Act.WAIT, due, again)
    if going_on and isinstance(routine.schedule, OnChange):  # what has changed meanwhile is its next run's
        return RoutineLook(Act.WAIT, due, _CHANGES)
    following = next_due(routine.schedule, due, now.wall)
    if going_on:
        return RoutineLook(Act.LEAVE_OUT, following, LOOK)
    return RoutineLook(Act.RUN, following, 1.0)


def next_due(schedule: Schedule, due: float, now: float) -> float:
    """When a routine is due next that was due, and is run, now. What was missed is not made up for again."""
    if isinstance(schedule, OnChange):
        return schedule.after(now, now)
    while (found := schedule.after(due, now)) <= now:
        due = found
    return found


def due_at(routine: RoutineStanding, now: Moment) -> float:
    """When a routine is due by the wall's clock, as the clocks are now."""
    found = _found_due(routine, now)
    return routine.due if abs(found - routine.due) < _SAME else found


def _found_due(routine: RoutineStanding, now: Moment) -> float:
    longest = max(routine.settles, routine.schedule.after(now.wall, now.wall) - now.wall)
    if isinstance(routine.schedule, DailyAt):
        ahead = routine.due - now.wall
        return routine.due if ahead <= longest else routine.schedule.after(now.wall, now.wall)
    wait = routine.due - routine.since.wall
    if wait <= 0:
        return min(routine.due, now.wall)
    if wait > longest + _SAME:  # it was set by a clock that was wrong even then, or by an earlier version
        return min(routine.due, now.wall + longest)
    return now.wall + seconds_left(routine.since, wait, now)


def _brought_forward(routine: RoutineStanding, due: float, changed: bool | None, now: Moment) -> float:
    """When a routine is due that runs on a change: as soon as that has settled."""
    if not isinstance(routine.schedule, OnChange):
        return due
    if changed:
        return min(due, now.wall + routine.settles)
    return min(due, now.wall + routine.schedule.looks) if changed is None else due


class Owned(StrEnum):
    """Who is at a run that has no batch yet."""

    OURS = "ours"
    ANOTHERS = "another's"
    #: The process that planned it is gone.
    NOBODYS = "nobody's"


def plans_on(owner: Owned) -> bool:
    """Whether a run without a batch is still being planned."""
    return owner is not Owned.NOBODYS
