"""A stage from its request to its batch: planned, with both ends open; looked at, changed by answers, and accepted."""

from __future__ import annotations

import contextlib
import functools
import time
from collections.abc import AsyncIterator, Iterator
from contextlib import (
    AsyncExitStack,
    ExitStack,
    asynccontextmanager,
)
from dataclasses import replace

from yatagan.batches.batch_store import Batch, Batches
from yatagan.batches.journal_data import Header, Purpose
from yatagan.batches.log_events import LogAccepted
from yatagan.batches.planning_log import PlanningLog
from yatagan.batches.steps import Prove
from yatagan.bundles.see_through import SeeThrough
from yatagan.config.areas import Area
from yatagan.config.home import Home
from yatagan.desk.desk import Desk
from yatagan.desk.open_session import OpenSession
from yatagan.engine.recording import staged_statement
from yatagan.engine.run_log import RunLog
from yatagan.engine.session import evidence_for
from yatagan.ledger.ledger import record_id
from yatagan.ledger.records import RecordKind
from yatagan.operations.accepted_batch import AcceptedBatch
from yatagan.operations.datasets import on_record
from yatagan.operations.earlier_batch import Earlier, EarlierUse, find_earlier
from yatagan.operations.expectations import expectation_of
from yatagan.operations.stage_request import IfNewer, Pack, StageRequest
from yatagan.operations.stage_sources import StageSources
from yatagan.operations.watching import Doing, Unwatched, Watcher
from yatagan.places import Place
from yatagan.planning.bundling import Costs
from yatagan.planning.cautions import (
    Caution,
    GoneHere,
    MatchesNothing,
    look_at_ages,
    look_at_line,
    look_at_name,
    look_at_role,
    look_at_shells,
    look_at_spool,
)
from yatagan.planning.contents_comparison import ContentsComparison
from yatagan.planning.destination_areas import look_at_area, refuse_plan
from yatagan.planning.gone import NoLongerThere, find_disk, find_gone
from yatagan.planning.picked import Picked
from yatagan.planning.placed_before import placed_before, refused_before
from yatagan.planning.plan import Plan
from yatagan.planning.planner import BundlingChoice, PlanWish, make_plan, replace_newer
from yatagan.planning.room import refuse_without_room
from yatagan.request_errors import BadStage, WrongStage
from yatagan.stores.interface import Readable, Source, Store
from yatagan.trees.not_kept import find_unkept
from yatagan.trees.remembered_digests import RememberedDigests


class PlannedStage:
    """A stage that is planned, with both its ends open.

    `modes`: whose permission bits arrive. `earlier`: what an earlier batch with the same ends has left. `unmatched`:
    patterns of the choice that match nothing. `gone`: what was staged before and is no longer at the source; it goes on
    record as gone where `gone_accepted`.
    """

    def __init__(
        self,
        desk: Desk,
        request: StageRequest,
        sources: StageSources,
        ends: tuple[Source, Source],
        stores: tuple[Store, Store],
        opened: AsyncExitStack,
        noted: ExitStack,
    ) -> None:
        self.desk = desk
        self.request = request
        self.sources = sources
        self.source, self.destination = stores
        self._ends = ends
        self._opened = opened
        self._noted = noted
        self.gone: NoLongerThere | None = None
        self.gone_accepted = False
        self.earlier: Earlier | None = None

    async def make(self, watcher: Watcher, picked: Picked | None) -> None:
        """Plan. Raises StoreError, BadPlace, BadStage, ReadOnlyArea, Refused, JournalError."""
        request = self.request
        self._check_proof()
        self._area, self._careful = await self._look_at_area()
        self.modes = request.modes_in(self._area)
        self.plan = await self._compare(watcher, picked)
        purpose = await self._look_for_gone()
        self.unmatched = request.choice.unmatched(
            path for arrival in self.plan.arrivals for path in arrival.tree.entries
        )
        self.header = self._header(purpose)
        self.earlier = find_earlier(self.desk.home, self.header)
        self.plan.safe = self.earlier.outcome.safe if self.earlier is not None else 0

    # --- what it is like ---

    @property
    def anything(self) -> bool:
        """Whether there is something to carry, or a batch to go on with."""
        return bool(self.plan.summary.anything) or self.earlier is not None

    @property
    def cautions(self) -> list[Caution]:
        """What should be known of it before it is carried out."""
        return [*self._gone_caution(), *self._careful, *map(MatchesNothing, self.unmatched), *self._shells()]

    def _gone_caution(self) -> Iterator[Caution]:
        if self.gone is not None:
            decided = self.gone.why is None or self.request.accept_gone
            yield GoneHere(self.gone, self.request.source_node, decided)

    def _shells(self) -> Iterator[Caution]:
        return look_at_shells((self.source, self.destination))

    @functools.cached_property
    def use(self) -> EarlierUse | None:
        """What becomes of the earlier batch; None without one."""
        return self.earlier.use(self.header, self.plan) if self.earlier is not None else None

    # --- what a person can answer ---

    def replace_newer(self) -> None:
        """Replace what is newer at the destination; what was there is kept."""
        replace_newer(self.plan, self.source, self.destination)
        self.__dict__.pop("use", None)  # the steps are others now

    def accept_gone(self) -> None:
        """Put on record what is gone from the source."""
        self.gone_accepted = True

    # --- what becomes of it ---

    async def accept(self) -> AcceptedBatch:
        """The batch to carry, which has both ends from now on. Raises BatchInUse, NoRoom, JournalError, StoreError."""
        desk, earlier = self.desk, self.earlier
        if self.request.space_check and self.use is not EarlierUse.RUNNING:
            refuse_without_room(self.plan, self.request.destination.node, desk.settings().disk.reserve)
        if earlier is None or self.use is None:
            batch = Batches(desk.home.batches).accept(self.header, self.plan.steps())
        else:
            if self.use is not EarlierUse.RUNNING:
                desk.queue().remove(earlier.batch.name)  # what becomes of it is decided here
            batch = await earlier.become(self.use, self.header, self.plan, self.destination)
        if labels := self._labels_gone:
            with contextlib.closing(batch.journal()) as journal:
                journal.note_gone(labels)
        RunLog(batch).write(LogAccepted(self.plan.summary.files, self.plan.summary.size))
        self._noted.close()
        self.plan.arrivals.clear()  # a large plan is in the journal now, and need not be held here too
        return AcceptedBatch(desk, batch, await self._hand_over(batch))

    def record_gone(self) -> None:
        """Put on record that something is no longer at the source, where nothing else is to be done."""
        if labels := self._labels_gone:
            statement = staged_statement(record_id(RecordKind.STAGED), "good", self.header, {"files": 0, "failed": 0})
            ledger = self.desk.ledger_in(self.header.purpose.ledger)
            ledger.append(statement, tuple, lambda: [(each, None, None) for each in labels])

    async def _hand_over(self, batch: Batch) -> tuple[Source, Source]:
        """The ends for the run of its batch, which closes them; a new store where that is pinned to another address."""
        self._opened.pop_all()
        with contextlib.closing(batch.journal()) as journal:
            header, pins = journal.header(), journal.standing().pins
        found: list[Source] = []
        nodes, stores = (header.source_node, header.destination_node), (self.source, self.destination)
        for node, store, end in zip(nodes, stores, self._ends, strict=True):
            if pins.get(node) in (None, end.pins().get(node)):
                found.append(OpenSession(store, end))
            else:
                await store.close()
                found.append(self.desk.source(Place(node, b""), pinned=pins[node]))
        return found[0], found[1]

    @property
    def _labels_gone(self) -> tuple[bytes, ...]:
        return self.gone.labels if self.gone is not None and self.gone_accepted else ()

    # --- how it is made ---

    def _check_proof(self) -> None:
        """Raise BadStage before anything moves if the requested proof is impossible."""
        remote = self.destination if not self.destination.traits.here else self.source
        if self.request.prove is Prove.ON_NODE and remote.machine is None:
            raise BadStage(WrongStage.NO_COMMANDS, f"{remote.name}:")

    async def _look_at_area(self) -> tuple[Area | None, list[Caution]]:
        place = self.request.destination
        if not place.node:
            return None, []
        return await look_at_area(self.destination, self.desk.nodes().get(place.node), place)

    async def _compare(self, watcher: Watcher, picked: Picked | None) -> Plan:
        """The plan, and what should be known of it."""
        desk, request, place = self.desk, self.request, self.request.destination
        source, destination, batches = self.source, self.destination, Batches(self.desk.home.batches)
        async with _seen(source, request) as seen:
            await self.sources.expand(seen)
            costs = Costs(sum([await _round_trip(end) for end in (source, destination) if not end.traits.here]))
            with watcher.reading([*self.sources.places(), place]) as heard:
                async with _contents_compared(desk.home, watcher, wanted=request.by_digest) as looking:
                    wish = PlanWish(
                        choice=request.choice,
                        modes=self.modes,
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
                    plan = await make_plan(seen, destination, self.sources.pairs, place.path, wish)
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
        request, desk = self.request, self.desk
        if not self.sources.renames:
            yield from look_at_name(plan, self.sources.places()[0], request.destination)
        yield from look_at_spool(plan, desk.home.batches)
        nodes, settings = desk.nodes(), desk.settings().login_node
        for name in dict.fromkeys(name for name in (request.source_node, request.destination.node) if name):
            yield from look_at_role(plan, nodes.get(name), list(nodes), settings)
        yield from look_at_line(plan, (self.source, self.destination))

    def _together(self, costs: Costs) -> BundlingChoice | None:
        """Whether small files may travel together, to be unpacked on arrival.

        They are proven where they are unpacked, so not where another proof was asked for, or none.
        """
        here, there = self.source.traits.here, self.destination.traits.here
        proofs = (Prove.AUTO, Prove.ON_NODE) if here else (Prove.AUTO,)
        if self.request.pack is Pack.NEVER or (here and there) or self.request.prove not in proofs:
            return None
        return BundlingChoice(costs, always=self.request.pack is Pack.ALWAYS)

    async def _look_for_gone(self) -> Purpose:
        """Find what was on record and is no longer at the source. Returns the purpose, with the disk of the source."""
        request, plan, purpose = self.request, self.plan, self.request.purpose
        if not purpose.dataset:
            return purpose
        disk = await find_disk(self.source, plan.arrivals[0].tree.root) if plan.arrivals else ""
        before = on_record(self.desk, purpose)
        self.gone = find_gone(before, plan, disk)
        self.gone_accepted = self.gone is not None and (self.gone.why is None or request.accept_gone)
        meant = self.gone is None or self.gone_accepted
        return replace(purpose, disk=disk if meant else before.disk)  # else it is asked about once only

    def _header(self, purpose: Purpose) -> Header:
        """The header of the batch, without its name."""
        request, plan, found = self.request, self.plan, self.plan.expectation
        # Where only parts are sent, how long it takes says little of the connection.
        in_part = plan.summary.in_part or plan.summary.growing_there
        return Header(
            id="",
            created_ns=0,
            command=self.desk.command,
            source_node=request.source_node,
            destination_node=request.destination.node,
            destination=plan.destination,
            prove=request.prove,
            modes=self.modes,
            times=request.times,
            arrivals=tuple((arrival.tree.root, arrival.name) for arrival in plan.arrivals),
            options=request.options,
            max_rate=request.max_rate,
            top_inode=plan.top_inode,
            promised=evidence_for(request.prove, self.source, self.destination, plan.same_disk),
            expected_seconds=found.seconds if found is not None else 0.0,
            modelled_seconds=found.modelled if found is not None and not in_part else 0.0,
            purpose=purpose,
        )


@asynccontextmanager
async def plan_stage(
    desk: Desk,
    request: StageRequest,
    watcher: Watcher | None = None,
    *,
    picked: Picked | None = None,
    noted: bool = True,
    by_itself: bool = False,
) -> AsyncIterator[PlannedStage]:
    """Plan a stage, with both ends open as long as it lasts.

    `picked`: what of a source is brought back, entry by entry. `noted`: while it is planned it is noted, so that one
    that dies is known. `by_itself`: no person asks for it, so it is refused where one has stopped the batch of an
    earlier.
    Raises whatever opening and planning can: CannotReach, StoreError, BadPlace, BadStage, Refused and others.
    """
    sources = StageSources(request, desk.directory)
    ends = desk.source(Place(request.source_node, b"")), desk.source(request.destination, writing=True)
    async with AsyncExitStack() as opened:
        with ExitStack() as planning:
            if noted:
                planning.enter_context(PlanningLog(desk.home.planning).planning(desk.command))
            stores = []
            for end in ends:
                stores.append(await desk.open(end))
                opened.push_async_callback(stores[-1].close)
            planned = PlannedStage(desk, request, sources, ends, (stores[0], stores[1]), opened, planning)
            await planned.make(watcher or Unwatched(), picked)
            if by_itself and planned.earlier is not None:
                planned.earlier.refuse_if_stopped()
            yield planned


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
