"""Stores of practice nodes, opened in the test itself."""

from __future__ import annotations

from conftest import Program
from yatagan.config.home import Home
from yatagan.config.nodes import NodeBook
from yatagan.config.settings import ConnectionSettings
from yatagan.nodes.prompts import NoPrompter
from yatagan.stores.node_source import NodeSource
from yatagan.stores.sftp import SftpStore


def home_of(program: Program) -> Home:
    return Home(program.home, program.home, program.home / ".ssh", program.home)


async def opened(program: Program, processes: int = 0) -> SftpStore:
    home = home_of(program)
    found = NodeBook(home.nodes_file).get("oak")
    return await NodeSource(found, home, ConnectionSettings(processes=processes), NoPrompter()).open()
