"""Of which algorithm the digests of a list are, where it does not say: tried with one small file."""

from __future__ import annotations

from collections.abc import Sequence

from yatagan.digests.algorithms import by_length
from yatagan.digests.checksum_lists import Listed
from yatagan.request_errors import BadVerify, WrongVerify
from yatagan.stores.interface import Kind, Readable
from yatagan.trees.hashing import digests
from yatagan.trees.scan import Tree


async def refuse_other_algorithm(store: Readable, tree: Tree, listed: Sequence[Listed], name: str) -> None:
    """Raise BadVerify if the smallest file on a list has its digest by another algorithm of that length.

    `name`: the list's place. Raises StoreError when the connection is lost.
    """
    there = [line for line in listed if (facts := tree.entries.get(line.path)) and facts.kind is Kind.FILE]
    line = min(there, key=lambda each: tree.entries[each.path].size, default=None)
    if line is None:
        return
    for other in by_length(len(line.digest)):
        made = await digests(store, tree, [line.path], other.name, lambda content: None)
        if made[line.path].digest == line.digest and other.name != line.algorithm:
            raise BadVerify(WrongVerify.OTHER_ALGORITHM, name, right=other.name, taken=line.algorithm)
