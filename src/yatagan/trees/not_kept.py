"""What files and directories of a source have that does not arrive with them, counted for the plan."""

from __future__ import annotations

import asyncio
import os
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from itertools import islice

from yatagan.errors import FileTrouble
from yatagan.nodes.replies import AccessListsReply, NotKeptReply, read_reply
from yatagan.portable import facts_not_kept
from yatagan.portable.modules import NOT_KEPT
from yatagan.stores.interface import Store, machine_of

#: Entries of one request, and of a tree: more would be a long wait.
_ENTRIES_PER_REQUEST, _MOST_ENTRIES = 5_000, 50_000


@dataclass(slots=True)
class NotKept:
    """Counts of entries with what will not arrive: hard links, access lists, extended attributes.

    `known`: the source could be asked. `all`: every entry was looked at.
    """

    names: int = 0
    lists: int = 0
    attributes: int = 0
    known: bool = True
    all: bool = True

    def add(self, counts: Sequence[int]) -> None:
        """Add to each count."""
        self.names += counts[0]
        self.lists += counts[1]
        self.attributes += counts[2]


async def with_access_lists(store: Store, root: bytes, paths: Sequence[bytes]) -> set[bytes]:
    """Those of these paths below a root that have an access list; none where the machine cannot be asked.

    Raises StoreError when the connection is lost.
    """
    if store.traits.here:
        return set(await asyncio.to_thread(facts_not_kept.with_lists, paths))
    if store.machine is None:
        return set()
    found = set[bytes]()
    for at in range(0, len(paths), _ENTRIES_PER_REQUEST):
        some = [os.fsdecode(path) for path in paths[at : at + _ENTRIES_PER_REQUEST]]
        try:
            reply = read_reply(AccessListsReply, await store.machine.run(NOT_KEPT, "with_lists", b"", {"paths": some}))
            found.update(map(os.fsencode, reply.paths))
        except (FileTrouble, UnicodeEncodeError):
            return set()
    return found


async def find_unkept(source: Store, trees: Iterable[tuple[bytes, Iterable[bytes]]]) -> NotKept:
    """Count over trees, given as root and paths below it. Raises StoreError when the connection is lost."""
    found = NotKept()
    for root, paths in trees:
        if source.traits.here:
            found.add(await asyncio.to_thread(facts_not_kept.count, (os.path.join(root, path) for path in paths)))
            continue
        wanted = list(islice(paths, _MOST_ENTRIES + 1))
        found.all &= len(wanted) <= _MOST_ENTRIES
        for at in range(0, min(len(wanted), _MOST_ENTRIES), _ENTRIES_PER_REQUEST):
            some = wanted[at : min(at + _ENTRIES_PER_REQUEST, _MOST_ENTRIES)]
            values = {"root": os.fsdecode(root), "paths": [os.fsdecode(path) for path in some]}
            try:
                reply = await machine_of(source).run(NOT_KEPT, "not_kept", b"", values)
                found.add(read_reply(NotKeptReply, reply).counts)
            except FileTrouble:
                found.known = False
                return found
    return found
