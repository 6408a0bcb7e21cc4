"""What earlier batches have put into places: so that a file which was changed there since is not replaced
unseen."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from itertools import islice
from typing import NamedTuple

from yatagan.batches.batch_store import Batches
from yatagan.batches.steps import Times
from yatagan.stores.interface import Facts

#: Batches that are looked through, the newest first: those that went to the same node, and all.
_BATCHES, _BATCHES_IN_ALL = 20, 200


class Placed(NamedTuple):
    """The facts and the digest of a file, as a batch has put it into its place; "" where it was not hashed."""

    facts: Facts
    digest: str


def refused_before(batches: Batches, node: str, wanted: Mapping[bytes, tuple[Facts, Facts]]) -> set[bytes]:
    """Paths of a node whose facts a batch was to set, and which the node has refused; they are as they were then.

    `wanted`: the facts that they are to have, and those that they have, by path.
    """
    found = set[bytes]()
    for _, journal in islice(batches.opened(), _BATCHES):
        if journal.header().destination_node == node:
            for path, step in journal.refused(wanted.keys() - found).items():
                facts, there = wanted[path]
                same = (step.facts.mode, step.facts.mtime_ns) == (facts.mode, facts.mtime_ns)
                if same and step.seen is not None and step.seen.mode == there.mode:
                    found.add(path)
    return found


def placed_before(batches: Batches, node: str, paths: Iterable[bytes]) -> dict[bytes, Placed]:
    """What a batch last put under these paths of a node, "" for this machine, by path.

    Journals that cannot be read tell nothing, nor do batches that set the time of arrival.
    """
    wanted, found, left = set(paths), dict[bytes, Placed](), _BATCHES
    if not wanted:
        return found
    for _, journal in islice(batches.opened(), _BATCHES_IN_ALL):
        header = journal.header()
        if header.destination_node == node and header.times is Times.KEEP:
            placed = journal.placed(wanted)
            found.update((path, Placed(step.facts, step.digest)) for path, step in placed.items())
            wanted -= placed.keys()
            left -= 1
        if not (wanted and left):
            break
    return found
