"""Comparing two places: what is only in one of them, what is the same, and in what the rest differs."""

from __future__ import annotations

import asyncio
from contextlib import AsyncExitStack
from dataclasses import dataclass

from yatagan.config.project import By
from yatagan.desk.desk import Desk
from yatagan.operations.watching import Doing, Unwatched, Watcher
from yatagan.places import Place
from yatagan.stores.interface import Store
from yatagan.trees.entries import Entries
from yatagan.trees.hashing import DigestOrigin
from yatagan.trees.hashing_watcher import HashingWatcher
from yatagan.trees.patterns import EVERYTHING, Choice
from yatagan.verdicts.comparison import Comparison, Digests, to_hash
from yatagan.verdicts.comparison import compare as compare_trees
from yatagan.verdicts.sides import ArchiveSide, Side, TreeSide, open_side


@dataclass(frozen=True, slots=True)
class CompareRequest:
    """Which two places are compared, what of them, and by what.

    Each is a file, a directory, a stored bundle or an archive, here or on a node.
    """

    first: Place
    second: Place
    choice: Choice = EVERYTHING
    by: By = By.SIZE_AND_TIME

    @property
    def by_digest(self) -> bool:
        """Whether contents decide."""
        return self.by is By.DIGEST


@dataclass(frozen=True, slots=True)
class Sides:
    """The two places; the directory of an archive that was taken for its root; and where digests were made."""

    places: tuple[Place, Place]
    inside: tuple[bytes, bytes]
    origins: tuple[DigestOrigin, DigestOrigin]


@dataclass(frozen=True, slots=True)
class SideBySide:
    """Two places, compared."""

    comparison: Comparison
    sides: Sides

    @property
    def same(self) -> bool:
        """Whether both hold the same."""
        return self.comparison.same


async def compare(desk: Desk, request: CompareRequest, watcher: Watcher | None = None) -> SideBySide:
    """Compare two places. Raises CannotReach, StoreError, BadArchive and others."""
    watcher, places = watcher or Unwatched(), (request.first, request.second)
    async with AsyncExitStack() as opened:
        stores: list[Store] = []
        for place in places:
            if stores and place.node == places[0].node:
                stores.append(stores[0])  # one login will do
                continue
            stores.append(await desk.open(desk.source(place, names=True)))
            opened.push_async_callback(stores[-1].close)
        with watcher.reading(places) as heard:
            # Without a digest nothing is read later that could have changed meanwhile.
            into = Entries(plain=not request.by_digest)
            first = await open_side(stores[0], places[0].path, request.choice, heard, into)
            into = Entries(plain=not request.by_digest, like=first.tree.entries)
            second = await open_side(stores[1], places[1].path, request.choice, heard, into)
        inside = _enter(first, second), _enter(second, first)
        digests = None
        if request.by_digest:
            hashing = _Hashing((first, second), to_hash(first.tree, second.tree))
            async with watcher.hashing(Doing.COMPARING) as hashed:
                digests = await hashing.make(hashed)
    step_ns, modeless = max(first.step_ns, second.step_ns), _modeless(first, second)
    comparison = compare_trees(first.tree, second.tree, digests, step_ns=step_ns, modeless=modeless)
    return SideBySide(comparison, Sides(places, inside, (first.origin, second.origin)))


@dataclass(frozen=True, slots=True)
class _Hashing:
    """The files of both sides that are to be hashed."""

    sides: tuple[Side, Side]
    paths: tuple[list[bytes], list[bytes]]

    async def make(self, heard: HashingWatcher) -> tuple[Digests, Digests]:
        """Hash them, both sides at the same time."""
        pairs = list(zip(self.sides, self.paths, strict=True))
        size = sum(sum(side.tree.entries.file_sizes(paths)) for side, paths in pairs)
        heard.expect(sum(map(len, self.paths)), size)
        async with asyncio.TaskGroup() as group:
            first, second = (group.create_task(side.digests(paths, heard.hashed)) for side, paths in pairs)
        return first.result(), second.result()


def _modeless(first: Side, second: Side) -> set[bytes] | None:
    """Paths whose modes are not known on both sides; None for all."""
    if first.modeless is None or second.modeless is None:
        return None
    return {*first.modeless, *second.modeless}


def _enter(side: TreeSide | ArchiveSide, other: TreeSide | ArchiveSide) -> bytes:
    """Take the one directory that an archive begins with for its root, if the other side has none of that name."""
    if not isinstance(side, ArchiveSide):
        return b""
    tops = {path.partition(b"/")[0] for path in side.tree.entries if path}
    return side.enter() if not tops & {path for path in other.tree.entries if path and b"/" not in path} else b""
