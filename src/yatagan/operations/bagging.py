"""Bags (RFC 8493): made of a directory of this machine, and checked wherever they are."""

from __future__ import annotations

from contextlib import AsyncExitStack
from dataclasses import dataclass

from yatagan.batches.batch_store import new_name
from yatagan.config.project import StoredAs
from yatagan.desk.desk import Desk
from yatagan.errors import StoreError
from yatagan.faults import Fault
from yatagan.ledger.ledger import OnRecord
from yatagan.ledger.records import RecordedPlace, RecordKind
from yatagan.operations.put_on_record import Done, put_on_record
from yatagan.operations.verify import side_of
from yatagan.operations.verify_known import place_of
from yatagan.operations.verify_request import VerifyRequest
from yatagan.operations.watching import Doing, Unwatched, Watcher
from yatagan.places import Place
from yatagan.request_errors import BadBag, WrongBag
from yatagan.stores.interface import Kind
from yatagan.trees.patterns import EVERYTHING, Choice
from yatagan.trees.scan import scan
from yatagan.verdicts.bag_check import BagVerdict, check_bag
from yatagan.verdicts.bag_writer import BagWish, make_bag, refuse_for_bag
from yatagan.verdicts.sides import open_side

_SHA256 = "sha256"


@dataclass(frozen=True, slots=True)
class BagRequest:
    """Of which directory of this machine a bag is made, and how.

    `output`: None for `NAME-bag` beside it. `algorithms`: of md5, sha1, sha256 and sha512. `info`: labels and values of
    bag-info.txt.
    """

    place: Place
    output: Place | None = None
    algorithms: tuple[str, ...] = (_SHA256,)
    info: tuple[tuple[str, str], ...] = ()
    choice: Choice = EVERYTHING


@dataclass(frozen=True, slots=True)
class NewBag:
    """A bag that was made, with manifests by these algorithms; `size` in bytes, of its payload."""

    place: Place
    algorithms: tuple[str, ...]
    files: int
    size: int
    record: OnRecord


async def bag_directory(desk: Desk, request: BagRequest, watcher: Watcher | None = None) -> NewBag:
    """Make a bag: a copy of the directory, with manifests. It has its name only when all of it is on disk.

    Raises BadBag, StoreError and others.
    """
    where, output, watcher = request.place, request.output, watcher or Unwatched()
    if where.node:
        raise BadBag(WrongBag.OF_A_NODE, str(where))
    if output is not None and output.node:
        raise BadBag(WrongBag.ON_A_NODE, str(output))
    async with AsyncExitStack() as opened:
        store = await desk.open(desk.source(where))
        opened.push_async_callback(store.close)
        root = await store.resolve(where.path, follow=True)
        target = output or Place("", root + b"-bag")
        there = await desk.open(desk.source(target, writing=True))
        opened.push_async_callback(there.close)
        bag = await there.resolve(target.path)
        if bag == root or bag.startswith(root + b"/"):
            raise BadBag(WrongBag.IN_ITSELF, str(Place("", bag)))
        with watcher.reading([where]) as heard:
            tree = await scan(store, root, choice=request.choice, heard=heard)
        if not tree.entries:
            raise StoreError(Fault.MISSING, root)
        if tree.entries[b""].kind is not Kind.DIRECTORY:
            raise BadBag(WrongBag.NO_DIRECTORY, str(where))
        refuse_for_bag(tree)
        files = tree.files()
        size = sum(tree.entries.file_sizes(files))
        wish = BagWish(tuple(dict.fromkeys(request.algorithms)), request.info, new_name())
        async with watcher.hashing(Doing.BAGGING) as reading:
            reading.expect(len(files), size)
            made = await make_bag(there, tree, bag, wish, reading.hashed)
    done = Done(
        RecordKind.BUNDLED,
        "good",
        origins=(RecordedPlace("", root),),
        target=RecordedPlace("", bag),
        counts={"files": len(files)},
        size=size,
        evidence={"read-here": len(files)},
        details={"archive": "bag"},
    )
    record = put_on_record(desk, done, lambda: sorted(made.get(_SHA256, {}).items()))
    return NewBag(Place("", bag), tuple(made), len(files), size, record)


@dataclass(frozen=True, slots=True)
class BagChecked:
    """What the bag in a place is found to be, and the record of that."""

    where: Place
    verdict: BagVerdict
    record: OnRecord


async def verify_bag(desk: Desk, where: Place, watcher: Watcher | None = None) -> BagChecked:
    """Check the bag in a place, here, on a node, or in an archive, and put the verdict on record.

    What its fetch.txt lists is not fetched. Raises CannotReach, StoreError and others.
    """
    watcher = watcher or Unwatched()
    store = await desk.open(desk.source(where))
    try:
        with watcher.reading([where]) as heard:
            side = await open_side(store, where.path, heard=heard)
        root = side.tree.root
        async with watcher.hashing(Doing.CHECKING) as reading:
            verdict = await check_bag(side, reading.hashed, reading.expect)
    finally:
        await store.close()
    problems = {"problems": len(verdict.problems)} if verdict.problems else {}
    done = Done(
        RecordKind.VERIFIED,
        "good" if verdict.valid else "not good",
        origins=(RecordedPlace(where.node, root),),
        counts={"files": verdict.files, **problems},
        size=verdict.size,
        evidence={verdict.origin.value: verdict.files},
        details={"archive": "bag"},
    )
    manifests = [each for each in verdict.bag.manifests if each.algorithm == _SHA256 and not each.of_tags]
    record = put_on_record(desk, done, lambda: sorted(pair for each in manifests for pair in each.digests.items()))
    return BagChecked(where, verdict, record)


def bag_asked_for(desk: Desk, request: VerifyRequest) -> Place | None:
    """Where the bag is that a request asks to verify; None where it asks for something else. Raises BadProject."""
    if not request.dataset:
        return None
    dataset = desk.project().dataset(request.dataset)
    return place_of(dataset, side_of(request, dataset)) if dataset.stored is StoredAs.BAG else None
