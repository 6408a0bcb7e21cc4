"""Restoring: what is missing or damaged here, and the copies that it can come back from, each looked into before.

What comes back is carried as any stage is: `FoundLosses.returns` says what is to be staged for it.
"""

from __future__ import annotations

import os
import platform
import posixpath
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field, replace

from yatagan.batches.batch_store import Batches
from yatagan.batches.journal_data import Purpose
from yatagan.bundles.see_through import SeeThrough
from yatagan.desk.desk import Desk
from yatagan.errors import NoSuchBatch, YataganError
from yatagan.ledger.ledger import Ledger
from yatagan.ledger.tree_history import TreeHistory, history_of_dataset, history_of_place, trees_of
from yatagan.operations.datasets import choice_of
from yatagan.operations.stage_request import StageRequest
from yatagan.operations.watching import Doing, Unwatched, Watcher
from yatagan.places import Place
from yatagan.planning.picked import Picked
from yatagan.planning.restoring import FoundCopies, Losses, find_losses, look_into_copies
from yatagan.request_errors import AllGone, BadRestore, WrongRestore
from yatagan.spelling import show
from yatagan.stores.connection_history import recall
from yatagan.trees.hashing import Content
from yatagan.trees.hashing_watcher import HashingWatcher
from yatagan.trees.patterns import EVERYTHING, Choice
from yatagan.trees.scan import Tree, scan


@dataclass(frozen=True, slots=True)
class RestoreRequest:
    """What is to be restored: a place here, a dataset, or what a batch has carried; and what of it.

    `into`: the directory where it is to be, under its own name, instead of where it was. Raises ValueError unless it is
    of one thing, BadRestore for what is on a node.
    """

    place: Place | None = None
    dataset: str = ""
    batch: str = ""
    into: Place | None = None
    choice: Choice = EVERYTHING

    def __post_init__(self) -> None:
        if (self.place is not None) + bool(self.dataset) + bool(self.batch) != 1:
            raise ValueError("either a place, or a dataset, or a batch is restored")
        if self.into is not None and self.into.node:
            raise BadRestore(WrongRestore.INTO_A_NODE, str(self.into))
        if self.place is not None and self.place.node:
            raise BadRestore(WrongRestore.ON_A_NODE, str(self.place))


@dataclass(frozen=True, slots=True)
class WantedTree:
    """A tree to restore: its name, where it is to be, what is on record of it, and for what it is carried."""

    name: str
    target: bytes
    history: TreeHistory
    purpose: Purpose


@dataclass(frozen=True, slots=True)
class Return:
    """What is staged so that something comes back from one copy. `digests`: those on record, by the label of a step."""

    request: StageRequest
    picked: Picked
    digests: Mapping[bytes, str]


@dataclass(slots=True)
class FoundLosses:
    """What is lost of a tree, where it can come back from, and which nodes could not be asked, and why."""

    wanted: WantedTree
    losses: Losses
    copies: FoundCopies
    not_asked: dict[str, YataganError] = field(default_factory=dict)

    @property
    def offered(self) -> list[bytes]:
        """What is left only in an earlier version."""
        return [path for path in self.still_lost if path in self.copies.offers]

    @property
    def still_lost(self) -> list[bytes]:
        """What is lost, and no copy has as it is on record."""
        return self.copies.still(self.losses.lost)

    @property
    def whole(self) -> bool:
        """Whether nothing stays lost, and nothing here is without a digest to hold it against."""
        return not (self.still_lost or self.losses.unproven)

    def take_older(self) -> None:
        """Take the earlier versions that are left."""
        for path in self.offered:
            self.copies.take(self.copies.offers[path].copy, [path])

    def returns(self) -> Iterator[Return]:
        """What is to be staged, copy by copy."""
        wanted, offers = self.wanted, self.copies.offers
        above, name = posixpath.split(wanted.target)
        for copy, paths in self.copies.sources.items():
            request = StageRequest((copy.place,), Place("", above), name=name, purpose=wanted.purpose)
            digests = {
                posixpath.join(name, path) if path else name: (
                    offers[path].version.digest if path in offers else wanted.history.digest(path)
                )
                for path in paths
                if path in wanted.history.versions
            }
            yield Return(request, Picked({path: self.losses.lost[path] for path in paths}), digests)


def wanted_trees(desk: Desk, request: RestoreRequest) -> list[WantedTree]:
    """The trees that are meant. Raises BadRestore where nothing is on record, AllGone, BadProject, NotAccepted."""
    return [
        replace(tree, target=_target(desk, request, tree.target), history=tree.history.chosen(request.choice.chooses))
        for tree in map(_refuse_empty, _trees(desk, request))
    ]


def _target(desk: Desk, request: RestoreRequest, here: bytes) -> bytes:
    if request.into is None:
        return here
    return posixpath.join(_absolute(desk, request.into), posixpath.basename(here))


def _absolute(desk: Desk, place: Place) -> bytes:
    return os.path.realpath(os.path.join(desk.directory or b"/", place.path or b"."))


def _trees(desk: Desk, request: RestoreRequest) -> Iterator[WantedTree]:
    ledger, directory = desk.ledger(), desk.ledger_directory()
    purpose = Purpose(ledger=directory, restores=True)
    if request.dataset:
        project = desk.project()
        dataset = project.dataset(request.dataset)
        history = history_of_dataset(ledger, project.name, dataset.name).chosen(choice_of(dataset).chooses)
        own = Purpose(project.name, dataset.name, "here", directory, restores=True)
        yield WantedTree(dataset.name, dataset.here, history, own)
    elif request.batch:
        name, roots = _batch_roots(desk, ledger, request.batch)
        for root in roots:
            yield WantedTree(show(root), root, history_of_place(ledger, platform.node(), root, name), purpose)
    else:
        assert request.place is not None
        path = _absolute(desk, request.place)
        yield WantedTree(show(path), path, history_of_place(ledger, platform.node(), path), purpose)


def _refuse_empty(tree: WantedTree) -> WantedTree:
    """Refuse one of which nothing is on record, or only that it was gone."""
    newest, filled = tree.history.newest, tree.history.filled
    if tree.history.is_emptied:
        batch = str(filled.fields.get("batch", "")) if filled is not None else ""
        raise AllGone(tree.name, newest.recorded_at[:10] if newest is not None else "?", batch)
    if newest is None or not (tree.history.versions or tree.history.entries):
        raise BadRestore(WrongRestore.NOTHING_ON_RECORD, tree.name)
    return tree


def _batch_roots(desk: Desk, ledger: Ledger, name: str) -> tuple[str, list[bytes]]:
    """The whole name of a batch, and the roots of what it carried on this machine."""
    try:
        whole = Batches(desk.home.batches).find(name).name
    except NoSuchBatch:
        whole = name  # its journal is removed; the ledger has it
    roots: list[bytes] = []
    for record in ledger.records():
        if record.fields.get("batch") == whole and record.who.rpartition("@")[2] == platform.node():
            roots += [end.path for tree in trees_of(record) for end in tree.ends if not end.node]
    if not roots:
        raise BadRestore(WrongRestore.NO_RECORD_OF_BATCH, name)
    return whole, list(dict.fromkeys(roots))


async def find_lost(desk: Desk, wanted: WantedTree, watcher: Watcher | None = None) -> FoundLosses:
    """Look at what is lost of a tree, and into the copies that it can come back from. Raises StoreError."""
    async with (watcher or Unwatched()).hashing(Doing.LOOKING) as heard:
        found = FoundLosses(wanted, await _look_here(desk, wanted, watcher or Unwatched(), heard), FoundCopies())
        await _look_for_copies(desk, found)
    return found


async def _look_here(desk: Desk, wanted: WantedTree, watcher: Watcher, heard: HashingWatcher) -> Losses:
    """What is lost in the place where it is to be."""
    where = Place("", wanted.target)
    store = await desk.open(desk.source(where))
    try:
        with watcher.reading([where]) as counted:
            tree = await scan(store, wanted.target, heard=counted)
        known = [path for path in wanted.history.versions if path in tree.entries]
        heard.expect(len(known), sum(tree.entries.file_sizes(known)))
        return await find_losses(store, tree, wanted.history, _hashed(tree, heard))
    finally:
        await store.close()


def _hashed(tree: Tree, heard: HashingWatcher) -> Callable[[Content], None]:
    return lambda content: heard.hashed(tree.entries[content.path].size)


async def _look_for_copies(desk: Desk, found: FoundLosses) -> None:
    """Where lost entries can come back from, the nearest copies first."""
    lost, target = sorted(found.losses.lost, key=lambda path: path.replace(b"/", b"\0")), found.wanted.target
    for node, roots in _copies(desk, found.wanted):
        if not found.copies.still(lost):
            break
        try:
            store = await desk.open(desk.source(Place(node, b"")))
            seen = SeeThrough(store)
            try:
                for root in roots:
                    await look_into_copies(
                        store,
                        seen,
                        root,
                        lost,
                        found.wanted.history,
                        found.copies,
                        only_kept=not node and root == target,
                    )
            finally:
                await seen.close()
        except YataganError as error:
            found.not_asked[node] = error


def _copies(desk: Desk, wanted: WantedTree) -> list[tuple[str, list[bytes]]]:
    """Where copies were, by node, the nearest first; of each node those that were carried last first."""
    host = platform.node()
    places: dict[str, list[bytes]] = {"": [wanted.target]}  # what was replaced there is kept beside it
    for place, record in wanted.history.copies:
        mine = record.who.rpartition("@")[2] == host
        if (place.node or mine) and place.path not in places.setdefault(place.node, []):
            places[place.node].append(place.path)
    known = desk.nodes()
    nodes = [node for node in places if not node or node in known]

    def rate(node: str) -> float:
        return recall(desk.home, node).rate if node else float("inf")

    return [(node, places[node]) for node in sorted(nodes, key=rate, reverse=True)]
