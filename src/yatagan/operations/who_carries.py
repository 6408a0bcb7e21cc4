"""Carrying an accepted batch, whoever asks for it: a command, a worker, or a program."""

from __future__ import annotations

from yatagan.batches.batch_store import Batch
from yatagan.batches.events import Listener
from yatagan.batches.journal import Journal
from yatagan.desk.desk import Desk
from yatagan.desk.open_session import OpenSession
from yatagan.engine.run import BatchRun
from yatagan.keeper.client import KeeperRun
from yatagan.places import Place
from yatagan.stores.interface import Source
from yatagan.stores.local import LocalSource


async def make_run(
    desk: Desk,
    batch: Batch,
    journal: Journal,
    listener: Listener,
    ends: tuple[Source, Source] | None = None,
    *,
    umask: int | None = None,
    by_itself: bool = False,
) -> BatchRun | KeeperRun:
    """The run of a batch whose lock is held. What goes over one open node alone is carried by the keeper of that.

    `ends`: source and destination where they are open already. `umask`: that of the process that accepted it, where
    that is another. `by_itself`: nobody asks for it, so after a full disk it goes on only where all that is left will
    fit. Raises UnknownNode, BadConfig, StoreError.
    """
    header = journal.header()
    nodes = header.source_node, header.destination_node
    names = [name for name in nodes if name]
    keeper = desk.keeper(names[0]) if len(names) == 1 else None  # no keeper has the other node
    if keeper is not None:
        for end in ends or ():
            if isinstance(end, OpenSession):
                await end.release()
        return KeeperRun(keeper, desk.nodes().get(keeper.node), batch, journal, listener)
    if ends is None:
        pins = journal.standing().pins
        ends = _end(desk, nodes[0], pins, umask), _end(desk, nodes[1], pins, umask)
    ledger = desk.ledger_in(header.purpose.ledger)
    return BatchRun(batch, journal, ends, listener, ledger, desk.connection().patience, room_first=by_itself)


def _end(desk: Desk, node: str, pins: dict[str, tuple[str, int]], umask: int | None) -> Source:
    """One end. What the batch means on this machine was resolved when it was accepted, and is absolute."""
    return desk.source(Place(node, b""), pinned=pins.get(node)) if node else LocalSource(b"/", umask=umask)
