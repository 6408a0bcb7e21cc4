"""What a worker carries, and how much of it at once."""

from __future__ import annotations

from yatagan.batches.events import Listener
from yatagan.batches.journal import Journal
from yatagan.batches.queue import Taken
from yatagan.batches.queueing import QueueLimits
from yatagan.config.home import Home
from yatagan.config.nodes import NodeBook
from yatagan.config.settings import load_settings
from yatagan.desk.desk import Desk
from yatagan.engine.accepted_paths import refuse_moved
from yatagan.engine.recording import record
from yatagan.engine.run import BatchRun
from yatagan.errors import UnknownNode
from yatagan.keeper.client import KeeperRun
from yatagan.operations.who_carries import make_run


def queue_limits(home: Home) -> QueueLimits:
    """How many batches may be carried at once, as the settings and the nodes say now. Raises BadConfig."""
    nodes = NodeBook(home.nodes_file)

    def over_node(name: str) -> int:
        try:
            return nodes.get(name).batches_at_once
        except UnknownNode:
            return 1

    return QueueLimits(load_settings(home).queue.at_once, over_node)


class UnattendedRuns:
    """Makes runs of the queue's batches, at a desk where nobody answers."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk

    def limits(self) -> QueueLimits:
        return queue_limits(self._desk.home)

    async def make_run(self, taken: Taken, journal: Journal, listener: Listener) -> BatchRun | KeeperRun:
        await refuse_moved(journal.header())
        return await make_run(self._desk, taken.batch, journal, listener, umask=taken.entry.umask, by_itself=True)

    def record(self, journal: Journal) -> None:
        record(journal, self._desk.ledger_in(journal.header().purpose.ledger))
