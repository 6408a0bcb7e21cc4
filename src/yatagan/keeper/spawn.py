"""Starting a keeper: a process of its own that outlives the command and its terminal."""

from __future__ import annotations

import asyncio
import os
import socket
import subprocess
import sys
from collections.abc import Callable

from yatagan.config.home import Home
from yatagan.config.nodes import Node
from yatagan.config.own_files import open_private
from yatagan.errors import CannotReach, JournalError, UnknownHostKey
from yatagan.keeper.client import KeeperStatus, converse
from yatagan.keeper.protocol import Gone
from yatagan.nodes.prompts import Prompter


async def open_node(
    home: Home, node: Node, until: float, answers: Prompter, trusts: Callable[[UnknownHostKey], bool]
) -> KeeperStatus:
    """Start a keeper that logs in to a node and stays until then (seconds since the epoch).

    What the server asks is put to `answers`, and an unknown host key to `trusts`, which accepts it or not.
    Raises CannotReach, Refused.
    """
    near, far = socket.socketpair()
    log = home.keepers / f"{node.name}.log"
    try:
        descriptor = open_private(log, os.O_WRONLY | os.O_TRUNC)
    except OSError as error:
        raise JournalError(str(log), error.strerror or str(error)) from error
    with far:
        process = await asyncio.create_subprocess_exec(
            sys.executable,
            "-P",
            "-m",
            "yatagan.keeper",
            str(far.fileno()),
            pass_fds=(far.fileno(),),
            stdin=subprocess.DEVNULL,
            stdout=descriptor,
            stderr=descriptor,
            cwd="/",
            start_new_session=True,
        )
    os.close(descriptor)
    near.setblocking(False)
    peer = await converse(near, answers)
    places = tuple(map(str, (home.config, home.state, home.ssh, home.runtime, home.system_ssh)))
    try:
        while True:
            try:
                status: KeeperStatus = await peer.ask("open", places, node, until)
                return status
            except UnknownHostKey as error:
                if not trusts(error):
                    raise
    except Gone:
        await process.wait()
        raise CannotReach(node.name, "keeper", "it could not be started", passing=False, remedy=f"see {log}") from None
    finally:
        await peer.close()
