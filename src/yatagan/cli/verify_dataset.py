"""`yatagan verify --dataset`: a dataset, here or there, against what the ledger says of it; and `--batch`."""

from __future__ import annotations

import contextlib
import posixpath

from yatagan.batches.batch_store import Batches
from yatagan.bundles.see_through import SeeThrough
from yatagan.cli import text
from yatagan.cli.context import App
from yatagan.cli.pattern_options import parse_choice
from yatagan.cli.scan_progress import EntryCount
from yatagan.cli.verdict_view import Against
from yatagan.cli.verifying import Looking
from yatagan.config.project import Dataset, Project, Towards
from yatagan.digests.checksum_lists import Listed
from yatagan.errors import BadPlace
from yatagan.ledger.records import Record
from yatagan.ledger.tree_history import TreeHistory, files_of, history_of_dataset
from yatagan.places import Place
from yatagan.stores.interface import Store
from yatagan.trees.patterns import Choice
from yatagan.trees.scan import Tree, scan
from yatagan.verdicts.of_batch import claims_of_batch
from yatagan.verdicts.verification import Claims, Verdicts


def place_of(dataset: Dataset, at: Towards) -> Place:
    """Where a dataset is, at one of its ends."""
    return Place("", dataset.here) if at is Towards.HERE else dataset.there


async def verify_dataset(
    app: App, project: Project, dataset: Dataset, at: Towards, choice: Choice, looking: Looking
) -> tuple[Verdicts, Place, Against]:
    """Verify a dataset at one of its ends against what was put on record of it. Raises BadPlace where nothing was."""
    own = parse_choice(dataset.only, dataset.skip)
    ledger = app.ledger()
    history = history_of_dataset(ledger, project.name, dataset.name)
    history = history.chosen(lambda path: own.chooses(path) and choice.chooses(path))
    if history.newest is None or (choice and not (history.versions or history.entries or history.gone)):
        remedy = text.command("stage", "--dataset", dataset.name)
        raise BadPlace(dataset.name, "nothing is on record of it, so there is nothing to compare it with", remedy)
    where = place_of(dataset, at)
    claims = claims_of(history, source_side=history.newest.fields.get("towards") != at.value)
    store = SeeThrough(await app.open(app.source(where, names=True)))
    try:
        root = await store.resolve(where.path, follow=True)
        with EntryCount(app, [where], quiet=looking.quiet) as count:
            tree = await scan(store, root, choice=own, heard=count.heard)
        for path in [path for path in tree.entries if not choice.chooses(path)]:
            del tree.entries[path]
        verdicts = await looking.verdicts(store, tree, claims)
    finally:
        await store.close()
    used = Against(root, where, history.newest.list_digest, claims.listed, inside=False)
    used.dataset, used.recorded = dataset.name, (history.newest.recorded_at, history.newest.who)
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


async def verify_batch(app: App, name: str, choice: Choice, looking: Looking) -> tuple[Verdicts, Place, Against]:
    """Verify what a batch has put there. Raises BadPlace where it has put nothing there yet."""
    batch = Batches(app.home.batches).find(name)
    with contextlib.closing(batch.journal()) as journal:
        header, pins = journal.header(), journal.standing().pins
        claims = claims_of_batch(journal, choice)
    if not (claims.listed or claims.expected):
        raise BadPlace(batch.name, "it has put nothing there yet", text.command("batch", "resume", batch.name))
    where = Place(header.destination_node, header.destination)
    opened: Store = await app.open(app.source(where, pinned=pins.get(where.node), names=True))
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
        used = Against(header.destination, where, "", claims.listed, inside=False)
        used.batch = batch.name
        return verdicts, where, used
    finally:
        await store.close()
