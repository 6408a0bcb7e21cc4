"""SIGTERM ends a command as Ctrl-C does: cleanly, and with the status that is documented for that."""

from __future__ import annotations

import signal


def as_interrupt() -> None:
    """From now on SIGTERM does what Ctrl-C does."""
    signal.signal(signal.SIGTERM, _interrupt)


def _interrupt(*_: object) -> None:
    signal.raise_signal(signal.SIGINT)
