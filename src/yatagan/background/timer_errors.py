"""What can go wrong with a timer of the system, as types."""

from __future__ import annotations

from enum import StrEnum

from yatagan.errors import Refused


class TimerFault(StrEnum):
    """Why a timer of the system was not looked at, installed or removed."""

    PATH = "a path that none can hold"
    NOT_WRITTEN = "a file that cannot be written"
    NOT_SAVED = "a crontab that cannot be saved before it is changed"
    CHANGED_MEANWHILE = "a crontab that another program changes"
    NOT_READ = "a crontab that cannot be read"
    MARKERS = "a crontab in which our lines have lost their beginning or their end"
    SILENT = "a command that has not answered"
    NOT_THERE = "a command that cannot be run"
    FAILED = "a command that has failed"


class TimerTrouble(Refused):
    """A timer of the system was not looked at, installed or removed.

    `what`: the file or the command; `detail`: what the system said of it, or how long it was waited for.
    """

    def __init__(self, fault: TimerFault, what: str = "", detail: str = "") -> None:
        super().__init__(f"{fault.value}: {what} {detail}".rstrip())
        self.fault = fault
        self.what = what
        self.detail = detail
