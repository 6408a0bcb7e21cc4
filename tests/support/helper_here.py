"""The helper program, started on this machine as a node would start it."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable
from typing import Any

from yatagan.nodes.helper import Helper


class Pipe:
    """A command of this machine in place of a node's."""

    def __init__(self, child: asyncio.subprocess.Process) -> None:
        self._child = child
        self.stdin, self.stdout = child.stdin, child.stdout

    def close(self) -> None:
        self.stdin.close()  # type: ignore[union-attr]


#: Seconds for the shell; any of the machine's that is slower is a fault of its own.
PATIENCE = 60


def with_helper(work: Callable[[Helper], Awaitable[Any]], before: str = "") -> Any:
    """Start the helper in a shell that does something else before, work with it, and end it."""

    async def whole() -> Any:
        children = []

        async def run(command: str) -> Pipe:
            pipe = asyncio.subprocess.PIPE
            child = await asyncio.create_subprocess_exec("/bin/sh", "-c", before + command, stdin=pipe, stdout=pipe)
            children.append(child)
            return Pipe(child)

        try:
            helper = await Helper.start(run, PATIENCE)
            try:
                return await work(helper)
            finally:
                await helper.close()
        finally:
            for child in children:
                await child.communicate()

    return asyncio.run(whole())
