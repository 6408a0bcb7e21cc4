"""When a routine is due. Pure: the time comes with each question, and the local calendar from a function.

A clock may jump, and a machine may sleep. What was missed is made up for once, not once for each time. A time of
day that the calendar leaves out (when summer time begins) is taken as late as it would have been; one that comes twice
is taken once.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime, timedelta

from yatagan.config.units import parse_duration, spell_duration

#: The local time of an instant, and the instant of a local time; both without a zone in them.
Local = Callable[[float], datetime]
Instant = Callable[[datetime], float]

_TIME = re.compile(r"([01]?\d|2[0-3]):([0-5]\d)")


def local_time(instant: float) -> datetime:
    """The local time of an instant on this machine."""
    return datetime.fromtimestamp(instant)


def instant_of(local: datetime) -> float:
    """The instant of a local time on this machine; of one that is left out, as late as it would have been (PEP 495)."""
    return local.timestamp()


@dataclass(frozen=True, slots=True)
class Every:
    """Again and again after so many seconds."""

    seconds: float

    def after(self, last: float, now: float) -> float:
        """When it is due that was due `last`. Where times were missed, the last of them."""
        if last > now:  # the clock was put back
            last = now
        missed = max(0, int((now - last) // self.seconds) - 1)
        return last + (missed + 1) * self.seconds

    def __str__(self) -> str:
        return f"every {spell_duration(self.seconds)}"


@dataclass(frozen=True, slots=True)
class DailyAt:
    """Every day at a local time."""

    hour: int
    minute: int
    local: Local = local_time
    instant: Instant = instant_of

    def after(self, last: float, now: float) -> float:
        day = self.local(min(last, now))
        found = self._on(day)
        while found <= min(last, now):
            day += timedelta(days=1)
            found = self._on(day)
        while (later := self._on(day + timedelta(days=1))) <= now:
            day, found = day + timedelta(days=1), later
        return found

    def _on(self, day: datetime) -> float:
        return self.instant(day.replace(hour=self.hour, minute=self.minute, second=0, microsecond=0, fold=0))

    def __str__(self) -> str:
        return f"at {self.hour:02}:{self.minute:02}"


@dataclass(frozen=True, slots=True)
class OnChange:
    """When something has changed. Also polled at intervals: often where there are no events, rarely where there are."""

    looks: float = 60.0
    looks_even_so: float = 3600.0

    def after(self, last: float, now: float) -> float:
        """When it is polled next, with or without events."""
        return Every(self.looks_even_so).after(last, now)

    def __str__(self) -> str:
        return "on change"


Schedule = Every | DailyAt | OnChange

#: The shortest time between two runs, in seconds.
_SHORTEST = 10.0


def parse_every(text: str) -> Every:
    """A schedule from `15m`, `15min`, `2h`, `1d`. Raises ValueError."""
    seconds = parse_duration(text)
    if seconds < _SHORTEST:
        raise ValueError(f"every {text} is too often: 10s is the least")
    return Every(seconds)


def parse_at(text: str) -> DailyAt:
    """A schedule from a time of day such as `02:30`. Raises ValueError."""
    match = _TIME.fullmatch(text.strip())
    if match is None:
        raise ValueError(f"{text!r} is no time of day; write it as 02:30")
    return DailyAt(int(match[1]), int(match[2]))


def read_schedule(text: str) -> Schedule:
    """The reverse of `str`. Raises ValueError."""
    kind, _, value = text.partition(" ")
    if text == str(OnChange()):
        return OnChange()
    return parse_every(value) if kind == "every" else parse_at(value)
