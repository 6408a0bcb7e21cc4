"""How a stage is planned: both sides compared, and what should be known of the plan before it is carried out."""

from __future__ import annotations

import contextlib
import functools
import time
from collections.abc import AsyncIterator, Iterator
from contextlib import (
    asynccontextmanager,
)
from dataclasses import dataclass, replace

from yatagan.batches.batch_store import Batches
from yatagan.batches.journal_data import Header, Purpose
from yatagan.batches.steps import Prove
from yatagan.bundles.see_through import SeeThrough
from yatagan.config.areas import Area
from yatagan.config.home import Home
from yatagan.desk.desk import Desk
from yatagan.engine.session import evidence_for
from yatagan.operations.datasets import on_record
from yatagan.operations.expectations import expectation_of
from yatagan.operations.stage_ends import StageEnds
from yatagan.operations.stage_request import IfNewer, Pack, StageRequest
from yatagan.operations.stage_sources import StageSources
from yatagan.operations.watching import Doing, Watcher
from yatagan.planning.bundling import Costs
from yatagan.planning.cautions import (
    Caution,
    look_at_ages,
    look_at_line,
    look_at_name,
    look_at_role,
    look_at_spool,
)
from yatagan.planning.contents_comparison import ContentsComparison
from yatagan.planning.destination_areas import look_at_area, refuse_plan
from yatagan.planning.gone import NoLongerThere, find_disk, find_gone
from yatagan.planning.picked import Picked
from yatagan.planning.placed_before import placed_before, refused_before
from yatagan.planning.plan import Plan
from yatagan.planning.planner import BundlingChoice, PlanWish, make_plan, replace_newer
from yatagan.request_errors import BadStage, WrongStage
from yatagan.stores.interface import Readable, Store
from yatagan.trees.not_kept import find_unkept
from yatagan.trees.remembered_digests import RememberedDigests


@dataclass(slots=True)
class StagePlan:
    """A plan, the header of the batch that it would become, and what should be known of both.

    `unmatched`: patterns of the choice that match nothing. `gone`: what was staged before and is no longer at the
    source.
    """

    sources: StageSources
    plan: Plan
    header: Header
    careful: list[Caution]
    unmatched: list[bytes]
    gone: NoLongerThere | None


class StagePlanning:
    """Plans one stage, between ends that are open."""

    def __init__(self, desk: Desk, request: StageRequest, ends: StageEnds) -> None:
        self._desk = desk
        self._request = request
        self._ends = ends
        self._sources = StageSources(request, desk.directory)
        self._careful: list[Caution] = []

    async def make(self, watcher: Watcher, picked: Picked | None) -> StagePlan:
        """Plan. Raises StoreError, NoPlace, BadStage, ReadOnlyArea, Refused, JournalError."""
        self._check_proof()
        self._area, self._careful = await self._look_at_area()
        self._modes = self._request.modes_in(self._area)
        plan = await self._compare(watcher, picked)
        purpose, gone = await self._look_for_gone(plan)
        paths = (path for arrival in plan.arrivals for path in arrival.tree.entries)
        unmatched = self._request.choice.unmatched(paths)
        return StagePlan(self._sources, plan, self._header(plan, purpose), self._careful, unmatched, gone)

    def _check_proof(self) -> None:
        """Raise BadStage before anything moves if the requested proof is impossible."""
        remote = self._ends.destination if not self._ends.destination.traits.here else self._ends.source
        if self._request.prove is Prove.ON_NODE and remote.machine is None:
            raise BadStage(WrongStage.NO_COMMANDS, f"{remote.name}:")

    async def _look_at_area(self) -> tuple[Area | None, list[Caution]]:
        place = self._request.destination
        if not place.node:
            return None, []
        return await look_at_area(self._ends.destination, self._desk.nodes().get(place.node), place)

    async def _compare(self, watcher: Watcher, picked: Picked | None) -> Plan:
        """The plan, and what should be known of it."""
        desk, request, place = self._desk, self._request, self._request.destination
        source, destination, batches = *self._ends.stores, Batches(self._desk.home.batches)
        async with _seen(source, request) as seen:
            await self._sources.expand(seen)
            costs = Costs(sum([await _round_trip(end) for end in (source, destination) if not end.traits.here]))
            with watcher.reading([*self._sources.places(), place]) as heard:
                async with _contents_compared(desk.home, watcher, wanted=request.by_digest) as looking:
                    wish = PlanWish(
                        choice=request.choice,
                        modes=self._modes,
                        times=request.times,
                        together=self._together(costs),
                        stored=request.stored_as,
                        looking=looking,
                        placed=functools.partial(placed_before, batches, place.node),
                        refused=functools.partial(refused_before, batches, place.node),
                        unchanged_for=request.unchanged_for,
                        growing=request.growing,
                        picked=picked,
                        heard=heard,
                    )
                    plan = await make_plan(seen, destination, self._sources.pairs, place.path, wish)
        if request.if_newer is IfNewer.REPLACE:
            replace_newer(plan, seen, destination)
        if plan.summary.anything:
            plan.unkept = await find_unkept(source, plan.carried())
        if request.prove is Prove.ON_NODE and destination.machine is not None and not plan.same_disk:
            raise BadStage(WrongStage.OTHER_DISK, f"{destination.name}:")
        if place.node:
            await refuse_plan(destination, desk.nodes().get(place.node), plan)
        if plan.summary.files:
            plan.expectation = expectation_of(desk.home, request, plan, (source, destination), costs)
        self._careful = [*look_at_ages(plan, self._area, request.times), *self._careful, *self._look_at(plan)]
        return plan

    def _look_at(self, plan: Plan) -> Iterator[Caution]:
        request, desk = self._request, self._desk
        if not self._sources.renames:
            yield from look_at_name(plan, self._sources.places()[0], request.destination)
        yield from look_at_spool(plan, desk.home.batches)
        nodes, settings = desk.nodes(), desk.settings().login_node
        for name in dict.fromkeys(name for name in (request.source_node, request.destination.node) if name):
            yield from look_at_role(plan, nodes.get(name), list(nodes), settings)
        yield from look_at_line(plan, (self._ends.source, self._ends.destination))

    def _together(self, costs: Costs) -> BundlingChoice | None:
        """Whether small files may travel together, to be unpacked on arrival.

        They are proven where they are unpacked, so not where another proof was asked for, or none.
        """
        here, there = self._ends.source.traits.here, self._ends.destination.traits.here
        proofs = (Prove.AUTO, Prove.ON_NODE) if here else (Prove.AUTO,)
        if self._request.pack is Pack.NEVER or (here and there) or self._request.prove not in proofs:
            return None
        return BundlingChoice(costs, always=self._request.pack is Pack.ALWAYS)

    async def _look_for_gone(self, plan: Plan) -> tuple[Purpose, NoLongerThere | None]:
        """Find what was on record and is no longer at the source. Also the purpose, with the disk of the source."""
        purpose = self._request.purpose
        if not purpose.dataset:
            return purpose, None
        disk = await find_disk(self._ends.source, plan.arrivals[0].tree.root) if plan.arrivals else ""
        before = on_record(self._desk, purpose)
        gone = find_gone(before, plan, disk)
        meant = gone is None or gone.why is None or self._request.accept_gone
        return replace(purpose, disk=disk if meant else before.disk), gone  # else it is asked about once only

    def _header(self, plan: Plan, purpose: Purpose) -> Header:
        """The header of the batch, without its name."""
        request, found = self._request, plan.expectation
        # Where only parts are sent, how long it takes says little of the connection.
        in_part = plan.summary.in_part or plan.summary.growing_there
        return Header(
            id="",
            created_ns=0,
            command=self._desk.command,
            source_node=request.source_node,
            destination_node=request.destination.node,
            destination=plan.destination,
            prove=request.prove,
            modes=self._modes,
            times=request.times,
            arrivals=tuple((arrival.tree.root, arrival.name) for arrival in plan.arrivals),
            options=request.options,
            max_rate=request.max_rate,
            top_inode=plan.top_inode,
            promised=evidence_for(request.prove, self._ends.source, self._ends.destination, plan.same_disk),
            expected_seconds=found.seconds if found is not None else 0.0,
            modelled_seconds=found.modelled if found is not None and not in_part else 0.0,
            purpose=purpose,
        )


@asynccontextmanager
async def _contents_compared(home: Home, watcher: Watcher, *, wanted: bool) -> AsyncIterator[ContentsComparison | None]:
    """How contents are compared, if that is `wanted`."""
    if not wanted:
        yield None
        return
    with contextlib.closing(RememberedDigests(home.digests)) as memory:
        async with watcher.hashing(Doing.COMPARING) as heard:
            yield ContentsComparison(memory, heard)


@asynccontextmanager
async def _seen(source: Store, request: StageRequest) -> AsyncIterator[Readable]:
    """The source, with its stored bundles as directories where they are taken for that."""
    if not request.sees_through:
        yield source
        return
    seeing = SeeThrough(source)
    try:
        yield seeing
    finally:
        await seeing.release()


async def _round_trip(store: Store) -> float:
    """Seconds of a round trip: the best of a few."""
    start, best = await store.resolve(b""), 1.0
    for _ in range(3):
        began = time.monotonic()
        await store.look(start)
        best = min(best, time.monotonic() - began)
    return best
