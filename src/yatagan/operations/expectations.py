"""How long a plan should take, from what is known of its ends: their connections, their limits, and earlier batches."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import islice

from yatagan.batches.batch_store import Batches
from yatagan.batches.states import BatchState
from yatagan.config.home import Home
from yatagan.operations.stage_request import StageRequest
from yatagan.planning.bundling import Costs
from yatagan.planning.expectation import DISK_RATE, Expectation, Load, expect
from yatagan.planning.plan import Plan
from yatagan.stores.connection_history import recall
from yatagan.stores.interface import Store

#: Batches that are looked at for earlier ones between the same ends.
_LOOKED_AT = 40


def expectation_of(
    home: Home, request: StageRequest, plan: Plan, stores: tuple[Store, Store], costs: Costs
) -> Expectation:
    """How long a plan should take."""
    nodes = (request.source_node, request.destination.node)
    measured = [recall(home, node).rate for node in nodes if node]
    limits = [rate for rate in (request.max_rate, *(store.max_rate for store in stores)) if rate]
    rates = [rate for rate in measured if rate]
    if not any(nodes):
        rates.append(DISK_RATE)
    size = plan.summary.size - plan.summary.growing_there - plan.safe
    stored = sum(storing.files for arrival in plan.arrivals for storing in arrival.storing)
    known = [each for each in islice(_earlier(home, nodes), _LOOKED_AT) if each[1]]
    return expect(Load(size, plan.summary.files, stored, plan.travel), rates, costs, known, min(limits, default=None))


def _earlier(home: Home, nodes: tuple[str, str]) -> Iterator[tuple[float, float]]:
    """(Seconds taken, seconds modelled) of batches, the newest first; (0, 0) for those that say nothing about this."""
    for _, journal in Batches(home.batches).opened():
        header, standing = journal.header(), journal.standing()
        ends = header.source_node, header.destination_node
        # One that was cut off says more of its interruption than of its files.
        whole = standing.state is BatchState.FINISHED and journal.sessions() <= 1
        if ends == nodes and whole:
            yield standing.seconds, header.modelled_seconds
        else:
            yield 0.0, 0.0
