"""Moments by two clocks: the wall's, which people put right, and one that only counts on, also while a machine sleeps.

Between two looks of one run of a machine the second decides how much time has passed. After a restart only the wall's
is left. It may have been wrong then or be wrong now; so no wait lasts longer than it was meant to when it began.
"""

from __future__ import annotations

import time
from dataclasses import dataclass

from yatagan.config.machine import boot_id

#: Counts while the machine sleeps, where there is such a clock.
_COUNTING = getattr(time, "CLOCK_BOOTTIME", time.CLOCK_MONOTONIC)


@dataclass(frozen=True, slots=True)
class Moment:
    """A moment: seconds since the epoch by the wall's clock, and `ticks` in seconds since the start named by `boot`."""

    wall: float
    boot: str
    ticks: float

    @classmethod
    def now(cls) -> Moment:
        """This moment."""
        return cls(time.time(), boot_id(), time.clock_gettime(_COUNTING))


#: A moment long ago.
NEVER = Moment(0.0, "", 0.0)


def seconds_left(since: Moment, seconds: float, now: Moment) -> float:
    """How much is left of a wait of so many seconds that began at a moment; 0 when it is over."""
    if since.boot and since.boot == now.boot:
        return max(0.0, seconds - (now.ticks - since.ticks))
    left = since.wall + seconds - now.wall
    return left if 0 < left <= seconds else 0.0
