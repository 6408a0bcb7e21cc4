"""The keeper's process: `python -m yatagan.keeper DESCRIPTOR`, started by `yatagan node open` alone."""

from __future__ import annotations

import asyncio
import contextlib
import ctypes
import gc
import resource
import socket
import sys
from pathlib import Path
from typing import Any

from yatagan.config.defects import write_defects_to
from yatagan.config.home import Home
from yatagan.errors import KeeperFault, KeeperRefuses
from yatagan.keeper.client import codec
from yatagan.keeper.protocol import Peer
from yatagan.keeper.requests import PromptRelay
from yatagan.keeper.service import Service

_PR_SET_DUMPABLE = 4


def _keep_memory_to_ourselves() -> None:
    """No core dumps, and no other process may look into this one's memory, where the system can forbid that."""
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    with contextlib.suppress(OSError, AttributeError):
        ctypes.CDLL(None).prctl(_PR_SET_DUMPABLE, 0, 0, 0, 0)


async def _begin(beginning: socket.socket) -> Service | None:
    """Log in as the command that started us asks; None when it gave up."""
    service: Service | None = None
    opened = asyncio.Event()

    async def handle(what: str, values: tuple[Any, ...]) -> Any:
        nonlocal service
        if what != "open":
            raise KeeperRefuses(KeeperFault.UNKNOWN_REQUEST, what)
        places, node, until = values
        home = Home(*map(Path, places))
        write_defects_to(home.defects)
        service = Service(home, node, until)
        status = await service.open(PromptRelay(peer))
        opened.set()
        return status

    beginning.setblocking(False)
    reader, writer = await asyncio.open_unix_connection(sock=beginning)
    peer = Peer(codec(), reader, writer, handle, lambda what, values: None)
    await peer.gone.wait()  # the command hangs up when it has its answer, or gives up
    await peer.close()
    return service if opened.is_set() else None


async def _main(beginning: socket.socket) -> None:
    service = await _begin(beginning)
    gc.collect()  # of the conversation nothing must stay, and what was typed least of all
    if service is not None:
        await service.serve()


if __name__ == "__main__":
    _keep_memory_to_ourselves()
    asyncio.run(_main(socket.socket(fileno=int(sys.argv[1]))))
