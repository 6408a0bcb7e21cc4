"""Planning: two places in, steps out. Nothing is changed anywhere.

A plan is made from one scan of each side. Files that are right already, by size and time, become
steps that are settled from the start; files too new for that are compared by digest.
"""

from __future__ import annotations

import posixpath
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from enum import StrEnum

from yatagan.batches.layout import BUNDLE_BYTES, BUNDLE_FILES, SMALL, Costs, Layout, Travel, travel
from yatagan.batches.states import Evidence, StepState
from yatagan.batches.steps import FACTS_PHASE, FILES_PHASE, SINGLES_PHASE, Step, StepKind, Times
from yatagan.digests.lists import ALGORITHM
from yatagan.errors import LINE_FAULTS, BadPlace, Fault, Refused, StoreError
from yatagan.stores.interface import Facts, Kind, Store
from yatagan.trees.compare import FRESH_NS, Difference, Verdict, compare
from yatagan.trees.contents import digest_by_reading
from yatagan.trees.patterns import EVERYTHING, Choice
from yatagan.trees.scan import Tree, scan

#: Mode of directories that have to be made above the destination.
_ABOVE_MODE = 0o755


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

    @property
    def anything(self) -> bool:
        """Whether there is anything to do."""
        return bool(self.files or self.directories or self.links)


@dataclass(slots=True)
class Arrival:
    """One source on its way: its tree, the tree now under its name at the destination, and that name."""

    name: bytes
    tree: Tree
    there: Tree
    differences: list[Difference] = field(default_factory=list)
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


class Bundling(StrEnum):
    """Whether small files travel in bundles, which are unpacked on arrival."""

    #: Where that pays.
    AUTO = "auto"
    NEVER = "never"


@dataclass(frozen=True, slots=True)
class Together:
    """That small files may travel together: what they cost on this line, and whether to do it in any case."""

    costs: Costs
    always: bool = False


async def make_plan(
    source: Store,
    destination: Store,
    sources: list[tuple[bytes, bytes]],
    directory: bytes,
    scanned: Callable[[int], None] = lambda count: None,
    choice: Choice = EVERYTHING,
    times: Times = Times.KEEP,
    together: Together | None = None,
) -> Plan:
    """Compare and decide.

    `sources` are (path as typed, name to arrive under); `directory` is the destination as typed. With `together`,
    small files travel in bundles if that pays, or in any case. Raises
    StoreError, BadPlace when a source is not there or the destination is no directory, Refused when the
    destination lies inside a source.
    """
    top = await destination.resolve(directory, follow=True)
    above = await _missing_above(destination, top)
    step_ns = max(source.traits.time_step_ns, destination.traits.time_step_ns)
    now = await source.clock_ns()
    fresh_since = None if now is None else now - max(FRESH_NS, source.traits.time_step_ns)
    plan = Plan(top, above, [], step_ns, None)
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
            there = await scan(destination, there.root, choice=choice.pruning())
        arrival = Arrival(name, tree, there)
        if tree.skipped == 0 or len(tree.entries) > 1:  # of a tree that nothing is chosen of, not even the root comes
            arrival.differences = list(
                compare(tree, there, step_ns=step_ns, fresh_since_ns=fresh_since, arrival_times=times is Times.NOW)
            )
        await _look_into_fresh(source, destination, arrival, fresh_since)
        plan.arrivals.append(arrival)
    plan.room = await destination.room(posixpath.dirname(above[0]) if above else top)
    if not any(arrival.differences for arrival in plan.arrivals):
        plan.above.clear()
    _sum_up(plan)
    if together is not None and source.traits.parcels and destination.traits.parcels:
        _look_at_small(plan, together)
    return plan


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


async def _look_into_fresh(source: Store, destination: Store, arrival: Arrival, fresh_since: int | None) -> None:
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


async def _digest(store: Store, path: bytes) -> tuple[str, Evidence]:
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
            for path, fault in sorted(arrival.tree.unread.items()):
                label = posixpath.join(arrival.name, path) if path else arrival.name
                facts = arrival.tree.entries[path]
                yield replace(
                    self._step(
                        FILES_PHASE,
                        StepKind.DIRECTORY,
                        arrival.tree.absolute(path),
                        arrival.there.absolute(path),
                        label,
                        facts,
                    ),
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

    def _step(self, phase: int, kind: StepKind, source: bytes, path: bytes, label: bytes, facts: Facts) -> Step:
        number, self._next = self._next, self._next + 1
        return Step(number, phase, kind, source, path, label, facts)

    def _for(self, arrival: Arrival, difference: Difference, base: int) -> Iterator[Step]:
        path, facts = difference.path, difference.facts
        depth = base + (path.count(b"/") + 1 if path else 0)
        label = posixpath.join(arrival.name, path) if path else arrival.name
        ends = arrival.tree.absolute(path), arrival.there.absolute(path), label, facts
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


def _spell(store: Store, path: bytes) -> str:
    text = path.decode("utf-8", "surrogateescape")
    return f"{store.name}:{text}" if store.name else text
