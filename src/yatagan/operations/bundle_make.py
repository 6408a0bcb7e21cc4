"""Bundling: directories into one archive with an index, here, straight on to a node, or by the node they are on."""

from __future__ import annotations

import os
import posixpath
import time
from dataclasses import dataclass

from yatagan.archives.compression import LEVELS, Form, form_of
from yatagan.batches.batch_store import new_name
from yatagan.bundles.by_node import make_there
from yatagan.bundles.make import BundleContents, MadeBundle, Recipe, make
from yatagan.desk.desk import Desk
from yatagan.errors import StoreError
from yatagan.faults import Fault
from yatagan.ledger.ledger import OnRecord
from yatagan.ledger.records import RecordedPlace, RecordKind
from yatagan.operations.put_on_record import Done, put_on_record
from yatagan.operations.watching import Doing, Unwatched, Watcher
from yatagan.places import Place
from yatagan.planning.destination_areas import refuse_read_only
from yatagan.portable.index import SUFFIX
from yatagan.portable.tar_input import HeaderOptions
from yatagan.request_errors import BadBundle, WrongBundle
from yatagan.stores.interface import Kind, Store
from yatagan.trees.patterns import EVERYTHING, Choice
from yatagan.trees.scan import Tree, scan

#: Endings of archives that cannot be written: a name that has one would say what is not so.
_OTHER_ENDINGS = (
    b".zip",
    b".7z",
    b".rar",
    b".tar.xz",
    b".txz",
    b".tar.bz2",
    b".tbz2",
    b".tbz",
    b".tar.lz4",
    b".gz",
    b".xz",
    b".bz2",
    b".zst",
    b".jar",
    b".iso",
    b".cpio",
)


@dataclass(frozen=True, slots=True)
class BundleRequest:
    """Which directories of one machine become a bundle, where, and in what form.

    `output`: the bundle, or with a path that ends in a slash the directory for it; None: beside what is on a node, else
    in the working directory. `form`: None for what the output ends in, or tar.zst. `level`: how hard it is compressed.
    `choice`: what of them goes into it. `manner`: how members are described.
    """

    sources: tuple[Place, ...]
    output: Place | None = None
    form: Form | None = None
    level: int | None = None
    choice: Choice = EVERYTHING
    manner: HeaderOptions = HeaderOptions()  # noqa: RUF009 it never changes


@dataclass(frozen=True, slots=True)
class NewBundle:
    """A bundle that was made, at the place `where`, of what, how it was proven, and its record."""

    where: Place
    contents: BundleContents
    made: MadeBundle
    recipe: Recipe
    evidence: str
    record: OnRecord


async def make_bundle(desk: Desk, request: BundleRequest, watcher: Watcher | None = None) -> NewBundle:
    """Bundle directories, and put the bundle on record. Nothing is ever replaced by one.

    What is on a node is bundled there. Raises BadBundle, CannotReach, StoreError and others.
    """
    watcher = watcher or Unwatched()
    target, recipe = _target(request)
    node = request.sources[0].node
    origin = await desk.open(desk.source(Place(node, b".")))
    store = origin
    try:
        trees = await _scan_all(origin, request, watcher)
        contents = BundleContents()
        for name, tree in trees.items():
            contents.add(name, tree, readable_here=not node)
        _refuse_unread(contents)
        if target.node != node or not target.node:
            store = await desk.open(desk.source(target, writing=True))
        path = await _output_path(desk, store, target, list(trees), recipe.form)
        async with watcher.hashing(Doing.BUNDLING) as heard:
            heard.expect(contents.files, contents.size)
            if node:
                began = time.monotonic()
                totals = await make_there(store, path, trees, recipe)
                made = MadeBundle(totals, time.monotonic() - began, True, [])
            else:
                made = await make(store, path, contents, recipe, lambda files, size: heard.hashed(size, files))
    finally:
        await origin.close()
        if store is not origin:
            await store.close()
    where = Place(target.node, path)
    evidence = "written and synced" if not where.node else "on-node" if made.proven else "sent"
    done = Done(
        RecordKind.BUNDLED,
        "good",
        origins=tuple(RecordedPlace(node, tree.root) for tree in trees.values()),
        target=RecordedPlace(where.node, where.path),
        counts={"files": made.totals.files},
        size=made.totals.size,
        evidence={evidence: made.totals.files},
        details={
            "archive": recipe.form.value,
            "bundle_bytes": made.totals.stored,
            "bundle_sha256": made.totals.digest,
        },
    )
    record = put_on_record(desk, done, lambda: sorted(made.listed))
    return NewBundle(where, contents, made, recipe, evidence, record)


def _target(request: BundleRequest) -> tuple[Place, Recipe]:
    """Where the bundle goes, a directory with a slash at its end, and how it is made. Raises BadBundle."""
    node, target = request.sources[0].node, request.output
    for source in request.sources:
        if source.node != node:
            raise BadBundle(WrongBundle.SEVERAL_MACHINES, str(source))
    if target is None:
        target = Place(node, b"")
    if node and target.node != node:
        raise BadBundle(WrongBundle.MADE_ELSEWHERE, str(target), node)
    if not target.name:
        target = Place(target.node, posixpath.join(target.path, b""))
    ending = None if _is_directory(target) else form_of(target.path)
    other = next((each for each in _OTHER_ENDINGS if target.path.lower().endswith(each)), None)
    if ending is None and other is not None:
        raise BadBundle(WrongBundle.OTHER_ENDING, str(target), other.decode())
    if ending is not None and request.form is not None and ending is not request.form:
        raise BadBundle(WrongBundle.ENDING_AND_FORM, str(target), request.form.value)
    form = ending or request.form or Form.ZSTD
    level = _level(form, request.level)
    return target, Recipe(form, level, request.manner, max(2, os.cpu_count() or 1), new_name())


def _is_directory(target: Place) -> bool:
    """Whether the directory of a bundle is named, and not the bundle."""
    return target.path == b"" or target.path.endswith(b"/")


def _level(form: Form, level: int | None) -> int:
    if form is Form.TAR:
        if level is not None:
            raise BadBundle(WrongBundle.LEVEL, form.value)
        return 0
    least, usual, most = LEVELS[form]
    if level is not None and not least <= level <= most:
        raise BadBundle(WrongBundle.LEVEL, form.value, f"{least} to {most}")
    return usual if level is None else level


async def _scan_all(store: Store, request: BundleRequest, watcher: Watcher) -> dict[bytes, Tree]:
    """Scan the sources. Returns their trees by the names that they get in the bundle. Raises BadBundle, StoreError."""
    trees: dict[bytes, Tree] = {}
    for source in request.sources:
        root = await store.resolve(source.path)
        name = source.name or posixpath.basename(root)
        if name in trees:
            raise BadBundle(WrongBundle.SAME_NAME, str(source))
        with watcher.reading([source]) as heard:
            trees[name] = await scan(store, root, choice=request.choice, heard=heard)
        if not trees[name].entries:
            raise StoreError(Fault.MISSING, root, store=store.name)
    return trees


def _refuse_unread(contents: BundleContents) -> None:
    """A bundle holds all that was chosen. Raises BadBundle."""
    if contents.unread:
        path, fault = next(iter(contents.unread.items()))
        raise BadBundle(WrongBundle.UNREAD, os.fsdecode(path), fault.value, more=len(contents.unread) - 1)


async def _output_path(desk: Desk, store: Store, target: Place, names: list[bytes], form: Form) -> bytes:
    """The absolute path of the bundle. Raises BadBundle, ReadOnlyArea."""
    ending = b"." + form.value.encode()
    directory = _is_directory(target)
    path = await store.resolve(target.path, follow=directory)
    found = await store.look(path)
    if directory or (found is not None and found.kind is Kind.DIRECTORY):
        if len(names) > 1:
            raise BadBundle(WrongBundle.NEEDS_NAME, str(target), ending.decode())
        path = posixpath.join(await store.resolve(target.path, follow=True), names[0] + ending)
    elif form_of(path) is None:
        path += ending
    if target.node:
        await refuse_read_only(store, desk.nodes().get(target.node), path)
    for each in (path, path + SUFFIX):
        if await store.look(each) is not None:
            raise BadBundle(WrongBundle.EXISTS, str(Place(target.node, each)))
    above = posixpath.dirname(path)
    if await store.look(above) is None:
        raise BadBundle(WrongBundle.NO_DIRECTORY, str(Place(target.node, above)))
    return path
