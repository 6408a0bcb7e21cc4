"""A batch against what it has put there, and a dataset, at one of its ends, against what the ledger has of it."""

from __future__ import annotations

import contextlib
import posixpath

from yatagan.batches.batch_store import Batches
from yatagan.bundles.see_through import SeeThrough
from yatagan.config.project import Dataset, Project, Towards
from yatagan.desk.desk import Desk
from yatagan.digests.checksum_lists import Listed
from yatagan.ledger.records import Record
from yatagan.ledger.tree_history import TreeHistory, files_of, history_of_dataset
from yatagan.operations.datasets import choice_of
from yatagan.operations.looking import Looking
from yatagan.operations.verify_request import Against, VerifyRequest
from yatagan.operations.watching import Watcher
from yatagan.places import Place
from yatagan.request_errors import BadVerify, WrongVerify
from yatagan.stores.interface import Store
from yatagan.trees.scan import Tree, scan
from yatagan.verdicts.claims import Claims
from yatagan.verdicts.of_batch import claims_of_batch
from yatagan.verdicts.verification import Verdicts


def place_of(dataset: Dataset, side: Towards) -> Place:
    """Where a dataset is, at one of its ends."""
    return Place("", dataset.here) if side is Towards.HERE else dataset.there


async def verify_dataset(
    desk: Desk,
    project: Project,
    dataset: Dataset,
    side: Towards,
    request: VerifyRequest,
    looking: Looking,
    watcher: Watcher,
) -> tuple[Verdicts, Place, Against]:
    """Compare a dataset, at one of its ends, with what was put on record of it. Raises BadVerify where nothing was."""
    own, choice = choice_of(dataset), request.choice
    history = history_of_dataset(desk.ledger(), project.name, dataset.name)
    history = history.chosen(lambda path: own.chooses(path) and choice.chooses(path))
    if history.newest is None or (choice and not (history.versions or history.entries or history.gone)):
        raise BadVerify(WrongVerify.NOTHING_ON_RECORD, dataset.name)
    where = place_of(dataset, side)
    claims = claims_of(history, source_side=history.newest.fields.get("towards") != side.value)
    store = SeeThrough(await desk.open(desk.source(where, names=True)))
    try:
        root = await store.resolve(where.path, follow=True)
        with watcher.reading([where]) as heard:
            tree = await scan(store, root, choice=own, heard=heard)
        for path in [path for path in tree.entries if not choice.chooses(path)]:
            del tree.entries[path]
        verdicts = await looking.verdicts(store, tree, claims)
    finally:
        await store.close()
    recorded = history.newest.recorded_at, history.newest.who
    used = Against(root, where, history.newest.list_digest, claims.listed, dataset=dataset.name, recorded=recorded)
    return verdicts, where, used


def claims_of(history: TreeHistory, *, source_side: bool) -> Claims:
    """What is on record of a tree, as claims.

    `source_side`: of where it came from, whose facts are on record as they are.
    """
    listed = [Listed(path, history.digest(path)) for path in files_of(history)]
    newest: Record | None = history.newest
    modes = source_side or newest is None or not newest.fields.get("modes")
    times = source_side or newest is None or not newest.fields.get("times")
    return Claims(listed, history.entries, modes=modes, times=times, emptied=history.is_emptied)


async def verify_batch(desk: Desk, request: VerifyRequest, looking: Looking) -> tuple[Verdicts, Place, Against]:
    """Compare a destination with what a batch has put there. Raises BadVerify where it has put nothing there yet."""
    batch = Batches(desk.home.batches).find(request.batch)
    with contextlib.closing(batch.journal()) as journal:
        header, pins = journal.header(), journal.standing().pins
        claims = claims_of_batch(journal, request.choice)
    if not (claims.listed or claims.expected):
        raise BadVerify(WrongVerify.NOTHING_PUT, batch.name)
    where = Place(header.destination_node, header.destination)
    opened: Store = await desk.open(desk.source(where, pinned=pins.get(where.node), names=True))
    store = SeeThrough(opened)
    try:
        store.take_as_files(posixpath.join(header.destination, line.path) for line in claims.listed)
        tree = Tree(header.destination)
        for _, arrival in header.arrivals:
            path = posixpath.join(header.destination, arrival)
            found = await scan(store, path)
            if b"" in found.entries:
                tree.entries[arrival] = found.entries[b""]
                tree.targets.update({arrival: found.targets[b""]} if b"" in found.targets else {})
            tree.graft(arrival, found)
        verdicts = await looking.verdicts(store, tree, claims)
        return verdicts, where, Against(header.destination, where, "", claims.listed, batch=batch.name)
    finally:
        await store.close()
