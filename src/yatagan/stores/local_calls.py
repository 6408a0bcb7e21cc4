"""Calls to this machine's system: in a thread, with errors in our terms, under another umask where one is wanted."""

from __future__ import annotations

import asyncio
import os
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import ParamSpec, TypeVar

from yatagan.errors import StoreError
from yatagan.faults import Fault
from yatagan.stores.system_errors import fault_of

P = ParamSpec("P")
T = TypeVar("T")

#: A process has only one umask.
_UMASK = threading.Lock()


async def in_thread(path: bytes, function: Callable[P, T], *args: P.args, **kwargs: P.kwargs) -> T:
    """Call a function in a thread. Raises StoreError, about `path`, for what the system refuses."""
    try:
        return await asyncio.to_thread(function, *args, **kwargs)
    except OSError as error:
        raise fault_of(error, path) from error
    except ValueError as error:  # a NUL byte in a name
        raise StoreError(Fault.REFUSED, path, detail=str(error)) from error


def own_umask() -> int:
    """The umask of this process."""
    with _UMASK:
        umask = os.umask(0o077)
        os.umask(umask)
    return umask


@contextmanager
def with_umask(umask: int | None) -> Iterator[None]:
    """Files that are made in the block get this umask; None leaves it as it is."""
    if umask is None:
        yield
        return
    with _UMASK:
        before = os.umask(umask)
        try:
            yield
        finally:
            os.umask(before)
