"""The same stage again: which earlier batch is left, whether it can go on, and what a new one takes over of it."""

from __future__ import annotations

import asyncio
import contextlib
import posixpath
from collections.abc import Callable, Iterable, Iterator
from dataclasses import replace
from hashlib import blake2b
from itertools import chain, islice

from yatagan.batches.batch_store import Batch, Batches
from yatagan.batches.journal import Journal
from yatagan.batches.journal_data import Header
from yatagan.batches.states import ENDED, BatchState, StepState
from yatagan.batches.steps import Step, StepKind
from yatagan.errors import LineLost, StoreError
from yatagan.places import PART_PREFIX
from yatagan.stores.coalescing import gather_few
from yatagan.stores.interface import Store
from yatagan.trees.removing import remove_files
from yatagan.trees.sync_names import sync_directories

#: What is compared of two plans; the rest follows from it.
_THINGS = frozenset({StepKind.FILE, StepKind.LINK, StepKind.DIRECTORY})
#: States in which a step needs nothing more.
_DONE = frozenset({StepState.IN_PLACE, StepState.LEFT, StepState.NOT_CARRIED})
#: Part files that are removed or looked for at once.
_PARTS_AT_ONCE = 64
#: Directories that are listed at once.
_LISTINGS_AT_ONCE = 16
_NOT_DONE = tuple(state for state in StepState if state not in _DONE)


def unfinished(batches: Batches, header: Header) -> Batch | None:
    """The unfinished batch with the same ends: one that is being carried, else the newest.

    Journals that cannot be read are skipped.
    """
    found = None
    for batch, journal in batches.opened(finished=False):
        if journal.header().ends == header.ends and _is_left(batches, journal):
            if batch.is_carried():
                return batch
            found = found or batch
    return found


def _is_left(batches: Batches, journal: Journal) -> bool:
    """Whether a batch can still go on or be taken over."""
    standing = journal.standing()
    if standing.state is BatchState.CANCELLED:
        return not batches.holds(standing.detail) and bool(journal.begun())
    return standing.state is not BatchState.FINISHED


def can_go_on(journal: Journal, header: Header, steps: Iterable[Step]) -> bool:
    """Whether an earlier batch had the same options and still has all that these steps would do."""
    if journal.header().options != header.options or journal.standing().state is BatchState.CANCELLED:
        return False
    left, files = set[int](), 0
    for step in journal.steps():
        if step.kind in _THINGS:
            key = _key(step)
            files += key if step.kind is StepKind.FILE else 0
            if step.state not in _DONE:
                left.add(key)
    for step in steps:
        if step.kind in _THINGS:
            key = _key(step)
            files -= key if step.kind is StepKind.FILE else 0
            if step.state not in _DONE and key not in left:
                return False
    return files == 0


def _key(step: Step) -> int:
    """A 64-bit hash of an entry as the plan saw it, so that a million need little memory."""
    facts = f"{step.facts.size} {step.facts.mtime_ns // 10**9}" if step.kind is StepKind.FILE else ""
    parts = step.kind.value.encode(), step.label, step.target or b"", facts.encode()
    return int.from_bytes(blake2b(b"\0".join(parts), digest_size=8).digest(), "big")


def take_over(steps: Iterable[Step], earlier: Journal, chosen: Callable[[bytes], bool]) -> Iterator[Step]:
    """The steps of a new plan, with the part files that an earlier batch has at the destination.

    `chosen`: whether the plan is about a directory of the destination.
    """
    batch = earlier.header().id
    begun = {step.path: step for step in earlier.begun() if step.kind is StepKind.FILE}
    made, last = set[bytes](), 0
    for step in steps:
        last = max(last, step.number)
        if step.kind is StepKind.DIRECTORY:
            made.add(step.path)
        old = begun.get(step.path)
        if old is not None and _continues(step, old):
            step = replace(
                step,
                facts=old.facts,
                generation=1,
                session=old.session,
                durable=old.durable,
                reused=old.reused,
                checkpoints=old.checkpoints,
                adopts=old.adopts or old.part(batch),
            )
        yield step
    for directory, facts in earlier.unset_directories():
        if directory.path not in made and chosen(directory.path):
            yield replace(directory, number=last + 1)
            yield replace(facts, number=last + 2)
            last += 2


async def sync_what_is_there(earlier: Journal, destination: Store) -> None:
    """Sync the names that an earlier batch has given, before a new one relies on them and it is forgotten.

    A power cut could undo them: then links would be gone, and part files be there again that belong to no batch.
    Raises StoreError.
    """
    named = chain(earlier.named_paths(), part_names(earlier))  # of some the answer was lost
    await sync_directories(destination, set(map(posixpath.dirname, named)))


def _continues(step: Step, old: Step) -> bool:
    """Whether a step carries the very file that an earlier step has begun."""
    alone = step.kind is StepKind.FILE and step.state is StepState.WAITING and not step.bundle
    return alone and step.source == old.source and step.facts.same_as(old.facts)


def left_behind(batches: Batches, node: str) -> Iterator[tuple[bytes, bytes]]:
    """Part files that ended batches may have left on a node, as (destination, path)."""
    for _, journal in batches.opened():
        header, state = journal.header(), journal.standing().state
        if header.destination_node == node and state in ENDED:
            for part in part_names(journal):
                yield header.destination, part


async def remove_parts(journal: Journal, destination: Store, keep: frozenset[bytes] = frozenset()) -> int:
    """Remove the part files of a batch except those in `keep`. Returns how many; what cannot be removed stays."""
    again = set(await _there_again(journal, destination))
    named = (part for part in part_names(journal) if part not in again)
    parts, removed = (part for part in chain(again, named) if part not in keep), 0
    with contextlib.suppress(LineLost):
        while some := list(islice(parts, _PARTS_AT_ONCE)):
            removed += len(await remove_files(destination, some))
    return removed


async def _there_again(journal: Journal, destination: Store) -> list[bytes]:
    """Part files of files in place: a power cut has undone the renaming that gave them their names.

    Directories that cannot be listed are passed over.
    """
    start, found = PART_PREFIX + journal.header().id.encode() + b"-", list[bytes]()

    async def look_in(directory: bytes) -> None:
        with contextlib.suppress(StoreError):
            async for handful in destination.entries(directory):
                found.extend(posixpath.join(directory, name) for name, _ in handful if name.startswith(start))

    directories = {posixpath.dirname(step.path) for step in journal.steps(StepState.IN_PLACE) if step.generation}
    await gather_few(_LISTINGS_AT_ONCE, map(look_in, directories))
    return found


async def count_parts(journal: Journal, destination: Store) -> int:
    """How many part files a batch has left there. Raises StoreError."""
    count, parts = 0, part_names(journal)
    while some := list(islice(parts, _PARTS_AT_ONCE)):
        found = await asyncio.gather(*map(destination.look, some))
        count += sum(each is not None for each in found)
    return count


def part_names(journal: Journal) -> Iterator[bytes]:
    """The path of every part file that a batch may have left."""
    batch = journal.header().id
    bundles = {step.number: step.generation for step in journal.of_kind(StepKind.BUNDLE)}
    for step in journal.steps(*_NOT_DONE):
        if step.adopts:
            yield step.adopts
        # One more than is known: a copy is made before it is written down. What comes out of a bundle has its number.
        last = max(step.generation + 1 if step.generation else 0, bundles.get(step.bundle, 0))
        yield from (step.part(batch, generation) for generation in range(1, last + 1))
