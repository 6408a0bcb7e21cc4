"""Installing what `timers` writes: as systemd units of the user, or else in their crontab.

A crontab is the user's own text, kept by a program that can only replace all of it. So nothing is written unless the
present one was read for certain, or is known not to exist; it is saved first; and it is read again afterwards.
"""

from __future__ import annotations

import contextlib
import os
import subprocess
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

from yatagan.background.timer_errors import TimerFault, TimerTrouble
from yatagan.background.timers import (
    BrokenMarkers,
    NotWritable,
    Timed,
    crontab_lines,
    lines_in,
    service_unit,
    timer_unit,
    with_lines,
)
from yatagan.config.own_files import make_private, replace_file

#: Seconds in which systemd or the crontab command must have answered.
_PATIENCE = 20


@dataclass(frozen=True, slots=True)
class Installed:
    """What there is. `where`: files, or the crontab. `lasts`: whether it runs when the user is not logged in."""

    way: str
    there: bool
    current: bool
    where: tuple[str, ...]
    lasts: bool


class TimerWay(Protocol):
    """A way to have something run after a restart and every few minutes."""

    def text(self) -> str:
        """What would be written. Raises TimerTrouble."""

    def look(self) -> Installed:
        """What is there. Raises TimerTrouble."""

    def install(self) -> None:
        """Write it. Doing so again changes nothing. Raises TimerTrouble."""

    def remove(self) -> None:
        """Take it away, if it is there. Raises TimerTrouble."""


class SystemdUser:
    """Units of the user, in `units`."""

    def __init__(self, timed: Timed, units: Path) -> None:
        self._timed = timed
        self._service = units / f"{timed.name}.service"
        self._timer = units / f"{timed.name}.timer"

    @staticmethod
    def is_there() -> bool:
        """Whether a systemd of the user answers."""
        if not os.path.isdir("/run/systemd/system"):
            return False
        with contextlib.suppress(TimerTrouble):
            _run("systemctl", "--user", "show-environment")
            return True
        return False

    def _files(self) -> dict[Path, str]:
        try:
            return {self._service: service_unit(self._timed), self._timer: timer_unit(self._timed)}
        except NotWritable as error:
            raise TimerTrouble(TimerFault.PATH, str(error)) from error

    def text(self) -> str:
        return "\n".join(f"# {file}\n{content}" for file, content in self._files().items())

    def look(self) -> Installed:
        wanted = self._files()
        there = {file: file.read_text() for file in wanted if file.exists()}
        user = str(os.getuid())
        with contextlib.suppress(TimerTrouble):
            lasts = "Linger=yes" in _run("loginctl", "show-user", user, "--property=Linger")
            return Installed("systemd", bool(there), there == wanted, tuple(map(str, wanted)), lasts)
        return Installed("systemd", bool(there), there == wanted, tuple(map(str, wanted)), False)

    def install(self) -> None:
        for file, content in self._files().items():
            try:
                make_private(file.parent)
                replace_file(file, content.encode("utf-8", "surrogateescape"), durable=True)
                file.chmod(0o644)
            except OSError as error:
                raise TimerTrouble(TimerFault.NOT_WRITTEN, str(file), error.strerror or "") from error
        _run("systemctl", "--user", "daemon-reload")
        _run("systemctl", "--user", "enable", "--now", self._timer.name)

    def remove(self) -> None:
        if not self._timer.exists() and not self._service.exists():
            return
        _run("systemctl", "--user", "disable", "--now", self._timer.name)
        for file in (self._timer, self._service):
            file.unlink(missing_ok=True)
        _run("systemctl", "--user", "daemon-reload")


class Crontab:
    """Lines in the user's crontab. `saved`: where the one before ours is kept."""

    def __init__(self, timed: Timed, saved: Path) -> None:
        self._timed = timed
        self._saved = saved

    def _lines(self) -> list[str]:
        try:
            return crontab_lines(self._timed)
        except NotWritable as error:
            raise TimerTrouble(TimerFault.PATH, str(error)) from error

    def text(self) -> str:
        return with_lines("", self._timed.name, self._lines())

    def look(self) -> Installed:
        with _told_if_broken():
            found = lines_in(self._read(), self._timed.name)
        return Installed("crontab", bool(found), found == self._lines(), ("the crontab",), True)

    def install(self) -> None:
        self._change(self._lines())

    def remove(self) -> None:
        self._change([])

    def _change(self, lines: list[str]) -> None:
        before = self._read()
        with _told_if_broken():
            after = with_lines(before, self._timed.name, lines)
        if after == before:
            return
        try:
            make_private(self._saved.parent)
            replace_file(self._saved, before.encode("utf-8", "surrogateescape"), durable=True)
        except OSError as error:
            raise TimerTrouble(TimerFault.NOT_SAVED, str(self._saved), error.strerror or "") from error
        _run("crontab", "-", given=after)
        if self._read() != after:
            raise TimerTrouble(TimerFault.CHANGED_MEANWHILE, str(self._saved))

    def _read(self) -> str:
        """The present crontab; "" if it is proven that there is none. Raises TimerTrouble."""
        done = _start("crontab", "-l")
        if done.returncode == 0:
            return done.stdout
        # The words of the crontab commands of cron, cronie and busybox, in no other language (LC_ALL=C).
        said = done.stderr.strip().lower()
        if done.returncode == 1 and not done.stdout and (said.startswith("no crontab for") or "no crontab" in said):
            return ""
        raise TimerTrouble(TimerFault.NOT_READ, detail=done.stderr.strip())


@contextlib.contextmanager
def _told_if_broken():  # type: ignore[no-untyped-def]
    try:
        yield
    except BrokenMarkers:
        raise TimerTrouble(TimerFault.MARKERS) from None


def _start(*words: str, given: str | None = None) -> subprocess.CompletedProcess[str]:
    try:
        return subprocess.run(
            words,
            input=given,
            stdin=None if given is not None else subprocess.DEVNULL,
            capture_output=True,
            text=True,
            errors="surrogateescape",
            timeout=_PATIENCE,
            env={**os.environ, "LC_ALL": "C"},
            check=False,
        )
    except subprocess.TimeoutExpired:
        raise TimerTrouble(TimerFault.SILENT, words[0], f"{_PATIENCE} s") from None
    except OSError as error:
        why = "" if isinstance(error, FileNotFoundError) else str(error.strerror)
        raise TimerTrouble(TimerFault.NOT_THERE, words[0], why) from error


def _run(*words: str, given: str | None = None) -> str:
    """What a command prints. Raises TimerTrouble where it fails."""
    done = _start(*words, given=given)
    if done.returncode:
        said = done.stderr.strip().rpartition("\n")[2] or f"status {done.returncode}"
        raise TimerTrouble(TimerFault.FAILED, " ".join(words), said)
    return done.stdout
