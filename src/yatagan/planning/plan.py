"""What a plan is, and its steps, numbered. No I/O.

Files that are right already become steps that are settled from the start.
"""

from __future__ import annotations

import posixpath
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from itertools import chain

from yatagan.batches.states import Evidence, StepState
from yatagan.batches.steps import (
    FACTS_PHASE,
    FILES_PHASE,
    INDEX_PHASE,
    MEMBERS_PHASE,
    NARROWING_PHASE,
    SINGLES_PHASE,
    WIDENING_PHASE,
    Beginning,
    Setting,
    Step,
    StepKind,
)
from yatagan.faults import Fault
from yatagan.places import holds
from yatagan.planning.bundling import BUNDLE_BYTES, BUNDLE_FILES, LARGEST_BUNDLED, BundledTravel, BundleLayout
from yatagan.planning.expectation import Expectation
from yatagan.planning.stored_bundles import BundleToStore
from yatagan.portable import index
from yatagan.stores.interface import Facts, Kind
from yatagan.trees.compare import Difference, Differences, Verdict
from yatagan.trees.not_kept import NotKept
from yatagan.trees.scan import Tree

#: Mode of directories that have to be made above the destination, and of bundles that are stored there.
_ABOVE_MODE, _BUNDLE_MODE = 0o755, 0o644


@dataclass(slots=True)
class Summary:
    """The counts of a plan. Sizes in bytes. `directories` of the sources, the roots included; `above`: over those."""

    files: int = 0
    size: int = 0
    directories: int = 0
    above: int = 0
    links: int = 0
    left: int = 0
    left_size: int = 0
    replaced: int = 0
    in_part: int = 0
    in_part_size: int = 0
    growing: int = 0
    growing_size: int = 0
    growing_there: int = 0
    not_carried: int = 0
    in_the_way: int = 0
    clashes: int = 0
    newer: int = 0
    unread: int = 0
    looked_into: int = 0
    remembered: int = 0
    skipped: int = 0
    facts_of_files: int = 0
    facts_of_directories: int = 0

    @property
    def anything(self) -> bool:
        """Whether there is anything to do."""
        moves = self.files or self.directories or self.above or self.links
        return bool(moves or self.facts_of_files or self.facts_of_directories)


@dataclass(slots=True)
class Arrival:
    """One source of a plan: its tree, the tree that has its name at the destination now, and that name.

    `storing`: directories that become bundles, with their differences. `as_files`: directories that were to become
    bundles but are there as files. `hidden`: the stored bundle beside which the arrival, as files, will stand.
    """

    name: bytes
    tree: Tree
    there: Tree
    differences: Differences = field(init=False)
    storing: list[BundleToStore] = field(default_factory=list)
    as_files: list[bytes] = field(default_factory=list)
    hidden: bytes = b""
    #: Entries whose names the disk there takes for another's, and that other path.
    clashes: Mapping[bytes, bytes] = field(default_factory=dict)
    #: Files that only grow, with what an earlier batch has put there of each.
    growing: dict[bytes, Beginning] = field(default_factory=dict)
    #: Entries that are there already, whose modes or times are to be set.
    facts_differ: set[bytes] = field(default_factory=set)
    #: Whether directories get the times of their sources; what is put into them moves those.
    keeps_times: bool = False
    #: The step at which times of the two trees are compared.
    step_ns: int = 1
    #: Files of which size and time did not tell: the same by digest, with this value and evidence.
    same_by_digest: dict[bytes, tuple[str, Evidence]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.differences = Differences(self.tree, self.there)

    def written_to(self) -> set[bytes]:
        """Directories into which something is put, and whose times are to stay; as it is decided now."""
        if not self.keeps_times:
            return set()
        changing = self.differences.of(Verdict.NEW, Verdict.DIFFERENT, Verdict.IN_THE_WAY, Verdict.CLASHES)
        paths = chain(
            (each.path for each in changing if each.facts.kind.carried), (storing.path for storing in self.storing)
        )
        return {posixpath.dirname(path) for path in paths if path}

    def travels(self, difference: Difference) -> bool:
        """Whether a file may travel in a bundle: it is small, replaces nothing, and holds still."""
        facts = difference.facts
        small = facts.kind is Kind.FILE and facts.size <= LARGEST_BUNDLED
        return small and difference.verdict is Verdict.NEW and difference.path not in self.growing


@dataclass(slots=True)
class Plan:
    """What would be done. `destination` is absolute; `above` are directories to make first, itself included.

    `top_inode`: the destination's, 0 if it is not there or unknown. `same_disk`: as far as can be seen without writing,
    commands on the destination's machine see its disk. `safe`: bytes to carry that an earlier batch has there already.
    """

    destination: bytes
    above: list[bytes]
    arrivals: list[Arrival]
    step_ns: int
    free: int | None
    summary: Summary = field(default_factory=Summary)
    #: The small files that travel in bundles and are extracted on arrival; None where they go one by one.
    travel: BundledTravel | None = None
    top_inode: int = 0
    same_disk: bool = False
    safe: int = 0
    #: Files that are left for another time, because they are still being written; by the names that they would get.
    unsettled: list[bytes] = field(default_factory=list)
    #: What the entries that are carried have and leave behind; None before a look at them.
    unkept: NotKept | None = None
    #: How long it should take; None where nothing is to be carried.
    expectation: Expectation | None = None

    def carried(self) -> Iterator[tuple[bytes, Iterator[bytes]]]:
        """Of each source its root, and the paths below it that are carried."""
        for arrival in self.arrivals:
            wanted = arrival.differences.of(Verdict.NEW, Verdict.DIFFERENT)
            inside = (each for storing in arrival.storing for each in storing.differences)
            yield arrival.tree.root, (each.path for each in chain(wanted, inside) if each.facts.kind.carried)

    def set_ids(self) -> int:
        """How many carried files lose a set-id bit."""
        return sum(
            difference.facts.kind is Kind.FILE and difference.facts.mode & 0o6000 > 0
            for arrival in self.arrivals
            for difference in arrival.differences.of(Verdict.NEW, Verdict.DIFFERENT)
        )

    def chooses(self, path: bytes) -> bool:
        """Whether a path of the destination is among what the sources' patterns choose."""
        for arrival in self.arrivals:
            root = arrival.there.root
            if holds(root, path) and path[len(root) :].lstrip(b"/") in arrival.tree.entries:
                return True
        return False

    def steps(self) -> Iterator[Step]:
        """The numbered steps; made anew by each call."""
        return _Numbering(self).steps()


class _Numbering:
    """Turns differences into numbered steps. The step that sets a directory's facts follows the one that makes it.

    Files that may travel together are held back until they fill a bundle.
    """

    def __init__(self, plan: Plan) -> None:
        self._plan = plan
        self._next = 1
        self._held: list[Step] = []
        self._held_size = 0
        self._written_to: set[bytes] = set()

    def steps(self) -> Iterator[Step]:
        for depth, path in enumerate(self._plan.above):
            yield self._step(depth, StepKind.DIRECTORY, path, path, b"", Facts(Kind.DIRECTORY, 0, 0, _ABOVE_MODE))
        base = len(self._plan.above)
        for arrival in self._plan.arrivals:
            self._written_to = arrival.written_to()
            for difference in arrival.differences:
                steps = self._for(arrival, difference, base)
                if self._plan.travel is not None and arrival.travels(difference):
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
        """The steps of a full bundle: the files that were held back, and the bundle."""
        held, self._held, self._held_size = self._held, [], 0
        if not held:
            return
        facts = Facts(Kind.FILE, BundleLayout(held).size, 0, 0)
        path, label = posixpath.join(self._plan.destination, b"bundle"), posixpath.dirname(held[0].label)
        bundle = self._step(FILES_PHASE, StepKind.BUNDLE, b"", path, label, facts)
        yield bundle
        for step in held:
            yield replace(step, bundle=bundle.number, phase=SINGLES_PHASE)

    def _store(self, arrival: Arrival, storing: BundleToStore) -> Iterator[Step]:
        """The steps of a directory that becomes a bundle: the bundle, its index, and its entries."""
        directory, _, label = _ends(arrival, storing.path)
        label = posixpath.join(posixpath.dirname(label), posixpath.basename(storing.bundle))
        facts = Facts(Kind.FILE, storing.size, 0, _BUNDLE_MODE)
        archive = self._step(FILES_PHASE, StepKind.ARCHIVE, directory, storing.bundle, label, facts)
        yield replace(archive, seen=storing.seen)
        path, label = storing.bundle + index.SUFFIX, label + index.SUFFIX
        index_step = self._step(INDEX_PHASE, StepKind.INDEX, directory, path, label, replace(facts, size=0))
        yield replace(index_step, seen=storing.seen_index)
        for difference in storing.differences:
            yield from self._member(arrival, difference, archive.number)

    def _member(self, arrival: Arrival, difference: Difference, archive: int) -> Iterator[Step]:
        """The step of an entry of a stored bundle."""
        path, facts = difference.path, difference.facts
        if not facts.kind.carried:
            yield from self._for(arrival, difference, 0)
        elif path not in arrival.tree.unread:
            step = self._step(MEMBERS_PHASE, _kind(facts), *_ends(arrival, path), facts)
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
        elif difference.verdict is Verdict.NEWER_THERE:
            step = self._step(FILES_PHASE, StepKind.FILE, *ends)
            yield replace(step, state=StepState.NOT_CARRIED, fault=Fault.NEWER_THERE)
        elif difference.verdict is Verdict.CLASHES:
            yield from self._refused(self._clash(arrival, path, ends, depth), depth)
        elif difference.verdict is Verdict.IN_THE_WAY:
            assert difference.other is not None
            step = self._step(_phase(facts, depth), _kind(facts), *ends)
            detail = difference.other.kind.value
            refused = replace(step, state=StepState.FAILED, fault=Fault.KIND_IN_THE_WAY, detail=detail)
            yield from self._refused(refused, depth)
        elif facts.kind is Kind.DIRECTORY:
            yield from self._directory(arrival, difference, depth, ends)
        elif facts.kind is Kind.LINK:
            yield from self._link(arrival, difference, ends)
        else:
            yield self._file(arrival, difference, ends)
            yield from self._file_facts(arrival, difference, ends)

    def _refused(self, step: Step, depth: int) -> Iterator[Step]:
        """A step that has failed in the plan already; of a directory also the one that sets its facts, once made."""
        yield step
        if step.kind is StepKind.DIRECTORY:
            yield self._step(FACTS_PHASE - depth, StepKind.FACTS, step.source, step.path, step.label, step.facts)

    def _clash(self, arrival: Arrival, path: bytes, ends: tuple[bytes, bytes, bytes, Facts], depth: int) -> Step:
        step = replace(self._step(_phase(ends[-1], depth), _kind(ends[-1]), *ends), state=StepState.FAILED)
        if (other := arrival.clashes.get(path)) is None:
            return replace(step, fault=Fault.WITH_DIRECTORY)
        return replace(step, fault=Fault.NAME_CLASH, detail=other.decode("utf-8", "surrogateescape"))

    def _directory(
        self, arrival: Arrival, difference: Difference, depth: int, ends: tuple[bytes, bytes, bytes, Facts]
    ) -> Iterator[Step]:
        if difference.verdict is Verdict.SAME:
            yield from self._directory_there(arrival, difference, depth, ends)
            return
        if difference.path in arrival.tree.unread:
            return  # an empty one would pass for it
        yield self._step(depth, StepKind.DIRECTORY, *ends)
        yield self._step(FACTS_PHASE - depth, StepKind.FACTS, *ends)

    def _directory_there(
        self, arrival: Arrival, difference: Difference, depth: int, ends: tuple[bytes, bytes, bytes, Facts]
    ) -> Iterator[Step]:
        """The steps of a directory that is there already: what it is to lose first, all else at the end."""
        path, other = difference.path, difference.other
        assert other is not None
        differs = path in arrival.facts_differ
        if differs and other.mode & ~difference.facts.mode & 0o777:
            yield replace(self._step(depth, StepKind.FACTS, *ends), seen=other, setting=Setting.NARROW)
        if differs or path in self._written_to:
            setting = Setting.DIFFER if differs else Setting.AGAIN
            yield replace(self._step(FACTS_PHASE - depth, StepKind.FACTS, *ends), seen=other, setting=setting)

    def _file_facts(
        self, arrival: Arrival, difference: Difference, ends: tuple[bytes, bytes, bytes, Facts]
    ) -> Iterator[Step]:
        """The step that sets the facts of a file that is there already, if they differ."""
        other = difference.other
        if other is not None and difference.path in arrival.facts_differ:
            phase = NARROWING_PHASE if other.mode & ~difference.facts.mode & 0o777 else WIDENING_PHASE
            yield replace(self._step(phase, StepKind.FACTS, *ends), seen=other, setting=Setting.DIFFER)

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
            return replace(step, seen=difference.other, beginning=arrival.growing.get(difference.path))
        digest, evidence = arrival.same_by_digest.get(difference.path, ("", Evidence.SIZE_AND_TIME))
        return replace(step, state=StepState.LEFT, evidence=evidence, digest=digest)


def _kind(facts: Facts) -> StepKind:
    """The kind of step that an entry needs."""
    return {Kind.FILE: StepKind.FILE, Kind.LINK: StepKind.LINK}.get(facts.kind, StepKind.DIRECTORY)


def _phase(facts: Facts, depth: int) -> int:
    """When an entry is made: directories by their depth, before all else."""
    return depth if facts.kind is Kind.DIRECTORY else FILES_PHASE


def _ends(arrival: Arrival, path: bytes) -> tuple[bytes, bytes, bytes]:
    """The path at the source, the path at the destination, and the label of an entry."""
    label = posixpath.join(arrival.name, path) if path else arrival.name
    return arrival.tree.absolute(path), arrival.there.absolute(path), label
