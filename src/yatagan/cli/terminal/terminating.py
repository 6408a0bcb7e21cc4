"""SIGTERM ends a command as Ctrl-C does: cleanly, and with the status that is documented for that."""

from __future__ import annotations

import os
import signal


def as_interrupt() -> None:
    """From now on SIGTERM does what Ctrl-C does."""
    signal.signal(signal.SIGTERM, _interrupt)


def leave_at_once(status: int) -> None:
    """From now on either of them ends the process at once, with this status: the answer is out."""
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, lambda *_: os._exit(status))


def _interrupt(*_: object) -> None:
    signal.raise_signal(signal.SIGINT)
