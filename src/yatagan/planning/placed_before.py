"""What earlier batches have put into places: so that a file which was changed there since is not replaced
unseen."""

from __future__ import annotations

from collections.abc import Iterable
from itertools import islice

from yatagan.batches.batch_store import Batches
from yatagan.batches.steps import Times
from yatagan.stores.interface import Facts

#: Batches that are looked through, the newest first.
_BATCHES = 20


def placed_before(batches: Batches, node: str, paths: Iterable[bytes]) -> dict[bytes, Facts]:
    """The facts of files when a batch last put them under these paths of a node, "" for this machine, by path.

    Journals that cannot be read tell nothing, nor do batches that set the time of arrival.
    """
    wanted, found = set(paths), dict[bytes, Facts]()
    if not wanted:
        return found
    for _, journal in islice(batches.opened(), _BATCHES):
        header = journal.header()
        if header.destination_node == node and header.times is Times.KEEP:
            placed = journal.placed(wanted)
            found.update(placed)
            wanted -= placed.keys()
        if not wanted:
            break
    return found
