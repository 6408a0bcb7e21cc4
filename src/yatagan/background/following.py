"""Following directories: whether something has changed in them since that was last asked.

Where events can be had, the system tells (watchfiles). On another machine's disk there are none of what others do, and
a system may run out of what it takes to watch: then the answer is None, and the caller must poll.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
from collections.abc import Sequence
from pathlib import Path

from yatagan.config.disks import on_network


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
    """Follows directories under names. Its tasks belong to the running loop."""

    def __init__(self) -> None:
        self._tasks: dict[str, asyncio.Task[None]] = {}
        self._directories: dict[str, tuple[str, ...]] = {}
        self._changed: set[str] = set()
        self._failed: dict[str, str] = {}

    def changed(self, name: str, directories: tuple[str, ...]) -> bool | None:
        """Whether something has changed since this was last asked; at first, yes. None where that is unknown."""
        if why_not_followed(directories) or name in self._failed:
            return None
        task = self._tasks.get(name)
        if task is None or task.done() or self._directories[name] != directories:
            self.forget(name)
            self._directories[name] = directories
            self._tasks[name] = asyncio.ensure_future(self._follow(name, directories))
            return True
        found = name in self._changed
        self._changed.discard(name)
        return found

    def why_failed(self, name: str) -> str:
        """Why a directory is not followed any more; "" if it is."""
        return self._failed.get(name, "")

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
            self._failed[name] = str(error)
