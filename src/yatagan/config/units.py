"""Spans of time and sizes as people write them."""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta
from decimal import Decimal

#: As many digits as any size, time or count can have.
_NUMBER = r"\d{1,15}(?:\.\d{1,9})?"
_UNITS = {"ms": 0.001, "s": 1.0, "m": 60.0, "min": 60.0, "h": 3600.0, "d": 86400.0}
_FACTORS = {"": 1, "K": 10**3, "M": 10**6, "G": 10**9, "T": 10**12}
_SIZE = re.compile(rf"\s*({_NUMBER})\s*([kKMGT]?)[bB]?(?:/s)?\s*")
_MOMENT = re.compile(_NUMBER)
_DURATION = re.compile(rf"\s*({_NUMBER})\s*(ms|s|m|min|h|d)\s*")


def parse_duration(text: str) -> float:
    """Seconds from `90s`, `10m` or `10min`, `8h`, `2d`. Raises ValueError."""
    match = _DURATION.fullmatch(text)
    if not match:
        raise ValueError(f"{text!r} is no duration; write 90s, 10m, 8h or 2d")
    return float(match[1]) * _UNITS[match[2]]


def spell_duration(seconds: float) -> str:
    """The reverse of `parse_duration`, in the largest unit that fits exactly, to the millisecond."""
    for unit in ("d", "h", "m", "s"):
        if seconds >= _UNITS[unit] and seconds % _UNITS[unit] == 0:
            return f"{round(seconds / _UNITS[unit])}{unit}"
    return f"{round(seconds / _UNITS['ms'])}ms"


def parse_rate(text: str) -> int:
    """Bytes a second from `20MB/s`, `500kB/s` or `20MB`, at least 1,000. Raises ValueError."""
    try:
        rate = parse_size(text)
    except ValueError:
        rate = 0
    if rate < 1000:
        raise ValueError(f"{text!r} is no rate: write 20MB/s or 500kB/s, and no less than 1kB/s")
    return rate


def parse_moment(text: str) -> int:
    """A time in nanoseconds from seconds since 1970, such as `1767225600` or `1767225600.5`. Raises ValueError."""
    if not _MOMENT.fullmatch(text):
        raise ValueError(f"{text!r} is no time; write seconds since 1970, such as 1767225600")
    return round(Decimal(text) * 10**9)


def parse_date(text: str, *, end: bool = False) -> datetime:
    """A time from `2026-11-27`, `2026-11-27T18:00`, or `7d`, which is so long ago; without a zone, of this machine.

    A day begins at midnight; its `end` is the next. Raises ValueError.
    """
    try:
        if _DURATION.fullmatch(text):
            return datetime.now(UTC) - timedelta(seconds=parse_duration(text))
        found = datetime.fromisoformat(text)
        if len(text) == len("2026-11-27") and end:
            found += timedelta(days=1)
        return found.astimezone(UTC)
    except (ValueError, OverflowError):
        raise ValueError(f"{text!r} is no date; write 2026-11-27, 2026-11-27T18:00, or 7d for seven days ago") from None


def parse_count(text: str) -> int:
    """A whole number from 0 on. Raises ValueError."""
    if not (text.isascii() and text.isdecimal()):
        raise ValueError(f"{text!r} is no whole number; write 0, 1, 2 and so on")
    return int(text)


def parse_size(text: str) -> int:
    """Bytes from `500kB`, `20MB`, `20MB/s`, `4096`. Raises ValueError."""
    match = _SIZE.fullmatch(text)
    if not match:
        raise ValueError(f"{text!r} is no size; write 500kB, 20MB or 4096")
    return int(float(match[1]) * _FACTORS[match[2].upper()])
