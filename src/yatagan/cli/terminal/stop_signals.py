"""Signals that stop a batch cleanly. One that comes before its run has begun, or after it has ended, ends nothing."""

from __future__ import annotations

import asyncio
import signal
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from yatagan.cli.terminal.terminating import as_interrupt

#: What `batch hold` and `batch cancel` send to the process that carries a batch.
STOP_BATCH = signal.SIGUSR1
_STOPPING = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP, STOP_BATCH)

_asked = False


def _note(*_: object) -> None:
    """Remember that a batch is to be stopped."""
    global _asked
    _asked = True


def listen() -> None:
    """From now on a request to stop a batch is remembered until it has a run."""
    signal.signal(STOP_BATCH, _note)


def ignore() -> None:
    """From now on such a request is ignored, until the process is gone: its end gives other handlers up too soon."""
    signal.signal(STOP_BATCH, signal.SIG_IGN)


@contextmanager
def handled(stop: Callable[[], None]) -> Iterator[None]:
    """While a batch is carried: these signals call `stop`, which a request that came before does at once."""
    loop = asyncio.get_running_loop()
    for number in _STOPPING:
        loop.add_signal_handler(number, stop)
    if _asked:
        stop()
    try:
        yield
    finally:
        # One that comes now comes too late. Left to its default it would kill the process that is about to end well.
        signal.pthread_sigmask(signal.SIG_BLOCK, {STOP_BATCH})
        for number in _STOPPING:
            loop.remove_signal_handler(number)
        as_interrupt()
        ignore()
        signal.pthread_sigmask(signal.SIG_UNBLOCK, {STOP_BATCH})
