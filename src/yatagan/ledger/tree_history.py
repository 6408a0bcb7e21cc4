"""What the ledger says of a tree: what was last put on record of each entry, and where copies of it are.

A record of a stage speaks of trees: each source and where it arrived are the two ends of one. The records of a tree,
taken together, say what it held when it was last carried: what a record says was gone by then, earlier ones no longer
claim. A digest belongs to the facts of the same record: where a
later one has other facts and no digest, the earlier digest says nothing any more.
"""

from __future__ import annotations

import posixpath
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import NamedTuple

from yatagan.digests.any_lists import own_list
from yatagan.errors import BadList
from yatagan.ledger.ledger import Ledger
from yatagan.ledger.records import DIGEST, Record, RecordedPlace, RecordKind
from yatagan.places import holds, name_from
from yatagan.stores.interface import Kind
from yatagan.trees.checksum_record import Expected, read_facts, read_gone

#: Kinds of records that say what is in a tree.
_CARRYING = (RecordKind.STAGED, RecordKind.RESTORED)


class End(NamedTuple):
    """One end of a tree: a machine ("" for the one that wrote the record), and the absolute path of its root."""

    place: RecordedPlace
    record: Record


@dataclass(frozen=True, slots=True)
class Version:
    """What a file was at some time: its digest, and its facts where they are on record."""

    digest: str
    expected: Expected | None
    record: Record


@dataclass(frozen=True, slots=True)
class CarriedTree:
    """A tree that a record speaks of: the name it has in the record's lists, where it came from, where it went."""

    record: Record
    name: bytes
    origin: RecordedPlace
    target: RecordedPlace

    @property
    def ends(self) -> tuple[RecordedPlace, RecordedPlace]:
        """Both ends."""
        return self.origin, self.target


@dataclass(slots=True)
class TreeHistory:
    """What is on record of one tree; paths are relative to its root.

    `versions`: of each file, the newest first. `entries`: the newest facts of everything. `copies`: where it was at
    some time, the newest first. `gone`: what was no longer there when it was last carried.
    """

    versions: dict[bytes, list[Version]] = field(default_factory=dict)
    entries: dict[bytes, Expected] = field(default_factory=dict)
    copies: list[End] = field(default_factory=list)
    newest: Record | None = None
    gone: set[bytes] = field(default_factory=set)
    #: The newest record that has files of it.
    filled: Record | None = None

    def digest(self, path: bytes) -> str:
        """The newest digest of a file; "" where it is not known."""
        found = self.versions.get(path)
        if not found:
            return ""
        expected = self.entries.get(path)
        old = found[0].expected
        changed = expected is not None and old is not None and _moved(expected, old)
        return "" if changed else found[0].digest

    def chosen(self, chooses: Callable[[bytes], bool]) -> TreeHistory:
        """The same of some of its paths."""
        return TreeHistory(
            {path: each for path, each in self.versions.items() if chooses(path)},
            {path: each for path, each in self.entries.items() if chooses(path)},
            self.copies,
            self.newest,
            {path for path in self.gone if chooses(path)},
            self.filled,
        )

    @property
    def is_emptied(self) -> bool:
        """Whether everything that was ever on record was gone when it was last carried."""
        files = any(each.facts.kind is not Kind.DIRECTORY for each in self.entries.values())
        return bool(self.gone) and not files and not any(self.versions.values())


def _moved(one: Expected, other: Expected) -> bool:
    """Whether two facts are not those of the same state of a file."""
    return (one.facts.kind, one.facts.size, one.facts.mtime_ns) != (
        other.facts.kind,
        other.facts.size,
        other.facts.mtime_ns,
    )


def trees_of(record: Record) -> Iterator[CarriedTree]:
    """The trees that a record speaks of; none where it is of another kind, or another program wrote nonsense."""
    if record.kind not in _CARRYING:
        return
    try:
        target, origins = record.target, record.origins
        names = [name_from(each) for each in record.fields.get("arrived_as", [])]
    except (KeyError, ValueError, TypeError, AttributeError):
        return
    if target is None:
        return
    for origin, name in zip(origins, names or [posixpath.basename(each.path) for each in origins], strict=False):
        yield CarriedTree(record, name, origin, RecordedPlace(target.node, posixpath.join(target.path, name)))


def records_of_project(ledger: Ledger, project: str) -> dict[str, list[Record]]:
    """The records about datasets of a project, by the dataset, the newest first, of all writers."""
    found: dict[str, list[Record]] = {}
    for record in ledger.records():
        dataset = record.fields.get("dataset")
        if isinstance(dataset, str) and record.fields.get("project") == project:
            found.setdefault(dataset, []).append(record)
    return found


def history_of(ledger: Ledger, records: Iterable[Record]) -> TreeHistory:
    """What records about one dataset, the newest first, say of it."""
    return _gather(ledger, ((tree, b"") for record in records for tree in trees_of(record)))


def history_of_dataset(ledger: Ledger, project: str, dataset: str) -> TreeHistory:
    """What is on record of a dataset of a project."""
    return history_of(ledger, records_of_project(ledger, project).get(dataset, []))


def history_of_place(ledger: Ledger, host: str, path: bytes, batch: str = "") -> TreeHistory:
    """What is on record of a file or a directory of the machine `host`, or of what is above it.

    With `batch` only its records say what should be there; but all say where copies are.
    """

    def about() -> Iterator[tuple[CarriedTree, bytes]]:
        for record in ledger.records():
            if record.who.rpartition("@")[2] != host:
                continue
            for tree in trees_of(record):
                root = next((end.path for end in tree.ends if not end.node and holds(end.path, path)), None)
                if root is not None:
                    yield tree, path[len(root) :].lstrip(b"/")

    return _gather(ledger, about(), batch)


def _gather(ledger: Ledger, trees: Iterable[tuple[CarriedTree, bytes]], batch: str = "") -> TreeHistory:
    """Put together what records say, the newest first; of each tree the part below a path."""
    found = TreeHistory()
    for tree, below in trees:
        for end in tree.ends:
            found.copies.append(End(RecordedPlace(end.node, posixpath.join(end.path, below).rstrip(b"/")), tree.record))
        if batch and tree.record.fields.get("batch") != batch:
            continue
        found.newest = found.newest or tree.record
        _add(found, ledger, tree, posixpath.join(tree.name, below) if below else tree.name)
    return found


def _add(found: TreeHistory, ledger: Ledger, tree: CarriedTree, top: bytes) -> None:
    record = tree.record
    recorded, gone = recorded_facts(ledger, record)
    expected = {inside(path, top): facts for path, facts in recorded.items() if holds(top, path)}
    for path, facts in expected.items():
        if path not in found.gone:
            found.entries.setdefault(path, facts)
    for path, digest in recorded_digests(ledger, record).items():
        if not holds(top, path):
            continue  # a bundle that stands beside its directory
        below = inside(path, top)
        version = Version(digest, expected.get(below), record)
        versions = found.versions.setdefault(below, []) if below not in found.gone else []
        if digest not in (each.digest for each in versions):
            versions.append(version)
    found.gone |= {inside(path, top) for path in gone if holds(top, path)}
    if any(facts.facts.kind is not Kind.DIRECTORY for facts in expected.values()):
        found.filled = found.filled or record


def inside(path: bytes, top: bytes) -> bytes:
    """The path below a tree of what is on a record's list."""
    return path[len(top) :].lstrip(b"/")


def recorded_facts(ledger: Ledger, record: Record) -> tuple[Mapping[bytes, Expected], set[bytes]]:
    """The facts that a record has, by the paths of its lists, and what it says was gone."""
    data = _read(ledger, str(record.fields.get("facts", "")))
    try:
        return (read_facts(data, None, record.id), read_gone(data)) if data else ({}, set())
    except BadList:
        return {}, set()


def recorded_digests(ledger: Ledger, record: Record) -> Mapping[bytes, str]:
    """The digests that a record has, by the paths of its list."""
    data = _read(ledger, record.list_digest)
    try:
        return {line.path: line.digest for line in own_list(data, record.id)} if data else {}
    except BadList:
        return {}


def _read(ledger: Ledger, name: str) -> bytes:
    """A list of the ledger, if it is what the record says; b"" otherwise."""
    if not name:
        return b""
    if DIGEST.fullmatch(name) and ledger.directory.list_digest(name) == name:
        return b"".join(ledger.directory.list_blocks(name))
    ledger.unread(f"lists/{name}", "it is missing, or not what it was")
    return b""


def files_of(history: TreeHistory) -> list[bytes]:
    """The files whose digest is on record, sorted."""
    return sorted(path for path in history.versions if history.digest(path))


def others_of(history: TreeHistory) -> dict[bytes, Expected]:
    """Links and directories that are on record."""
    return {path: each for path, each in history.entries.items() if each.facts.kind is not Kind.FILE}
