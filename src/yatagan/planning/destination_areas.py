"""What a node's areas allow: nothing is written into one that is read-only."""

from __future__ import annotations

from collections.abc import Iterator

from yatagan.config.areas import Area, split_area
from yatagan.config.nodes import Node
from yatagan.errors import FileTrouble, ReadOnlyArea
from yatagan.places import Place, holds
from yatagan.planning.cautions import Caution, LandsIn, LeadsOut
from yatagan.planning.plan import Arrival, Plan
from yatagan.stores.interface import Store
from yatagan.trees.compare import Verdict


async def refuse_read_only(store: Store, node: Node, path: bytes) -> Area | None:
    """The innermost area that holds a resolved path. Raises ReadOnlyArea."""
    holding = [(len(root), area) for root, area in await _roots(store, node) if holds(root, path)]
    area = max(holding, key=lambda each: each[0])[1] if holding else None
    if area is not None and area.read_only:
        raise ReadOnlyArea(node.name, area.name)
    return area


async def refuse_plan(store: Store, node: Node, plan: Plan) -> None:
    """Raise ReadOnlyArea if anything would land in such an area below the destination."""
    closed = [(root, area) for root, area in await _roots(store, node) if area.read_only]
    for arrival in plan.arrivals:
        base = arrival.there.root
        for root, area in closed:
            if (holds(base, root) or holds(root, base)) and any(holds(root, path) for path in _landing(arrival)):
                raise ReadOnlyArea(node.name, area.name)


async def look_at_area(store: Store, node: Node, place: Place) -> tuple[Area | None, list[Caution]]:
    """The area of a destination. Raises ReadOnlyArea."""
    if not node.areas:
        return None, []
    path = await store.resolve(place.path, follow=True)
    area = await refuse_read_only(store, node, path)
    named, _ = split_area(place.path)
    cautions: list[Caution] = []
    if named and (area is None or area.name != named):
        cautions.append(LeadsOut(named, node.name, path))
    if area is not None:
        cautions.append(LandsIn(area))
    return area, cautions


async def _roots(store: Store, node: Node) -> list[tuple[bytes, Area]]:
    """The real paths of a node's areas, without those that do not exist."""
    found = []
    for area in node.areas:
        try:
            found.append((await store.resolve(b"@" + area.name.encode(), follow=True), area))
        except FileTrouble:
            pass
    return found


def _landing(arrival: Arrival) -> Iterator[bytes]:
    """Every path that would be written."""
    for difference in arrival.differences:
        if difference.verdict not in (Verdict.SAME, Verdict.NEWER_THERE):
            yield arrival.there.absolute(difference.path)
    for storing in arrival.storing:
        yield storing.bundle
