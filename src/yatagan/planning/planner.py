"""Planning: two places in, a plan out. Nothing is changed anywhere.

A plan is made from one scan of each side; files too new for size and time are compared by digest, and others where that
is asked for.
"""

from __future__ import annotations

import asyncio
import posixpath
import time
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, replace

from yatagan.batches.states import Evidence
from yatagan.batches.steps import Beginning, Modes, Times
from yatagan.bundles.see_through import SeeThrough
from yatagan.bundles.stored_bundle import find_stored
from yatagan.config.project import StoredAs
from yatagan.digests.checksum_lists import ALGORITHM
from yatagan.faults import Fault
from yatagan.planning.bundling import Costs, travel
from yatagan.planning.contents_comparison import ContentsComparison
from yatagan.planning.growing import count_growing, find_growing, refuse_growing
from yatagan.planning.metadata import RefusedBefore, compare_facts
from yatagan.planning.picked import Picked
from yatagan.planning.placed_before import Placed
from yatagan.planning.plan import Arrival, Plan, Summary
from yatagan.planning.stored_bundles import BundleToStore, store
from yatagan.planning.unsettled import leave_unsettled, opened_for_writing
from yatagan.portable import index
from yatagan.request_errors import BadStage, WrongStage
from yatagan.stores.interface import Kind, Readable, Store
from yatagan.transfer.delta import REUSE_LEAST, may_reuse
from yatagan.trees.compare import Difference, Verdict, compare, still_since
from yatagan.trees.hashing import Content, DigestOrigin, digests
from yatagan.trees.name_clashes import clashes, folded, has_spellings, spelled_there, tells_apart
from yatagan.trees.patterns import EVERYTHING, Choice
from yatagan.trees.scan import Heard, Tree, scan, unheard
from yatagan.trees.time_steps import common_step


@dataclass(frozen=True, slots=True)
class BundlingChoice:
    """Whether small files may travel in bundles, what they cost, and whether to bundle even where that does not pay."""

    costs: Costs
    always: bool = False


#: What was last put into paths of a destination, as far as that is known.
PlacedBefore = Callable[[Iterable[bytes]], Mapping[bytes, Placed]]


@dataclass(frozen=True, slots=True)
class PlanWish:
    """How a plan is made.

    `choice`: what of the sources; `modes` and `times`: whose permission bits and times arrive. With `together` small
    files travel in bundles if that pays, or always; `stored` says which directories become bundles. With `looking`
    files of the same size are compared by their contents. `heard` is called with how many more entries were listed on
    either side, and may raise. `placed` tells with which facts files were last put into paths of the destination: what
    is newer there, or was changed there since, is left out; `refused`, which facts could not be set there before.
    Files that have changed in the last `unchanged_for` seconds, or are being written to, are left for another time; but
    not those that are `growing`, which are carried as far as they are. With `picked` only what it names is carried, and
    replaces what is there whatever its size and time.
    """

    choice: Choice = EVERYTHING
    modes: Modes = Modes.KEEP
    times: Times = Times.KEEP
    together: BundlingChoice | None = None
    stored: StoredAs | None = None
    looking: ContentsComparison | None = None
    placed: PlacedBefore | None = None
    refused: RefusedBefore | None = None
    unchanged_for: float = 0.0
    growing: Choice | None = None
    picked: Picked | None = None
    heard: Heard = unheard


AS_USUAL = PlanWish()


async def make_plan(
    source: Readable,
    destination: Store,
    sources: list[tuple[bytes, bytes]],
    directory: bytes,
    wish: PlanWish = AS_USUAL,
) -> Plan:
    """Compare and decide.

    `sources` are (path as typed, name to arrive under); `directory` is the destination as typed. Raises StoreError,
    BadStage when a source is not there, or the destination is no directory, or the destination lies inside a source.
    """
    stored, picked = wish.stored, wish.picked
    step_ns = max(source.traits.time_step_ns, destination.traits.time_step_ns)
    fresh_since = still_since(await source.clock_ns(), source.traits.time_step_ns)
    plan = await _begin(destination, directory, step_ns)
    seeing = SeeThrough(destination)
    now_there: Readable = destination if stored is StoredAs.FILES else seeing
    comparing = _Comparing(
        source, now_there, wish.choice, step_ns, fresh_since, wish.times is Times.NOW, wish.looking, wish.heard
    )
    opened = opened_for_writing() if wish.unchanged_for and source.traits.here else frozenset[bytes]()
    try:
        for path, name in sources:
            root = await source.resolve(path)
            if source.name == destination.name and (plan.destination + b"/").startswith(root + b"/"):
                raise BadStage(WrongStage.IN_ITSELF, _spell(destination, plan.destination))
            arrival = Arrival(
                name, *await comparing.scan_both(root, posixpath.join(plan.destination, name), anything=not plan.above)
            )
            if not arrival.tree.entries:
                raise BadStage(WrongStage.NOTHING_THERE, _spell(source, path))
            if picked is not None:
                picked.prune(arrival.tree, arrival.there)
            if wish.growing is not None:
                arrival.growing = find_growing(arrival.tree, wish.growing)
            if wish.unchanged_for:
                plan.unsettled += await _leave_unsettled(source, arrival, wish.unchanged_for, opened)
            if arrival.tree.entries:  # else it was a single file that is left for another time
                await comparing.compare(arrival)
                await _look_at_bundles(destination, arrival, stored, seeing)
                if picked is not None:
                    arrival.differences.decide(dict.fromkeys(picked.again(arrival.tree), Verdict.DIFFERENT))
                elif wish.times is not Times.NOW:
                    await _look_at_earlier(arrival, wish.placed)
                _refuse_losses(arrival, wish.choice)
                refuse_growing(arrival)
                if picked is None:
                    await compare_facts(
                        arrival,
                        destination,
                        wish.modes,
                        wish.times,
                        lambda path: seeing.stored(path) is not None,
                        wish.refused,
                    )
                plan.arrivals.append(arrival)
    finally:
        await seeing.release()
    await _look_at_names(destination, plan)
    if not any(arrival.differences or arrival.storing for arrival in plan.arrivals):
        plan.above.clear()
    _sum_up(plan, source, destination)
    if wish.together is not None and source.machine is not None and destination.machine is not None and plan.same_disk:
        _look_at_small(plan, wish.together)
    return plan


async def _leave_unsettled(source: Readable, arrival: Arrival, seconds: float, opened: frozenset[bytes]) -> list[bytes]:
    """Take out of an arrival what is still being written. Returns the names that it would have had."""
    clock = await source.clock_ns()
    now_ns = clock if clock is not None else time.time_ns()
    unsettled = leave_unsettled(arrival.tree, now_ns, int(seconds * 1e9), opened, but=arrival.growing)
    return [posixpath.join(arrival.name, path) if path else arrival.name for path in unsettled]


@dataclass(frozen=True, slots=True)
class _Comparing:
    """One source, compared with what is at the destination."""

    source: Readable
    there: Readable
    choice: Choice
    step_ns: int
    fresh_since: int | None
    arrival_times: bool
    looking: ContentsComparison | None
    heard: Heard

    async def scan_both(self, root: bytes, there: bytes, *, anything: bool) -> tuple[Tree, Tree]:
        """Scan a source, and what has its name at the destination, at the same time."""
        ours = asyncio.ensure_future(scan(self.source, root, choice=self.choice, heard=self.heard))
        theirs = asyncio.ensure_future(
            scan(self.there, there, choice=self.choice.pruning(), heard=self.heard) if anything else _nothing(there)
        )
        try:
            return await ours, await theirs
        finally:
            for task in (ours, theirs):
                task.cancel()
            await asyncio.gather(ours, theirs, return_exceptions=True)

    async def compare(self, arrival: Arrival) -> None:
        """Compare an arrival with what is at the destination."""
        tree = arrival.tree
        if tree.skipped and len(tree.entries) == 1:
            return  # of a tree that nothing is chosen of, not even the root comes
        arrival.step_ns = _step_of(tree, arrival.there, self.step_ns)
        arrival.differences = compare(
            tree,
            arrival.there,
            step_ns=arrival.step_ns,
            fresh_since_ns=self.fresh_since,
            arrival_times=self.arrival_times,
            by_digest=self.looking is not None,
        )
        await self._look_into(arrival)

    async def _look_into(self, arrival: Arrival) -> None:
        """Compare by digest where facts are not enough. Both sides are read at the same time."""
        paths = [difference.path for difference in arrival.differences.of(Verdict.UNDECIDED)]
        if not paths:
            return
        looking = self.looking
        if looking is not None:
            looking.watcher.expect(2 * len(paths), 2 * sum(arrival.tree.entries.file_sizes(paths)))

        def hashed(content: Content) -> None:
            if looking is not None:
                looking.watcher.hashed(arrival.tree.entries[content.path].size)

        memory = looking.memory if looking is not None else None
        async with asyncio.TaskGroup() as group:
            sides = [
                group.create_task(digests(store, tree, paths, ALGORITHM, hashed, memory))
                for store, tree in ((self.source, arrival.tree), (self.there, arrival.there))
            ]
        ours, theirs = (side.result() for side in sides)
        for path in paths:
            here, there = ours[path], theirs[path]
            if here.digest and here.digest == there.digest:
                arrival.same_by_digest[path] = there.digest, _evidence(here, there)
        same = arrival.same_by_digest
        arrival.differences.decide({path: Verdict.SAME if path in same else Verdict.DIFFERENT for path in paths})


def _step_of(tree: Tree, there: Tree, nominal_ns: int) -> int:
    """At which step the times of two trees are compared."""
    files = ((path, there.entries.get(path)) for path in tree.entries.of_kind(Kind.FILE))
    both = ((tree.entries[path].mtime_ns, found.mtime_ns) for path, found in files if found is not None)
    return common_step(both, nominal_ns)


async def _look_at_earlier(arrival: Arrival, placed: PlacedBefore | None) -> None:
    """Mark files of the destination that are newer than their source, or were changed since we put them there.

    Of growing files that are as we put them there, note how far they came.
    """
    newer, older, step_ns = dict[bytes, Verdict](), dict[bytes, Difference](), arrival.step_ns
    for difference in arrival.differences.of(Verdict.DIFFERENT):
        other = difference.other
        if other is None or not (Kind.FILE is difference.facts.kind is other.kind):
            continue
        if other.mtime_ns // step_ns > difference.facts.mtime_ns // step_ns:
            newer[difference.path] = Verdict.NEWER_THERE
        else:
            older[arrival.there.absolute(difference.path)] = difference
    known = await asyncio.to_thread(placed, older) if older and placed is not None else {}
    for path, before in known.items():
        difference = older[path]
        if difference.other is not None and not difference.other.right_for(before.facts, step_ns):
            newer[difference.path] = Verdict.NEWER_THERE
        elif difference.path in arrival.growing and before.digest:
            arrival.growing[difference.path] = Beginning(before.facts.size, before.digest)
    if newer:
        arrival.differences.decide(newer)


def replace_newer(plan: Plan, source: Readable, destination: Store) -> None:
    """Replace, and keep, what is newer at the destination, like any other file."""
    for arrival in plan.arrivals:
        newer = [difference.path for difference in arrival.differences.of(Verdict.NEWER_THERE)]
        arrival.differences.decide(dict.fromkeys(newer, Verdict.DIFFERENT))
    _sum_up(plan, source, destination)


async def _nothing(root: bytes) -> Tree:
    return Tree(root)


async def _look_at_bundles(destination: Store, arrival: Arrival, stored: StoredAs | None, seeing: SeeThrough) -> None:
    """Decide what of an arrival is stored as bundles, and what those replace. Raises BadStage."""
    arrival.storing, arrival.differences, arrival.as_files = store(
        arrival.tree, arrival.there, arrival.differences, stored, seeing.bundles, seeing.unfit
    )
    for each in arrival.storing:
        await _look_at_bundle(destination, each)
    if stored is StoredAs.FILES and not arrival.there.entries:
        hidden = await find_stored(destination, arrival.there.root)
        arrival.hidden = hidden.path if hidden is not None else b""


async def _look_at_bundle(destination: Store, storing: BundleToStore) -> None:
    """What has the names of a bundle and its index now, and would be replaced. Raises BadStage for a directory."""
    storing.seen = await destination.look_closely(storing.bundle)
    storing.seen_index = await destination.look_closely(storing.bundle + index.SUFFIX)
    for path, seen in ((storing.bundle, storing.seen), (storing.bundle + index.SUFFIX, storing.seen_index)):
        if seen is not None and seen.kind is not Kind.FILE:
            raise BadStage(WrongStage.BUNDLE_NAME, _spell(destination, path), seen.kind.value)


def _refuse_losses(arrival: Arrival, choice: Choice) -> None:
    """Raise BadStage if a bundle that is made anew would lack entries that it has now."""
    for each in arrival.storing:
        if each.present is None:
            continue
        name = each.present.path.decode("utf-8", "surrogateescape")
        if choice and each.gone:
            raise BadStage(WrongStage.LEFT_OUT_OF_BUNDLE, name)
        unread = [path for path in arrival.tree.unread if path == each.path or path.startswith(each.path + b"/")]
        if unread or (not each.path and arrival.tree.unread):
            raise BadStage(WrongStage.UNREAD_IN_BUNDLE, name)


async def _look_at_names(destination: Store, plan: Plan) -> None:
    """Mark names that would clash at a destination that ignores case."""
    there = [arrival.there.root for arrival in plan.arrivals if arrival.there.entries]
    probe = there[0] if there else posixpath.dirname(plan.above[0]) if plan.above else plan.destination
    while not has_spellings(posixpath.basename(probe)) and len(probe) > 1:
        probe = posixpath.dirname(probe)
    if await tells_apart(destination, probe):
        return
    names: dict[str, bytes] = {}
    for arrival in plan.arrivals:
        other = names.setdefault(folded(arrival.name), arrival.name)
        if other == arrival.name and arrival.there.entries:
            other = await spelled_there(destination, arrival.there.root) or other
        entries = arrival.tree.entries
        if other == arrival.name:
            arrival.clashes = clashes(entries.in_order(), arrival.there.entries)
        else:
            arrival.clashes = {b"": other}
        lost = set[bytes]()
        for path in entries.in_order():
            if path in arrival.clashes or (path and posixpath.dirname(path) in lost):
                lost.add(path)
        arrival.differences.decide(dict.fromkeys(lost, Verdict.CLASHES))


def _look_at_small(plan: Plan, together: BundlingChoice) -> None:
    sizes = [
        difference.facts.size
        for arrival in plan.arrivals
        for difference in arrival.differences.of(Verdict.NEW)
        if arrival.travels(difference) and difference.path not in arrival.tree.unread
    ]
    found = travel(len(sizes), sum(sizes), together.costs)
    if found.pays or (together.always and found.files):
        plan.travel = found


async def _begin(destination: Store, directory: bytes, step_ns: int) -> Plan:
    """An empty plan: where the destination is, and what is known of its disk."""
    top = await destination.resolve(directory, follow=True)
    above = await _missing_above(destination, top)
    nearest = posixpath.dirname(above[0]) if above else top
    found = await destination.look_closely(nearest)
    plan = Plan(top, above, [], step_ns, await destination.free_space(nearest))
    # Where the helper sees something else under the name than file transfer does, there is no inode.
    inode = found.inode if found is not None else None
    plan.same_disk = inode is not None
    plan.top_inode = 0 if above else inode or 0
    return plan


async def _missing_above(store: Store, top: bytes) -> list[bytes]:
    """The directories that are missing, down to the destination itself."""
    missing: list[bytes] = []
    path = top
    while (found := await store.look(path)) is None:
        missing.append(path)
        path = posixpath.dirname(path)
    if found.kind is not Kind.DIRECTORY:
        raise BadStage(WrongStage.NO_DIRECTORY, _spell(store, path), found.kind.value)
    return missing[::-1]


def _evidence(here: Content, there: Content) -> Evidence:
    """How we know that two files are the same."""
    if here.remembered or there.remembered:
        return Evidence.REMEMBERED
    return Evidence.ON_NODE if there.origin is DigestOrigin.ON_NODE else Evidence.READ_BACK


def _look_at_parts(plan: Plan, source: Readable, destination: Store) -> None:
    """Mark files of which only changed parts will be sent."""
    for arrival in plan.arrivals:
        for difference in arrival.differences.of(Verdict.DIFFERENT):
            facts, other = difference.facts, difference.other
            reused = facts.kind is Kind.FILE and may_reuse(source, destination, facts, other, REUSE_LEAST)
            if reused and difference.path not in arrival.growing:
                plan.summary.in_part += 1
                plan.summary.in_part_size += facts.size


#: What is counted one by one. Only things of a kind that is carried are the same.
_TO_COUNT = tuple(verdict for verdict in Verdict if verdict is not Verdict.SAME)


def _sum_up(plan: Plan, source: Readable, destination: Store) -> None:
    summary = plan.summary = Summary()
    summary.above = len(plan.above)
    for arrival in plan.arrivals:
        summary.unread += len(arrival.tree.unread) + arrival.tree.dropped
        summary.skipped += arrival.tree.skipped
        summary.looked_into += len(arrival.same_by_digest)
        summary.remembered += sum(how is Evidence.REMEMBERED for _, how in arrival.same_by_digest.values())
        left, left_size = arrival.differences.same_files()
        of_files = sum(arrival.tree.entries[path].kind is Kind.FILE for path in arrival.facts_differ)
        summary.facts_of_files += of_files
        summary.facts_of_directories += len(arrival.facts_differ) - of_files
        summary.left += left
        summary.left_size += left_size
        for difference in arrival.differences.of(*_TO_COUNT):
            _count(summary, difference, arrival.tree.unread)
        for storing in arrival.storing:
            summary.replaced += storing.seen is not None
            for difference in storing.differences:  # all of them go in, whatever is there
                _count(summary, replace(difference, verdict=Verdict.NEW), arrival.tree.unread)
    _look_at_parts(plan, source, destination)
    count_growing(summary, plan.arrivals)


def _count(summary: Summary, difference: Difference, unread: Mapping[bytes, Fault]) -> None:
    facts, verdict = difference.facts, difference.verdict
    if not facts.kind.carried:
        summary.not_carried += 1
    elif verdict is Verdict.IN_THE_WAY:
        summary.in_the_way += 1
    elif verdict is Verdict.CLASHES:
        summary.clashes += 1
    elif verdict is Verdict.NEWER_THERE:
        summary.newer += 1
    elif difference.path not in unread:
        summary.replaced += verdict is Verdict.DIFFERENT
        if facts.kind is Kind.FILE:
            summary.files += 1
            summary.size += facts.size
        elif facts.kind is Kind.DIRECTORY:
            summary.directories += 1
        else:
            summary.links += 1


def _spell(store: Readable, path: bytes) -> str:
    text = path.decode("utf-8", "surrogateescape")
    return f"{store.name}:{text}" if store.name else text
