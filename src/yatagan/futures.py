"""Futures whose waiters may be gone."""

from __future__ import annotations

import asyncio
from typing import Any


def fail(future: asyncio.Future[Any], error: BaseException) -> None:
    """Settle a future with an error, unless it is settled.

    Its waiter may have been cancelled the moment before: then nothing takes the error, which is no defect.
    """
    if not future.done():
        future.set_exception(error)
        future.exception()  # counts as seen


def first_of(group: BaseExceptionGroup[BaseException]) -> BaseException:
    """The first of several errors at once."""
    for error in group.exceptions:
        return first_of(error) if isinstance(error, BaseExceptionGroup) else error
    return group
