"""Warnings before a plan is carried out: areas that are no place for data, and login nodes."""

from __future__ import annotations

import posixpath
import shutil
import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from yatagan.batches.steps import Times
from yatagan.cli import text
from yatagan.cli.area import age, meaning
from yatagan.config.areas import Area, split_area
from yatagan.config.nodes import Node, Role
from yatagan.config.settings import LoginNodeSettings
from yatagan.errors import Refused, StoreError
from yatagan.faults import CONNECTION_FAULTS
from yatagan.places import Place, holds
from yatagan.planning.plan import Arrival, Plan
from yatagan.stores.interface import Kind, Store
from yatagan.trees.compare import Verdict

#: A connection and a disk as they often are, for a first guess: bytes and small files a second.
_USUAL_RATE, _USUAL_FILES = 30e6, 200
#: From this round trip (seconds) and size (bytes) on one connection is little, which holds so many bytes on its way.
_LONG, _MUCH, _BUFFERS = 0.02, 200_000_000, 4 << 20


#: Seconds from which on a shell is called slow.
_SLOW_SHELL = 5.0


@dataclass(frozen=True, slots=True)
class Caution:
    """A warning. `first`: it is shown before the plan."""

    label: str
    text: str
    first: bool = False


def look_at_patterns(unmatched: Sequence[bytes]) -> list[Caution]:
    """Patterns of --only that match nothing: a slip, or files that are not there."""
    return [Caution("only", f"{text.show(pattern)} matches nothing") for pattern in unmatched]


def look_at_shells(stores: Sequence[Store]) -> list[Caution]:
    """Nodes whose shells are so slow that commands are done without, or that cost every login."""
    found = []
    for store in stores:
        seconds = text.duration(store.traits.shell_seconds)
        if store.traits.shell_too_slow:
            longer = text.command("config", "set", "connection.shell", "3min")
            words = f"the shell of {store.name} has started nothing within {seconds}, so nothing is proven there"
            found.append(Caution("", f"{words}; to wait longer: {longer}", first=True))
        elif store.traits.shell_seconds >= _SLOW_SHELL:
            found.append(Caution("shell", f"that of {store.name} took {seconds} to start a command"))
    return found


async def _roots(store: Store, node: Node) -> list[tuple[bytes, Area]]:
    """The real paths of a node's areas, without those that do not exist."""
    found = []
    for area in node.areas:
        try:
            found.append((await store.resolve(b"@" + area.name.encode(), follow=True), area))
        except StoreError as error:
            if error.fault in CONNECTION_FAULTS:
                raise
    return found


def _read_only(node: Node, area: Area) -> Refused:
    return Refused(
        f"{node.name}:@{area.name} is saved as read-only",
        f"name another place, or allow it: {text.command('area', 'change', node.name, area.name, '--writable')}",
    )


async def refuse_read_only(store: Store, node: Node, path: bytes) -> Area | None:
    """The innermost area that holds a resolved path. Raises Refused if it is read-only."""
    holding = [(len(root), area) for root, area in await _roots(store, node) if holds(root, path)]
    area = max(holding, key=lambda each: each[0])[1] if holding else None
    if area is not None and area.read_only:
        raise _read_only(node, area)
    return area


def _landing(arrival: Arrival) -> Iterator[bytes]:
    """Every path that would be written."""
    for difference in arrival.differences:
        if difference.verdict not in (Verdict.SAME, Verdict.NEWER_THERE):
            yield arrival.there.absolute(difference.path)
    for storing in arrival.storing:
        yield storing.bundle


async def refuse_plan(store: Store, node: Node, plan: Plan) -> None:
    """Raise Refused if anything would land in a read-only area below the destination."""
    closed = [(root, area) for root, area in await _roots(store, node) if area.read_only]
    for arrival in plan.arrivals:
        base = arrival.there.root
        for root, area in closed:
            if (holds(base, root) or holds(root, base)) and any(holds(root, path) for path in _landing(arrival)):
                raise _read_only(node, area)


async def look_at_area(store: Store, node: Node, place: Place) -> tuple[Area | None, list[Caution]]:
    """The area of a destination. Raises Refused if it is read-only."""
    if not node.areas:
        return None, []
    path = await store.resolve(place.path, follow=True)
    area = await refuse_read_only(store, node, path)
    named, _ = split_area(place.path)
    cautions = []
    if named and (area is None or area.name != named):
        lands = text.place(node.name, path)
        cautions.append(Caution("leads out", f"a link leads out of @{named}: what is staged lands in {lands}"))
    if area is not None and (words := meaning(area)):
        cautions.append(Caution("area", f"@{area.name}: {words}"))
    return area, cautions


def look_at_ages(plan: Plan, area: Area | None, times: Times) -> list[Caution]:
    """Warn of files that are so old that the area's next purge would remove them."""
    if area is None or area.purged_after is None or times is Times.NOW:
        return []
    limit = (time.time() - area.purged_after) * 1e9
    old = sum(
        difference.facts.mtime_ns < limit
        for arrival in plan.arrivals
        for difference in arrival.differences
        if difference.facts.kind is Kind.FILE and difference.verdict not in (Verdict.SAME, Verdict.NEWER_THERE)
    )
    if not old:
        return []
    one = old == 1
    words = (
        f"{text.count(old, 'file')} {'is' if one else 'are'} older than {age(area.purged_after)}: "
        f"@{area.name} may remove {'it' if one else 'them'} at once; --times now gives them the time of arrival"
    )
    return [Caution("too old", words, first=True)]


def look_at_name(plan: Plan, source: Place, destination: Place) -> list[Caution]:
    """Warn of a destination that looks like the new name of a file: it will be a directory."""
    alone = len(plan.arrivals) == 1 and plan.arrivals[0].tree.entries[b""].kind is Kind.FILE
    name = destination.name
    if not (alone and plan.destination in plan.above and b"." in name.lstrip(b".")):
        return []
    above = Place(destination.node, posixpath.dirname(destination.path) or (b"" if destination.node else b"."))
    words = (
        f"{text.show(name)} will be a directory with {text.show(plan.arrivals[0].name)} in it; to rename, use --as: "
        f"{text.command('stage', source, above, '--as', name)}"
    )
    return [Caution("new directory", words, first=True)]


def refuse_without_space(plan: Plan, node: str, reserve: int) -> None:
    """Raise Refused if what is to be carried does not fit: a shared disk must not be filled to the last byte.

    What is replaced is kept, so every file needs its whole size.
    """
    needed, free = plan.summary.size - plan.safe, plan.free
    if free is None or needed <= 0 or any(arrival.storing for arrival in plan.arrivals):
        return
    missing = needed + reserve - free
    if missing <= 0:
        return
    raise Refused(
        f"there is not enough free space on {node or 'this machine'}: {text.size(missing)} more are needed for "
        f"{text.size(needed)} of files and {text.size(reserve)} that a stage leaves free ({text.size(free)} are free)",
        "free some space, choose less with --only, or begin anyway with --no-space-check",
    )


def look_at_spool(plan: Plan, directory: Path) -> list[Caution]:
    """Warn of bundles that are made before they are sent and may not fit here."""
    sizes = [storing.size for arrival in plan.arrivals for storing in arrival.storing]
    if not sizes:
        return []
    while not directory.exists():
        directory = directory.parent
    free = shutil.disk_usage(directory).free
    if free > max(sizes):
        return []
    words = (
        f"the largest bundle comes to {text.size(max(sizes))} at most and is made here before it is sent, where "
        f"{text.size(free)} are free (in {text.show(str(directory))})"
    )
    return [Caution("space here", words)]


def look_at_line(plan: Plan, stores: Sequence[Store]) -> list[Caution]:
    """Warn of a single connection with a long round trip."""
    found = []
    for store in stores:
        round_trip = store.lone_round_trip
        if round_trip is not None and round_trip >= _LONG and plan.summary.size >= _MUCH:
            words = (
                f"a person logs in to {store.name}, so all goes over one connection: at {round_trip * 1000:.0f} ms "
                f"a round trip about {text.size(int(_BUFFERS / round_trip))}/s at most. Where a key alone opens, "
                "several connections share it"
            )
            found.append(Caution("one login", words))
    return found


def look_at_role(plan: Plan, node: Node, others: Sequence[Node], settings: LoginNodeSettings) -> list[Caution]:
    """Warn of a long or large transfer through a login node."""
    counts = plan.summary
    seconds = counts.size / _USUAL_RATE + counts.files / _USUAL_FILES
    if node.role is not Role.LOGIN or (counts.size <= settings.size and seconds <= settings.time):
        return []
    better = [
        other.name
        for other in others
        if other.role is Role.TRANSFER and node.cluster is not None and other.cluster == node.cluster
    ]
    words = (
        f"{node.name} is made for logging in: long processes are killed there, and its network is everyone's; "
        f"this is {text.size(counts.size)}, about {text.duration(seconds)}"
    )
    if better:
        words += f". {better[0]} is made for moving data and sees the same disks: write {better[0]}: for {node.name}:"
    return [Caution("login node", words)]
