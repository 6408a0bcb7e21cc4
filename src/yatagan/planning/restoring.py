"""What of a tree was lost here, and which copies elsewhere are what the ledger says that it was.

A file is missing, or damaged: its contents are not those on record, though its time is. Whatever has another time is
somebody's work, newer or older, and is left. Of every lost file the first copy is taken that has the recorded digest,
as read now; where only an earlier version of it is left, that is offered, and never taken by itself.
"""

from __future__ import annotations

import posixpath
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from enum import StrEnum

from yatagan.digests.checksum_lists import ALGORITHM
from yatagan.faults import Fault
from yatagan.ledger.tree_history import TreeHistory, Version, files_of, others_of
from yatagan.places import KEPT_DIRECTORY, Place
from yatagan.stores.interface import Facts, Kind, Readable, Store, same_time
from yatagan.trees.checksum_record import step_of_record
from yatagan.trees.hashing import Content, digests
from yatagan.trees.kept import KeptFile, find_kept
from yatagan.trees.scan import Tree, scan

#: Hears of every file that was hashed.
Hashed = Callable[[Content], None]


class Left(StrEnum):
    """Why an entry that is not as on record is left as it is."""

    NEWER = "changed since"
    OLDER = "an earlier time than on record"
    NO_TIME = "its time is not on record"
    OTHER_KIND = "something else has its name"
    UNREADABLE = "cannot be read"


@dataclass(slots=True)
class Losses:
    """What was found of a tree here, by paths below its root.

    `lost`: what is to be brought back, with the facts of what is there now; None where nothing is. `damaged` are those
    of them that are there. `left`: what is not as on record and stays. `right`: files that are as on record.
    `unproven`: what is missing and has no digest on record, so that no copy of it can be known.
    """

    lost: dict[bytes, Facts | None] = field(default_factory=dict)
    left: dict[bytes, Left] = field(default_factory=dict)
    right: int = 0
    unproven: list[bytes] = field(default_factory=list)

    @property
    def damaged(self) -> list[bytes]:
        """The files that are there with other contents."""
        return [path for path, facts in self.lost.items() if facts is not None]


async def find_losses(store: Readable, tree: Tree, history: TreeHistory, hashed: Hashed) -> Losses:
    """Compare a tree with what is on record of it; every file is read. Raises StoreError."""
    found = Losses()
    step_ns = step_of_record(history.entries, tree, store.traits.time_step_ns)
    there = [path for path in files_of(history) if (facts := tree.entries.get(path)) and facts.kind is Kind.FILE]
    made = await digests(store, tree, there, ALGORITHM, hashed)
    for path in files_of(history):
        facts = tree.entries.get(path)
        if facts is None:
            _missing(found, tree, path)
        elif facts.kind is not Kind.FILE:
            found.left[path] = Left.OTHER_KIND
        elif made[path].digest == history.digest(path):
            found.right += 1
        elif made[path].fault not in (None, Fault.DISK):  # what a bad disk does not give back is damaged
            found.left[path] = Left.UNREADABLE
        elif (why := _why_left(facts, history, path, step_ns)) is not None:
            found.left[path] = why
        else:
            found.lost[path] = facts
    for path, expected in others_of(history).items():
        facts = tree.entries.get(path)
        if facts is None:
            _missing(found, tree, path)
        elif facts.kind is not expected.facts.kind or tree.targets.get(path) != expected.target:
            found.left[path] = Left.OTHER_KIND
    known = set(files_of(history))
    found.unproven = sorted(
        path
        for path, expected in history.entries.items()
        if expected.facts.kind is Kind.FILE and path not in known and path not in tree.entries
    )
    return found


def _missing(found: Losses, tree: Tree, path: bytes) -> None:
    """Something is missing: lost, unless what is no directory has the name of one above it."""
    above = posixpath.dirname(path)
    while above and above not in tree.entries:
        above = posixpath.dirname(above)
    facts = tree.entries.get(above)
    if path and facts is not None and facts.kind is not Kind.DIRECTORY:
        found.left[path] = Left.OTHER_KIND
    else:
        found.lost[path] = None


def _why_left(facts: Facts, history: TreeHistory, path: bytes, step_ns: int) -> Left | None:
    """Why a file with other contents is somebody's work; None where it is damage."""
    expected = history.entries.get(path)
    if expected is None:
        return Left.NO_TIME
    recorded = expected.facts.mtime_ns
    if same_time(facts.mtime_ns, recorded, step_ns):
        return None
    return Left.NEWER if facts.mtime_ns > recorded else Left.OLDER


@dataclass(frozen=True, slots=True)
class Copy:
    """Where a copy of the tree, or of some of it, is: its root. `kept`: these are files that were replaced."""

    place: Place
    kept: bool = False


@dataclass(frozen=True, slots=True)
class Offer:
    """An earlier version of a lost file, and where it is."""

    copy: Copy
    version: Version


@dataclass(slots=True)
class FoundCopies:
    """From where lost entries can come back.

    `sources`: of each copy, what to take from it. `bad`: files of copies that are nothing that is on record, with their
    copy. `offers`: earlier versions of files whose recorded one was not found.
    """

    sources: dict[Copy, set[bytes]] = field(default_factory=dict)
    bad: list[tuple[Copy, bytes]] = field(default_factory=list)
    offers: dict[bytes, Offer] = field(default_factory=dict)

    def still(self, lost: Iterable[bytes]) -> list[bytes]:
        """What of the lost entries has no source yet."""
        taken = set().union(*self.sources.values())
        return [path for path in lost if path not in taken]

    def take(self, copy: Copy, paths: Iterable[bytes]) -> None:
        """Take these from a copy."""
        self.sources.setdefault(copy, set()).update(paths)


async def look_into_copies(
    store: Store,
    seen: Readable,
    root: bytes,
    wanted: Sequence[bytes],
    history: TreeHistory,
    found: FoundCopies,
    *,
    only_kept: bool,
) -> None:
    """Look for lost entries in a tree on another store, and among what is kept of it there. Raises StoreError.

    `seen`: the store with its stored bundles as directories. `only_kept`: the tree is the one that was lost. A copy
    that is damaged is named, and the next one taken.
    """
    node = store.name
    tree = await scan(seen, root) if not only_kept else Tree(root)
    if tree.entries:
        copy = Copy(Place(node, root))
        await _look_into(seen, tree, copy, {path: path for path in found.still(wanted)}, history, found)
    files = [path for path in found.still(wanted) if path in history.versions]
    if not files:
        return
    kept: dict[bytes, list[tuple[bytes, KeptFile]]] = {}
    names = set(files)
    async for each in find_kept(store, root):
        path = each.original[len(root) :].lstrip(b"/")
        if path in names and each.facts.kind is Kind.FILE:
            above = posixpath.join(each.top, KEPT_DIRECTORY, each.batch.encode("utf-8", "surrogateescape"))
            kept.setdefault(posixpath.join(above, root[len(each.top) :].lstrip(b"/")), []).append((path, each))
    for top, those in sorted(kept.items(), key=lambda item: max(each.replaced_ns for _, each in item[1]), reverse=True):
        tree = Tree(top)
        tree.entries.update({path: each.facts for path, each in those})
        copy = Copy(Place(node, top), kept=True)
        left = set(found.still(wanted))
        await _look_into(store, tree, copy, {p: p for p, _ in those if p in left}, history, found)


async def _look_into(
    store: Readable,
    tree: Tree,
    copy: Copy,
    wanted: Mapping[bytes, bytes],
    history: TreeHistory,
    found: FoundCopies,
) -> None:
    """Take what one copy has of the wanted entries."""
    files, others = [], set[bytes]()
    for path in wanted:
        facts = tree.entries.get(path)
        if facts is None:
            continue
        expected = history.entries.get(path)
        if path in history.versions:
            files += [path] if facts.kind is Kind.FILE else []
        elif expected is not None and facts.kind is expected.facts.kind and tree.targets.get(path) == expected.target:
            others.add(path)
    made = await digests(store, tree, files, ALGORITHM, lambda content: None)
    good = set[bytes]()
    for path in files:
        digest = made[path].digest
        version = next((each for each in history.versions[path] if each.digest == digest), None)
        if digest and digest == history.digest(path):
            good.add(path)
        elif version is None:
            found.bad.append((copy, path))
        elif path not in found.offers or _is_newer(version, found.offers[path].version):
            found.offers[path] = Offer(copy, version)
    if good or others:
        found.take(copy, good | others)


def _is_newer(one: Version, other: Version) -> bool:
    return one.record.recorded_at > other.record.recorded_at
