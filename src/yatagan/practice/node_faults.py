"""Faults on demand: what a practice node does wrong when asked to.

They are kept in a small file beside the node's root. A running node looks at it before every request, so a
fault can be set from another process at any time.
"""

from __future__ import annotations

import asyncio
import json
import os
import time
from collections.abc import Callable
from dataclasses import asdict, dataclass, fields
from pathlib import Path

from yatagan.config.units import parse_duration, parse_size

#: Seconds after which an answer comes too late for everyone.
_NEVER = 3600.0


@dataclass(frozen=True, slots=True)
class Faults:
    """What goes wrong. Bytes count from the moment that the fault was set, over both directions.

    `cut_after` bytes: every connection is cut, once. `refuse_for` seconds: logins are refused, from the cut on
    when there is one, else at once. `delay` seconds before every request. `max_rate` bytes a second.
    `full_after` bytes written: the disk is full. `approve_after` seconds: a login by password and code then waits
    for an approval elsewhere, which comes so late. `kill_after` seconds: every connection ends at that age.
    `one_word`: bittern asks for password and code as one word. `other_key`: the host key is another one. `sessions`:
    so many at once on one connection. `away`: an address of heron's at which nothing answers. `foreign_names`: the disk
    ignores case and takes no name with a colon, and no commands are run. `power_cut`: the power goes, once for each new
    number, and what was not synced is forgotten in part; the number draws which part. `no_commands`: none are run.
    `cut_at_rename`: when so many files have got their names, every connection is cut, once, before that is answered.
    """

    cut_after: int | None = None
    refuse_for: float | None = None
    delay: float | None = None
    max_rate: int | None = None
    full_after: int | None = None
    approve_after: float | None = None
    kill_after: float | None = None
    one_word: bool = False
    other_key: bool = False
    sessions: int | None = None
    away: str | None = None
    foreign_names: bool = False
    power_cut: int | None = None
    no_commands: bool = False
    cut_at_rename: int | None = None

    def with_(self, name: str, value: str) -> Faults:
        """The faults with one changed, given as text: `cut-after`, `20MB`. Raises ValueError."""
        field = name.replace("-", "_")
        if field not in {known.name for known in fields(self)}:
            raise ValueError(f"unknown fault {name!r}; known: {', '.join(names())}")
        return Faults(**{**asdict(self), field: _READERS.get(field, parse_size)(value)})


def _yes(value: str) -> bool:
    if value not in ("yes", "no"):
        raise ValueError(f"{value!r} is neither yes nor no")
    return value == "yes"


#: How the values are read; what is not here is a number of bytes.
_READERS: dict[str, Callable[[str], object]] = {
    "refuse_for": parse_duration,
    "delay": parse_duration,
    "approve_after": parse_duration,
    "kill_after": parse_duration,
    "one_word": _yes,
    "other_key": _yes,
    "sessions": int,
    "away": str,
    "foreign_names": _yes,
    "power_cut": int,
    "no_commands": _yes,
    "cut_at_rename": int,
}


def names() -> list[str]:
    """The faults' names as one types them."""
    return [known.name.replace("_", "-") for known in fields(Faults)]


def save(file: Path, faults: Faults) -> None:
    """Set a node's faults, whole or not at all."""
    new = file.with_suffix(".new")
    new.write_text(json.dumps(asdict(faults)), encoding="utf-8")
    os.replace(new, file)


def load(file: Path) -> Faults:
    """A node's faults; none when there is no file."""
    try:
        return Faults(**json.loads(file.read_text(encoding="utf-8")))
    except FileNotFoundError:
        return Faults()


class Trouble:
    """Makes the faults happen on one node. `cut` ends every connection of the node."""

    def __init__(self, file: Path, cut: Callable[[], None]) -> None:
        self._file = file
        self._cut = cut
        self._stamp: tuple[int, int] | None = None
        self._faults = Faults()
        self._carried = 0
        self._written = 0
        self._renames = 0
        self._was_cut = False
        self._refuse_until = 0.0
        self._free_at = 0.0

    @property
    def now(self) -> Faults:
        """The faults as they are set now."""
        return self._now()

    def _now(self) -> Faults:
        try:
            status = os.stat(self._file)
            stamp = (status.st_mtime_ns, status.st_ino)
        except FileNotFoundError:
            stamp = (0, 0)
        if stamp != self._stamp:
            self._stamp, self._faults = stamp, load(self._file)
            self._carried = self._written = self._renames = 0
            self._was_cut = False
            refuse = self._faults.refuse_for
            at_once = refuse is not None and self._faults.cut_after is None
            self._refuse_until = time.monotonic() + refuse if refuse is not None and at_once else 0.0
        return self._faults

    @property
    def refuses(self) -> bool:
        """Whether a login is refused now."""
        self._now()
        return time.monotonic() < self._refuse_until

    @property
    def room(self) -> int | None:
        """Bytes that may still be written; None without such a fault."""
        full = self._now().full_after
        return None if full is None else max(0, full - self._written)

    @property
    def approval(self) -> float:
        """Seconds until a login is approved."""
        return self._now().approve_after or 0.0

    @property
    def patience(self) -> float:
        """Seconds after which a connection is cut; 0 for never."""
        return self._now().kill_after or 0.0

    async def before_request(self) -> None:
        """Wait for the delay."""
        if delay := self._now().delay:
            await asyncio.sleep(delay)

    async def after_rename(self) -> None:
        """Count a file that has got its name; its answer may be lost from here on."""
        at = self._now().cut_at_rename
        self._renames += 1
        if at is not None and self._renames == at:
            self._cut()
            await asyncio.sleep(_NEVER)

    async def carry(self, count: int, *, written: bool) -> None:
        """Count bytes that pass, delay them to the rate, and cut when it is time."""
        faults = self._now()
        self._carried += count
        self._written += count if written else 0
        if faults.cut_after is not None and self._carried >= faults.cut_after and not self._was_cut:
            self._was_cut = True
            if faults.refuse_for is not None:
                self._refuse_until = time.monotonic() + faults.refuse_for
            self._cut()
        if faults.max_rate:
            now = time.monotonic()
            self._free_at = max(self._free_at, now) + count / faults.max_rate
            if self._free_at > now:
                await asyncio.sleep(self._free_at - now)
