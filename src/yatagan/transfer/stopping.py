"""Stopping a transfer: the exception that says so, and waiting for something unless a stop is asked for."""

from __future__ import annotations

import asyncio
from collections.abc import Coroutine
from typing import Any, TypeVar

T = TypeVar("T")


class Stopped(Exception):
    """A stop was asked for; what could be synced is."""


async def unless_stopped(stop: asyncio.Event, work: Coroutine[Any, Any, T]) -> T:
    """Await `work`, which may take long and changes nothing; cancel it and raise Stopped when a stop is asked for."""
    task, stopped = asyncio.ensure_future(work), asyncio.ensure_future(stop.wait())
    try:
        await asyncio.wait((task, stopped), return_when=asyncio.FIRST_COMPLETED)
        if not task.done():
            raise Stopped
        return await task
    finally:
        for each in (task, stopped):
            each.cancel()
        await asyncio.gather(task, stopped, return_exceptions=True)
