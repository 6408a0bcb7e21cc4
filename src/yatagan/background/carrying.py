"""Unattended runs of batches: their ends are opened without questions, or they go over open nodes."""

from __future__ import annotations

from yatagan.batches.batch_store import Batch
from yatagan.batches.events import Listener
from yatagan.batches.journal import Journal
from yatagan.batches.queue import Taken
from yatagan.batches.queueing import QueueLimits
from yatagan.config.home import Home
from yatagan.config.nodes import NodeBook
from yatagan.config.settings import load_settings
from yatagan.engine.accepted_paths import refuse_moved
from yatagan.engine.recording import record
from yatagan.engine.run import BatchRun
from yatagan.errors import UnknownNode
from yatagan.keeper.client import Keeper, KeeperRun
from yatagan.keeper.endpoint import Endpoint
from yatagan.ledger.ledger import Ledger
from yatagan.nodes.prompts import NoPrompter
from yatagan.stores.interface import Source
from yatagan.stores.local import LocalSource
from yatagan.stores.node_source import NodeSource


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
    """Makes runs of the queue's batches. `agent`: the socket of the SSH agent, "" without one."""

    def __init__(self, home: Home, agent: str) -> None:
        self._home = home
        self._agent = agent

    def limits(self) -> QueueLimits:
        """See `Carrying.limits`."""
        return queue_limits(self._home)

    async def make_run(self, taken: Taken, journal: Journal, listener: Listener) -> BatchRun | KeeperRun:
        """See `Carrying.make_run`."""
        await refuse_moved(journal.header())
        return make_run(self._home, taken.batch, journal, listener, self._ledger(journal), umask=taken.entry.umask)

    def record(self, journal: Journal) -> None:
        """See `Carrying.record`."""
        record(journal, self._ledger(journal))

    def _ledger(self, journal: Journal) -> Ledger:
        settings = load_settings(self._home).ledger
        return Ledger.of(self._home, settings, self._agent, journal.header().purpose.ledger)


def make_run(
    home: Home, batch: Batch, journal: Journal, listener: Listener, ledger: Ledger, *, umask: int
) -> BatchRun | KeeperRun:
    """The run of a batch whose lock is held. `umask` is that of the process that accepted it.

    Raises UnknownNode, BadConfig.
    """
    header, settings, nodes = journal.header(), load_settings(home), NodeBook(home.nodes_file)
    pins, prompter = journal.standing().pins, NoPrompter()
    names = [name for name in (header.source_node, header.destination_node) if name]
    if len(names) == 1 and (keeper := open_keeper(home, names[0])) is not None:  # no keeper has the other node
        return KeeperRun(keeper, nodes.get(names[0]), batch, journal, listener)

    def end(name: str) -> Source:
        if not name:
            return LocalSource(b"/", umask=umask)
        if (keeper := open_keeper(home, name)) is not None:
            from yatagan.keeper.store import KeeperSource

            return KeeperSource(keeper, nodes.get(name), pinned=pins.get(name))
        return NodeSource(nodes.get(name), home, settings.connection, prompter, pinned=pins.get(name))

    ends = end(header.source_node), end(header.destination_node)
    return BatchRun(batch, journal, ends, listener, ledger, settings.connection.patience, room_first=True)


def open_keeper(home: Home, node: str) -> Keeper | None:
    """The running keeper of a node; None without one. What its server asks is not answered."""
    meeting = Endpoint(home, node)
    connection = meeting.connect()
    if connection is None:
        return None
    connection.close()
    return Keeper(meeting, NoPrompter())
