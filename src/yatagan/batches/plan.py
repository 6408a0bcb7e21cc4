"""Planning: two places in, steps out. Nothing is changed anywhere.

A plan is made from one scan of each side. Files that are right already, by size and time, become
steps that are settled from the start; files too new for that are compared by digest.
"""

from __future__ import annotations

import posixpath
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field, replace

from yatagan.archives import index
from yatagan.batches.layout import BUNDLE_BYTES, BUNDLE_FILES, SMALL, Costs, Layout, Travel, travel
from yatagan.batches.states import Evidence, StepState
from yatagan.batches.steps import (
    FACTS_PHASE,
    FILES_PHASE,
    INDEX_PHASE,
    MEMBERS_PHASE,
    SINGLES_PHASE,
    Step,
    StepKind,
    Times,
)
from yatagan.batches.storing import Stored, Storing, store
from yatagan.bundles.seeing import Seeing
from yatagan.digests.lists import ALGORITHM
from yatagan.errors import LINE_FAULTS, BadPlace, Fault, Refused, StoreError
from yatagan.stores.interface import Facts, Kind, Readable, Store
from yatagan.trees.compare import FRESH_NS, Difference, Verdict, compare
from yatagan.trees.contents import digest_by_reading
from yatagan.trees.patterns import EVERYTHING, Choice
from yatagan.trees.scan import Tree, scan

#: Mode of directories that have to be made above the destination, and of bundles that are stored there.
_ABOVE_MODE, _BUNDLE_MODE = 0o755, 0o644


@dataclass(slots=True)
class Summary:
    """What a plan comes to. Sizes in bytes."""

    files: int = 0
    size: int = 0
    directories: int = 0
    links: int = 0
    left: int = 0
    left_size: int = 0
    replaced: int = 0
    not_carried: int = 0
    in_the_way: int = 0
    unread: int = 0
    looked_into: int = 0
    skipped: int = 0
    #: Bundles that are made, of directories that are stored as one.
    bundles: int = 0

    @property
    def anything(self) -> bool:
        """Whether there is anything to do."""
        return bool(self.files or self.directories or self.links)


@dataclass(slots=True)
class Arrival:
    """One source on its way: its tree, the tree now under its name at the destination, and that name.

    `storing` are its directories that are made into bundles, with their part of the differences, and `as_files` those
    that were to be but are there as files.
    """

    name: bytes
    tree: Tree
    there: Tree
    differences: list[Difference] = field(default_factory=list)
    storing: list[Storing] = field(default_factory=list)
    as_files: list[bytes] = field(default_factory=list)
    #: Files that were too new for size and time: the same by digest, with this value and evidence.
    same_by_digest: dict[bytes, tuple[str, Evidence]] = field(default_factory=dict)


@dataclass(slots=True)
class Plan:
    """What would be done. `destination` is absolute; `above` are directories to be made first, itself included."""

    destination: bytes
    above: list[bytes]
    arrivals: list[Arrival]
    step_ns: int
    room: int | None
    summary: Summary = field(default_factory=Summary)
    #: The small files that travel in bundles and are unloaded on arrival; None where they go one by one.
    travel: Travel | None = None

    def steps(self) -> Iterator[Step]:
        """The steps, numbered; anew at each call."""
        return _Numbering(self).steps()


@dataclass(frozen=True, slots=True)
class Together:
    """That small files may travel together: what they cost on this line, and whether to do it in any case."""

    costs: Costs
    always: bool = False


async def make_plan(
    source: Readable,
    destination: Store,
    sources: list[tuple[bytes, bytes]],
    directory: bytes,
    scanned: Callable[[int], None] = lambda count: None,
    choice: Choice = EVERYTHING,
    times: Times = Times.KEEP,
    together: Together | None = None,
    stored: Stored = Stored.AS_IT_IS,
) -> Plan:
    """Compare and decide.

    `sources` are (path as typed, name to arrive under); `directory` is the destination as typed. With `together`,
    small files travel in bundles if that pays, or in any case; `stored` says which directories become bundles. Raises
    StoreError, BadPlace when a source is not there or the destination is no directory, Refused when the
    destination lies inside a source.
    """
    top = await destination.resolve(directory, follow=True)
    above = await _missing_above(destination, top)
    step_ns = max(source.traits.time_step_ns, destination.traits.time_step_ns)
    now = await source.clock_ns()
    fresh_since = None if now is None else now - max(FRESH_NS, source.traits.time_step_ns)
    plan = Plan(top, above, [], step_ns, None)
    seeing = Seeing(destination)
    now_there: Readable = destination if stored is Stored.FILES else seeing
    try:
        for path, name in sources:
            root = await source.resolve(path)
            if source.name == destination.name and (top + b"/").startswith(root + b"/"):
                raise Refused("the destination lies inside the source", "stage to a directory outside it")
            tree = await scan(source, root, choice=choice)
            if not tree.entries:
                raise BadPlace(_spell(source, path), "there is nothing there")
            scanned(len(tree.entries))
            there = Tree(posixpath.join(top, name))
            if not above:
                there = await scan(now_there, there.root, choice=choice.pruning())
            arrival = Arrival(name, tree, there)
            if tree.skipped == 0 or len(tree.entries) > 1:  # of a tree that nothing is chosen of, not even its root
                arrival.differences = list(
                    compare(tree, there, step_ns=step_ns, fresh_since_ns=fresh_since, arrival_times=times is Times.NOW)
                )
            await _look_into_fresh(source, now_there, arrival, fresh_since)
            arrival.storing, arrival.differences, arrival.as_files = store(
                tree, there, arrival.differences, stored, seeing.bundles, seeing.unfit
            )
            for each in arrival.storing:
                await _look_at_bundle(destination, each)
            _refuse_losses(arrival, choice)
            plan.arrivals.append(arrival)
    finally:
        await seeing.release()
    plan.room = await destination.room(posixpath.dirname(above[0]) if above else top)
    if not any(arrival.differences or arrival.storing for arrival in plan.arrivals):
        plan.above.clear()
    _sum_up(plan)
    if together is not None and source.traits.parcels and destination.traits.parcels:
        _look_at_small(plan, together)
    return plan


async def _look_at_bundle(destination: Store, storing: Storing) -> None:
    """What has the names of a bundle and its index now, that is to be replaced. Raises Refused for a directory."""
    storing.seen = await destination.look_closely(storing.bundle)
    storing.seen_beside = await destination.look_closely(storing.bundle + index.SUFFIX)
    for path, seen in ((storing.bundle, storing.seen), (storing.bundle + index.SUFFIX, storing.seen_beside)):
        if seen is not None and seen.kind is not Kind.FILE:
            raise Refused(f"{_spell(destination, path)} is a {seen.kind.value}", "rename it, or stage without --bundle")


def _refuse_losses(arrival: Arrival, choice: Choice) -> None:
    """Raises Refused when a bundle that is made anew would lack what it has now, and what may well be here still."""
    for each in arrival.storing:
        if each.present is None:
            continue
        name = each.present.path.decode("utf-8", "surrogateescape")
        if choice and each.gone:
            raise Refused(
                f"{name} would be made anew with less in it: a bundle is always made as a whole",
                "leave out --only and --skip, or take --unpack to bring files beside it",
            )
        unread = [path for path in arrival.tree.unread if path == each.path or path.startswith(each.path + b"/")]
        if unread or (not each.path and arrival.tree.unread):
            raise Refused(
                f"{name} would be made anew without what cannot be read here",
                "make it readable, or take --unpack to bring files beside it",
            )


def travels(difference: Difference) -> bool:
    """Whether a file may come with others: it is small, and takes nobody's place."""
    facts = difference.facts
    return facts.kind is Kind.FILE and facts.size <= SMALL and difference.verdict is Verdict.NEW


def _look_at_small(plan: Plan, together: Together) -> None:
    sizes = [
        difference.facts.size
        for arrival in plan.arrivals
        for difference in arrival.differences
        if travels(difference) and difference.path not in arrival.tree.unread
    ]
    found = travel(len(sizes), sum(sizes), together.costs)
    if found.pays or (together.always and found.files):
        plan.travel = found


async def _missing_above(store: Store, top: bytes) -> list[bytes]:
    """Directories from the first that is missing down to the destination itself."""
    missing: list[bytes] = []
    path = top
    while (found := await store.look(path)) is None:
        missing.append(path)
        path = posixpath.dirname(path)
    if found.kind is not Kind.DIRECTORY:
        raise BadPlace(_spell(store, path), f"it is a {found.kind.value}, and the destination must be a directory")
    return missing[::-1]


async def _look_into_fresh(source: Readable, destination: Readable, arrival: Arrival, fresh_since: int | None) -> None:
    """Compare by digest what is too new to be the same by size and time."""
    for at, difference in enumerate(arrival.differences):
        if difference.verdict is not Verdict.FRESH:
            continue
        here = await _digest(source, arrival.tree.absolute(difference.path))
        there = await _digest(destination, arrival.there.absolute(difference.path))
        verdict = Verdict.SAME if here[0] and here[0] == there[0] else Verdict.DIFFERENT
        arrival.differences[at] = replace(difference, verdict=verdict)
        if verdict is Verdict.SAME:
            arrival.same_by_digest[difference.path] = there


async def _digest(store: Readable, path: bytes) -> tuple[str, Evidence]:
    """A file's digest and how it was made; an empty one when it cannot be read."""
    try:
        if store.traits.digests:
            how = Evidence.READ_BACK if store.traits.quick else Evidence.ON_NODE
            return (await store.digest(path, ALGORITHM)).digest, how
    except StoreError as error:
        if error.fault in LINE_FAULTS:
            raise
    try:
        return await digest_by_reading(store, path, ALGORITHM), Evidence.READ_BACK
    except StoreError as error:
        if error.fault in LINE_FAULTS:
            raise
        return "", Evidence.READ_BACK


def _sum_up(plan: Plan) -> None:
    summary = plan.summary
    summary.directories = len(plan.above)
    for arrival in plan.arrivals:
        summary.unread += len(arrival.tree.unread)
        summary.skipped += arrival.tree.skipped
        summary.looked_into += len(arrival.same_by_digest)
        for difference in arrival.differences:
            _count(summary, difference, arrival.tree.unread)
        for storing in arrival.storing:
            summary.bundles += 1
            summary.replaced += storing.seen is not None
            for difference in storing.differences:  # all of them go in, whatever is there
                new = difference if difference.verdict is Verdict.NEW else replace(difference, verdict=Verdict.NEW)
                _count(summary, new, arrival.tree.unread)


def _count(summary: Summary, difference: Difference, unread: Mapping[bytes, Fault]) -> None:
    facts, verdict = difference.facts, difference.verdict
    if not facts.kind.carried:
        summary.not_carried += 1
    elif verdict is Verdict.IN_THE_WAY:
        summary.in_the_way += 1
    elif verdict is Verdict.SAME:
        if facts.kind is Kind.FILE:
            summary.left += 1
            summary.left_size += facts.size
    elif difference.path not in unread:
        summary.replaced += verdict is Verdict.DIFFERENT
        if facts.kind is Kind.FILE:
            summary.files += 1
            summary.size += facts.size
        elif facts.kind is Kind.DIRECTORY:
            summary.directories += 1
        else:
            summary.links += 1


class _Numbering:
    """Turns differences into numbered steps. A directory's facts step has the number after its own.

    Files that travel together are held back until they are enough for a bundle, whose number they then get.
    """

    def __init__(self, plan: Plan) -> None:
        self._plan = plan
        self._next = 1
        self._held: list[Step] = []
        self._held_size = 0

    def steps(self) -> Iterator[Step]:
        for depth, path in enumerate(self._plan.above):
            yield self._step(depth, StepKind.DIRECTORY, path, path, b"", Facts(Kind.DIRECTORY, 0, 0, _ABOVE_MODE))
        base = len(self._plan.above)
        for arrival in self._plan.arrivals:
            for difference in arrival.differences:
                steps = self._for(arrival, difference, base)
                if self._plan.travel is not None and travels(difference):
                    yield from self._hold(steps)
                else:
                    yield from steps
            for storing in arrival.storing:
                yield from self._store(arrival, storing)
            for path, fault in sorted(arrival.tree.unread.items()):
                facts = arrival.tree.entries[path]
                yield replace(
                    self._step(FILES_PHASE, StepKind.DIRECTORY, *_ends(arrival, path), facts),
                    state=StepState.FAILED,
                    fault=Fault.UNREADABLE,
                    detail=fault.value,
                )
        yield from self._bundle()

    def _hold(self, steps: Iterator[Step]) -> Iterator[Step]:
        for step in steps:
            self._held.append(step)
            self._held_size += step.facts.size + 1536
        if self._held_size >= BUNDLE_BYTES or len(self._held) >= BUNDLE_FILES:
            yield from self._bundle()

    def _bundle(self) -> Iterator[Step]:
        """What is held, and the step that brings it."""
        held, self._held, self._held_size = self._held, [], 0
        if not held:
            return
        facts = Facts(Kind.FILE, Layout(held).size, 0, 0)
        path, label = posixpath.join(self._plan.destination, b"bundle"), posixpath.dirname(held[0].label)
        bundle = self._step(FILES_PHASE, StepKind.BUNDLE, b"", path, label, facts)
        yield bundle
        for step in held:
            yield replace(step, bundle=bundle.number, phase=SINGLES_PHASE)

    def _store(self, arrival: Arrival, storing: Storing) -> Iterator[Step]:
        """A bundle that stays one, its index, and the entries that are in it."""
        directory, _, label = _ends(arrival, storing.path)
        label = posixpath.join(posixpath.dirname(label), posixpath.basename(storing.bundle))
        facts = Facts(Kind.FILE, storing.size, 0, _BUNDLE_MODE)
        archive = self._step(FILES_PHASE, StepKind.ARCHIVE, directory, storing.bundle, label, facts)
        yield replace(archive, seen=storing.seen)
        path, label = storing.bundle + index.SUFFIX, label + index.SUFFIX
        beside = self._step(INDEX_PHASE, StepKind.INDEX, directory, path, label, replace(facts, size=0))
        yield replace(beside, seen=storing.seen_beside)
        for difference in storing.differences:
            yield from self._member(arrival, difference, archive.number)

    def _member(self, arrival: Arrival, difference: Difference, archive: int) -> Iterator[Step]:
        """An entry that is in a stored bundle."""
        path, facts = difference.path, difference.facts
        if not facts.kind.carried:
            yield from self._for(arrival, difference, 0)
        elif path not in arrival.tree.unread:
            kind = {Kind.FILE: StepKind.FILE, Kind.LINK: StepKind.LINK}.get(facts.kind, StepKind.DIRECTORY)
            step = self._step(MEMBERS_PHASE, kind, *_ends(arrival, path), facts)
            yield replace(step, bundle=archive, target=arrival.tree.targets.get(path))

    def _step(self, phase: int, kind: StepKind, source: bytes, path: bytes, label: bytes, facts: Facts) -> Step:
        number, self._next = self._next, self._next + 1
        return Step(number, phase, kind, source, path, label, facts)

    def _for(self, arrival: Arrival, difference: Difference, base: int) -> Iterator[Step]:
        path, facts = difference.path, difference.facts
        depth = base + (path.count(b"/") + 1 if path else 0)
        ends = *_ends(arrival, path), facts
        if not facts.kind.carried:
            step = self._step(FILES_PHASE, StepKind.FILE, *ends)
            yield replace(step, state=StepState.NOT_CARRIED, fault=Fault.SPECIAL, detail=facts.kind.value)
        elif difference.verdict is Verdict.IN_THE_WAY:
            kind = {Kind.FILE: StepKind.FILE, Kind.LINK: StepKind.LINK}.get(facts.kind, StepKind.DIRECTORY)
            assert difference.other is not None
            step = self._step(FILES_PHASE, kind, *ends)
            yield replace(step, state=StepState.FAILED, fault=Fault.KIND_IN_THE_WAY, detail=difference.other.kind.value)
        elif facts.kind is Kind.DIRECTORY:
            yield from self._directory(arrival, difference, depth, ends)
        elif facts.kind is Kind.LINK:
            yield from self._link(arrival, difference, ends)
        else:
            yield self._file(arrival, difference, ends)

    def _directory(
        self, arrival: Arrival, difference: Difference, depth: int, ends: tuple[bytes, bytes, bytes, Facts]
    ) -> Iterator[Step]:
        if difference.verdict is Verdict.SAME:
            return  # it is there; an existing directory keeps its facts
        if difference.path in arrival.tree.unread:
            return  # an empty one would pass for it
        yield self._step(depth, StepKind.DIRECTORY, *ends)
        yield self._step(FACTS_PHASE - depth, StepKind.FACTS, *ends)

    def _link(
        self, arrival: Arrival, difference: Difference, ends: tuple[bytes, bytes, bytes, Facts]
    ) -> Iterator[Step]:
        if difference.verdict is Verdict.SAME or difference.path not in arrival.tree.targets:
            return
        step = self._step(FILES_PHASE, StepKind.LINK, *ends)
        yield replace(step, target=arrival.tree.targets[difference.path], seen=difference.other)

    def _file(self, arrival: Arrival, difference: Difference, ends: tuple[bytes, bytes, bytes, Facts]) -> Step:
        step = self._step(FILES_PHASE, StepKind.FILE, *ends)
        if difference.verdict is not Verdict.SAME:
            return replace(step, seen=difference.other)
        digest, evidence = arrival.same_by_digest.get(difference.path, ("", Evidence.SIZE_AND_TIME))
        return replace(step, state=StepState.LEFT, evidence=evidence, digest=digest)


def _ends(arrival: Arrival, path: bytes) -> tuple[bytes, bytes, bytes]:
    """An entry's path at the source, its path at the destination, and its label."""
    label = posixpath.join(arrival.name, path) if path else arrival.name
    return arrival.tree.absolute(path), arrival.there.absolute(path), label


def _spell(store: Readable, path: bytes) -> str:
    text = path.decode("utf-8", "surrogateescape")
    return f"{store.name}:{text}" if store.name else text
