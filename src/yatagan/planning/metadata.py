"""Which entries that are there already have other modes or times than their source. No contents are carried for those.

What an access list of the destination, or its mask, makes of the bits of a group is no difference of modes. What a
server has refused to set is not planned again.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping

from yatagan.batches.steps import Modes, Times
from yatagan.planning.plan import Arrival
from yatagan.stores.interface import Facts, Kind, Store, same_time
from yatagan.trees.compare import Difference, Verdict
from yatagan.trees.not_kept import with_access_lists

#: Bits of files that are carried, of directories besides, and the one that a directory may have been handed down.
_FILE_BITS, _DIRECTORY_BITS, _HANDED_DOWN, _GROUP_BITS = 0o777, 0o3777, 0o2000, 0o070

#: Of paths at the destination and the facts wanted there: those that were refused before as they are now.
RefusedBefore = Callable[[Mapping[bytes, tuple[Facts, Facts]]], set[bytes]]


async def compare_facts(
    arrival: Arrival,
    destination: Store,
    modes: Modes,
    times: Times,
    bundled: Callable[[bytes], bool],
    refused: RefusedBefore | None,
) -> None:
    """Note in an arrival which entries have other facts.

    `bundled`: whether a path of the destination is in a stored bundle. Raises StoreError when the connection is lost.
    """
    arrival.keeps_times = times is Times.KEEP
    differ: dict[bytes, Difference] = {}
    by_group: list[bytes] = []
    for each in arrival.differences.of(Verdict.SAME):
        if each.other is None or bundled(arrival.there.absolute(each.path)):
            continue
        bits = _other_bits(each.facts, each.other) if modes is Modes.KEEP else 0
        moved = times is Times.KEEP and each.facts.kind is not Kind.LINK
        moved = moved and not same_time(each.facts.mtime_ns, each.other.mtime_ns, arrival.step_ns)
        if bits or moved:
            differ[each.path] = each
        if bits and not bits & ~_GROUP_BITS and not moved:
            by_group.append(each.path)
    if by_group:
        absolute = {arrival.there.absolute(path): path for path in by_group}
        for path in await with_access_lists(destination, arrival.there.root, list(absolute)):
            differ.pop(absolute[path], None)
    if differ and refused is not None:
        wanted = {
            arrival.there.absolute(path): (each.facts, each.other)
            for path, each in differ.items()
            if each.other is not None
        }
        before = refused(wanted)
        differ = {path: each for path, each in differ.items() if arrival.there.absolute(path) not in before}
    arrival.facts_differ = set(differ)


def _other_bits(facts: Facts, other: Facts) -> int:
    """The bits that are to be carried and differ."""
    if facts.kind is Kind.FILE:
        return (facts.mode ^ other.mode) & _FILE_BITS
    if facts.kind is not Kind.DIRECTORY:
        return 0
    # A directory above may have handed that bit down; where it is missing it is to be had.
    given = _HANDED_DOWN if other.mode & _HANDED_DOWN else 0
    return (facts.mode ^ other.mode) & _DIRECTORY_BITS & ~given
