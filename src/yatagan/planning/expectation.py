"""How long a plan should take: a model of connection and files, corrected by how long earlier batches took. No I/O."""

from __future__ import annotations

import statistics
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from yatagan.planning.bundling import BundledTravel, Costs

#: Bytes a second of a connection, and of a disk, of which nothing is known.
USUAL_RATE, DISK_RATE = 30e6, 200e6
#: Seconds that a batch takes besides its files, and round trips.
_BEGINNING, _BEGINNING_TRIPS = 0.2, 12
#: Batches that a correction is taken from, the newest ones, and its limits.
_LOOKED_AT = 5
_LEAST, _MOST = 0.2, 20.0
#: A batch that was over sooner than this, in seconds, says more of its beginning and end than of its files.
_SHORT = 0.5


@dataclass(frozen=True, slots=True)
class Expectation:
    """Seconds that a plan should take. `modelled`: before the correction by earlier batches; `known`: whether there was
    anything to go by but a usual connection.
    """

    seconds: float
    modelled: float
    known: bool


@dataclass(frozen=True, slots=True)
class Load:
    """What is to be carried: `files` files of `size` bytes in all.

    Of these `stored` files become part of bundles that stay, and some may `travel` in bundles.
    """

    size: int
    files: int
    stored: int = 0
    travel: BundledTravel | None = None


def expect(
    load: Load,
    rates: Sequence[float],
    costs: Costs,
    earlier: Iterable[tuple[float, float]],
    limit: float | None = None,
) -> Expectation:
    """How long it should take to carry something.

    `rates`: the best rates in bytes a second that were measured of the ends' connections; the lowest counts. `earlier`:
    (seconds taken, seconds modelled) of finished batches between the same ends, the newest first. `limit`: bytes a
    second that are allowed; what takes long because of it needs no correction.
    """
    travel = load.travel
    alone = load.files - load.stored - (travel.files if travel is not None else 0)
    handling = costs.alone(alone) + (costs.together(load.stored, 1) if load.stored else 0.0)
    if travel is not None:
        handling += costs.together(travel.files, travel.bundles)
    beginning = _BEGINNING + _BEGINNING_TRIPS * costs.round_trip
    free = beginning + max(0, load.size) / min(rates, default=USUAL_RATE) + handling
    limited = beginning + max(0, load.size) / limit if limit else 0.0
    ratios = [took / said for took, said in list(earlier)[:_LOOKED_AT] if said > 0 and took >= _SHORT]
    ratio = min(max(statistics.median(ratios), _LEAST), _MOST) if ratios else 1.0
    return Expectation(max(free * ratio, limited), max(free, limited), bool(rates or ratios or limit))
