"""A directory that is moved away, with a link to a stranger's in its place, just before one chosen call to the system.

Python reports calls that take a path to audit hooks; those that only look are wrapped. A hook stays for good, so each
run is a process of its own.
"""

from __future__ import annotations

import os
import pickle
import sys
import traceback
from collections.abc import Callable
from typing import Any

#: Calls that take a path, by the names of their audit events.
EVENTS = frozenset(
    f"os.{name}"
    for name in (
        *("link", "rename", "mkdir", "symlink", "remove", "rmdir", "chmod", "chown", "utime", "truncate", "listdir"),
        *("scandir", "setxattr", "getxattr", "listxattr", "removexattr"),
    )
) | {"open"}
#: Calls that only look, of which no hook hears.
LOOKS = ("stat", "lstat", "readlink", "statvfs", "access")


def swap(directory: str, aside: str, victim: str) -> None:
    """What somebody does who wants to be written to elsewhere."""
    os.rename(directory, aside)
    os.symlink(victim, directory)


def install(number: int, swapping: Callable[[], None]) -> Callable[[], int]:
    """Have `swapping` called just before the call of this number; what is returned counts the calls."""
    calls, busy = 0, False

    def called() -> None:
        nonlocal calls, busy
        if busy:
            return
        calls += 1
        if calls == number:
            busy = True
            try:
                swapping()
            except OSError:
                pass  # what was to be swapped is not there yet, or no more
            finally:
                busy = False

    def hook(event: str, given: tuple[Any, ...]) -> None:
        if event in EVENTS and isinstance(given[0], str | bytes):
            called()

    def wrap(name: str) -> None:
        plain = getattr(os, name)

        def looking(*given: Any, **more: Any) -> Any:
            if given and isinstance(given[0], str | bytes):
                called()
            return plain(*given, **more)

        setattr(os, name, looking)

    for name in LOOKS:
        wrap(name)
    sys.addaudithook(hook)
    return lambda: calls


def in_a_child(work: Callable[[], Any]) -> Any:
    """What `work` returns, done in a fork. Raises AssertionError when it raises anything."""
    reading, writing = os.pipe()
    child = os.fork()
    if not child:
        try:
            told = True, work()
        except BaseException:  # noqa: BLE001 the parent raises it
            told = False, traceback.format_exc()
        with os.fdopen(writing, "wb") as stream:
            stream.write(pickle.dumps(told))
        os._exit(0)
    os.close(writing)
    with os.fdopen(reading, "rb") as stream:
        data = stream.read()
    os.waitpid(child, 0)
    good, value = pickle.loads(data)
    assert good, value
    return value
