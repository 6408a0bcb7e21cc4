"""What should be known of a plan before it is carried out: areas that are no place for data, login nodes, slow shells.

Each is a value; what it says to a person is the interface's.
"""

from __future__ import annotations

import posixpath
import shutil
import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from yatagan.batches.steps import Times
from yatagan.config.areas import Area
from yatagan.config.nodes import Node, Role
from yatagan.config.settings import LoginNodeSettings
from yatagan.places import Place
from yatagan.planning.gone import NoLongerThere
from yatagan.planning.plan import Plan
from yatagan.stores.interface import Kind, Store
from yatagan.trees.compare import Verdict

#: A connection and a disk as they often are, for a first guess: bytes and small files a second.
_USUAL_RATE, _USUAL_FILES = 30e6, 200
#: From this round trip (seconds) and size (bytes) on one connection is little, which holds so many bytes on its way.
_LONG, _MUCH, _BUFFERS = 0.02, 200_000_000, 4 << 20
#: Seconds from which on a shell is called slow.
_SLOW_SHELL = 5.0


@dataclass(frozen=True, slots=True)
class MatchesNothing:
    """A pattern of what is chosen matches nothing: a slip, or files that are not there."""

    pattern: bytes


@dataclass(frozen=True, slots=True)
class ShellTooSlow:
    """A node's shell has started nothing within so many seconds, so commands are done without."""

    node: str
    seconds: float


@dataclass(frozen=True, slots=True)
class ShellSlow:
    """A node's shell takes so many seconds to start a command, at every login."""

    node: str
    seconds: float


@dataclass(frozen=True, slots=True)
class LeadsOut:
    """A link leads out of the area that was named; what is staged lands at `path`."""

    area: str
    node: str
    path: bytes


@dataclass(frozen=True, slots=True)
class LandsIn:
    """What is staged lands in this area."""

    area: Area


@dataclass(frozen=True, slots=True)
class TooOld:
    """So many files are so old that the area's next purge would remove them."""

    files: int
    area: Area


@dataclass(frozen=True, slots=True)
class BecomesDirectory:
    """The destination looks like the new name of the one file `name`, and will be a directory in `above` with it."""

    source: Place
    name: bytes
    directory: bytes
    above: Place


@dataclass(frozen=True, slots=True)
class LittleRoomHere:
    """The largest bundle is made here before it is sent, where it may not fit. In bytes."""

    needed: int
    free: int
    directory: str


@dataclass(frozen=True, slots=True)
class OneLogin:
    """A person logs in, so all goes over one connection: `rate` bytes a second at most. `round_trip` in seconds."""

    node: str
    round_trip: float
    rate: int


@dataclass(frozen=True, slots=True)
class LoginNode:
    """Much is carried through a node that is made for logging in; `better` is one that sees the same disks, or ""."""

    node: str
    size: int
    seconds: float
    better: str


@dataclass(frozen=True, slots=True)
class GoneHere:
    """What was staged before and is no longer at the source; `node` is "" where that is this machine.

    `decided`: it goes on record as gone.
    """

    gone: NoLongerThere
    node: str
    decided: bool


Caution = (
    MatchesNothing
    | ShellTooSlow
    | ShellSlow
    | LeadsOut
    | LandsIn
    | TooOld
    | BecomesDirectory
    | LittleRoomHere
    | OneLogin
    | LoginNode
    | GoneHere
)


def look_at_shells(stores: Sequence[Store]) -> Iterator[Caution]:
    """Nodes whose shells are slow."""
    for store in stores:
        seconds = store.traits.shell_seconds
        if store.traits.shell_too_slow:
            yield ShellTooSlow(store.name, seconds)
        elif seconds >= _SLOW_SHELL:
            yield ShellSlow(store.name, seconds)


def look_at_ages(plan: Plan, area: Area | None, times: Times) -> Iterator[Caution]:
    """Files that the area's next purge would remove."""
    if area is None or area.purged_after is None or times is Times.NOW:
        return
    limit = (time.time() - area.purged_after) * 1e9
    old = sum(
        difference.facts.mtime_ns < limit
        for arrival in plan.arrivals
        for difference in arrival.differences
        if difference.facts.kind is Kind.FILE and difference.verdict not in (Verdict.SAME, Verdict.NEWER_THERE)
    )
    if old:
        yield TooOld(old, area)


def look_at_name(plan: Plan, source: Place, destination: Place) -> Iterator[Caution]:
    """A destination that looks like the new name of a file."""
    alone = len(plan.arrivals) == 1 and plan.arrivals[0].tree.entries[b""].kind is Kind.FILE
    name = destination.name
    if alone and plan.destination in plan.above and b"." in name.lstrip(b"."):
        above = Place(destination.node, posixpath.dirname(destination.path) or (b"" if destination.node else b"."))
        yield BecomesDirectory(source, plan.arrivals[0].name, name, above)


def look_at_spool(plan: Plan, directory: Path) -> Iterator[Caution]:
    """Bundles that are made before they are sent, and may not fit here."""
    sizes = [storing.size for arrival in plan.arrivals for storing in arrival.storing]
    if not sizes:
        return
    while not directory.exists():
        directory = directory.parent
    free = shutil.disk_usage(directory).free
    if free <= max(sizes):
        yield LittleRoomHere(max(sizes), free, str(directory))


def look_at_line(plan: Plan, stores: Sequence[Store]) -> Iterator[Caution]:
    """A single connection with a long round trip."""
    for store in stores:
        round_trip = store.lone_round_trip
        if round_trip is not None and round_trip >= _LONG and plan.summary.size >= _MUCH:
            yield OneLogin(store.name, round_trip, int(_BUFFERS / round_trip))


def look_at_role(plan: Plan, node: Node, others: Sequence[Node], settings: LoginNodeSettings) -> Iterator[Caution]:
    """A long or large transfer through a login node."""
    counts = plan.summary
    seconds = counts.size / _USUAL_RATE + counts.files / _USUAL_FILES
    if node.role is not Role.LOGIN or (counts.size <= settings.size and seconds <= settings.time):
        return
    better = (
        other.name
        for other in others
        if other.role is Role.TRANSFER and node.cluster is not None and other.cluster == node.cluster
    )
    yield LoginNode(node.name, counts.size, seconds, next(better, ""))
