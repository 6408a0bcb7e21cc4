"""The exit statuses."""

from __future__ import annotations

from enum import IntEnum


class ExitStatus(IntEnum):
    """What the program's exit status means."""

    GOOD = 0
    DIFFERENCES = 1
    USAGE = 2
    NO_LOGIN = 3
    INTERRUPTED = 4
    REFUSED = 5
