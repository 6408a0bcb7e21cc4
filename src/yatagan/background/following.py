"""Following directories: whether something has changed in them since that was last asked.

Where events can be had, the system tells (watchfiles). On another machine's disk there are none of what others do, and
a system may run out of what it takes to watch: then the answer is None, and the caller must poll.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
import time
from collections.abc import Sequence
from pathlib import Path

from yatagan.config.disks import on_network

#: Seconds after which following is tried again where it failed, as for want of watch handles.
_TRIED_AGAIN = 3600.0


def why_not_followed(directories: Sequence[str]) -> str:
    """Why changes in these directories cannot be followed; "" if they can. One that is a node's is ""."""
    for directory in directories:
        if not directory:
            return "a source is on a node"
        if not os.path.exists(directory):
            return f"{directory} is not there"
        if on_network(Path(directory)):
            return f"{directory} is on another machine's disk"
    return ""


class Follower:
    """Follows directories under names. Its tasks belong to the running loop.

    A directory that was taken away and came back, as a disk that is mounted again, is another one: it is followed anew.
    """

    def __init__(self) -> None:
        self._identities: dict[str, tuple[tuple[int, int], ...]] = {}
        self._tasks: dict[str, asyncio.Task[None]] = {}
        self._directories: dict[str, tuple[str, ...]] = {}
        self._changed: set[str] = set()
        self._failed: dict[str, tuple[str, float]] = {}

    def changed(self, name: str, directories: tuple[str, ...]) -> bool | None:
        """Whether something has changed since this was last asked; at first, yes. None where that is unknown."""
        identities = _identities(directories)
        if why_not_followed(directories) or identities is None or self._has_failed(name):
            return None
        task = self._tasks.get(name)
        same = self._directories.get(name) == directories and self._identities.get(name) == identities
        if task is None or task.done() or not same:
            self.forget(name)
            self._directories[name], self._identities[name] = directories, identities
            self._tasks[name] = asyncio.ensure_future(self._follow(name, directories))
            return True
        found = name in self._changed
        self._changed.discard(name)
        return found

    def why_failed(self, name: str) -> str:
        """Why a directory is not followed any more; "" if it is."""
        return self._failed.get(name, ("", 0.0))[0]

    def _has_failed(self, name: str) -> bool:
        """Whether a directory could not be followed not long ago."""
        why, when = self._failed.get(name, ("", 0.0))
        if why and time.monotonic() - when > _TRIED_AGAIN:
            del self._failed[name]
            return False
        return bool(why)

    def forget(self, name: str) -> None:
        """Stop following the directories under this name."""
        if (task := self._tasks.pop(name, None)) is not None:
            task.cancel()
        self._changed.discard(name)

    async def close(self) -> None:
        """Stop following all directories."""
        tasks = list(self._tasks.values())
        for name in list(self._tasks):
            self.forget(name)
        await asyncio.gather(*tasks, return_exceptions=True)

    async def _follow(self, name: str, directories: tuple[str, ...]) -> None:
        try:
            from watchfiles import awatch

            everything = awatch(*directories, watch_filter=None, step=200, rust_timeout=1000)
            async with contextlib.aclosing(everything):
                async for _ in everything:
                    self._changed.add(name)
        except (OSError, RuntimeError, ImportError) as error:  # no watch handles left, or no way to watch here
            self._failed[name] = str(error), time.monotonic()


def _identities(directories: Sequence[str]) -> tuple[tuple[int, int], ...] | None:
    """Which directories these are now; None where one is not there."""
    try:
        found = [os.stat(directory) for directory in directories]
    except OSError:
        return None
    return tuple((each.st_dev, each.st_ino) for each in found)
