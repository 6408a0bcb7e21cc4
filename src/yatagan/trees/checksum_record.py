"""The record of a tree: a checksum list and, beside it, a facts file; and verifying a tree against them.

`SHA256SUMS` is for everybody: the standard checksum commands read it. `SHA256SUMS.facts.jsonl` holds what it has no
place for: kinds, sizes, times, modes, link targets, directories. Its first line names the list and the list's own
digest, so that the two cannot be mixed up.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, replace
from enum import StrEnum

from yatagan.digests.checksum_lists import ALGORITHM, LIST_NAME, Listed, contradictions, format_list
from yatagan.errors import BadList, StoreError
from yatagan.faults import Fault
from yatagan.places import name_fields, name_from
from yatagan.stores.interface import Facts, Kind, Readable, same_time
from yatagan.trees.hashing import Content, DigestOrigin, digests, origin_of
from yatagan.trees.scan import Tree

FACTS_SUFFIX = b".facts.jsonl"
_FORMAT = "yatagan-facts-1"


class Finding(StrEnum):
    """The verdict on one entry."""

    SAME = "same"
    DIFFERENT = "different"
    MISSING = "missing"
    NOT_LISTED = "not listed"
    UNREADABLE = "unreadable"
    #: Contents agree, but mode or time do not.
    FACTS_DIFFER = "facts differ"


@dataclass(frozen=True, slots=True)
class Found:
    """One entry's verdict; `detail` says what differs, or why it cannot be read. `kind`: what it is, or was."""

    path: bytes
    finding: Finding
    detail: str = ""
    kind: Kind = Kind.FILE


@dataclass(frozen=True, slots=True)
class Expected:
    """What the facts file says of one entry."""

    facts: Facts
    target: bytes | None


@dataclass(frozen=True, slots=True)
class Verdicts:
    """The result of verifying a tree against a record.

    `files` and `size`: what was read and hashed. `with_facts`: whether the record has facts, too.
    """

    found: list[Found]
    origin: DigestOrigin
    files: int
    size: int
    with_facts: bool

    def count(self, finding: Finding, kind: Kind | None = None) -> int:
        """How many entries, or those of one kind, have a verdict."""
        return sum(1 for found in self.found if found.finding is finding and kind in (None, found.kind))

    @property
    def good(self) -> bool:
        """Whether everything on record is there and the same. What is not listed does not count."""
        return self.contents_good and not self.count(Finding.FACTS_DIFFER)

    @property
    def contents_good(self) -> bool:
        """Whether everything on record is there with the same contents, whatever its mode and time."""
        return not any(self.count(finding) for finding in (Finding.DIFFERENT, Finding.MISSING, Finding.UNREADABLE))


def is_record(path: bytes) -> bool:
    """Whether a path of a tree is the tree's own record, which cannot list itself."""
    return path in (LIST_NAME, LIST_NAME + FACTS_SUFFIX)


def write_list(contents: Mapping[bytes, Content]) -> bytes:
    """The checksum list, sorted by path. Files without a digest are left out; the caller reports them."""
    lines = ((path, contents[path].digest) for path in sorted(contents) if contents[path].digest)
    return b"".join(format_list(lines))


def write_facts(tree: Tree, list_name: bytes, list_data: bytes) -> bytes:
    """The facts file that goes with a list."""
    head = {
        "format": _FORMAT,
        **name_fields(list_name, "list"),
        "digest": hashlib.sha256(list_data).hexdigest(),
        "algorithm": ALGORITHM,
    }
    lines = [head, *(_facts_line(tree, path) for path in sorted(tree.entries) if not is_record(path))]
    return b"".join(json.dumps(line, ensure_ascii=False, separators=(",", ":")).encode() + b"\n" for line in lines)


def _facts_line(tree: Tree, path: bytes) -> dict[str, object]:
    facts = tree.entries[path]
    line: dict[str, object] = {**name_fields(path or b"."), "kind": facts.kind.value}
    if facts.kind is Kind.FILE:
        line["size"] = facts.size
    if facts.kind is not Kind.LINK:
        line["mode"] = f"{facts.mode:04o}"
        line["mtime_ns"] = facts.mtime_ns
    if path in tree.targets:
        line.update(name_fields(tree.targets[path], "target"))
    return line


def read_facts(data: bytes, list_data: bytes, name: str) -> dict[bytes, Expected]:
    """Read a facts file. Raises BadList when it is damaged or belongs to another list."""
    lines = data.split(b"\n")
    try:
        head = json.loads(lines[0])
        if head["format"] != _FORMAT:
            raise BadList(name, 1, f"a format that we do not know: {head['format']!r}")
        if head["digest"] != hashlib.sha256(list_data).hexdigest():
            raise BadList(name, 1, "it belongs to another list, or the list was changed")
        return dict(_expected(json.loads(line)) for line in lines[1:] if line)
    except (ValueError, KeyError, TypeError) as error:
        raise BadList(name, 0, "it is damaged") from error


def _expected(line: dict[str, object]) -> tuple[bytes, Expected]:
    path = name_from(line)
    kind = Kind(str(line["kind"]))
    facts = Facts(
        kind, int(str(line.get("size", 0))), int(str(line.get("mtime_ns", 0))), int(str(line.get("mode", "0")), 8)
    )
    target = name_from(line, "target") if kind is Kind.LINK else None
    return b"" if path == b"." else path, Expected(facts, target)


#: What is said of a file for which the list has two digests.
CONTRADICTS = "the list has two digests for it"
#: Bytes of the largest list that is read: some three million lines.
_LARGEST_LIST = 512 << 20


async def verify(
    store: Readable,
    tree: Tree,
    listed: list[Listed],
    expected: Mapping[bytes, Expected] | None,
    done: Callable[[Content], None] = lambda content: None,
) -> Verdicts:
    """Verify a tree against a list, and its facts if there are any.

    A verdict that is not good is checked a second time. Raises StoreError when the connection is lost.
    """
    wanted = {line.path: line for line in listed}
    twice = contradictions(listed)
    contents = await _digests(store, tree, wanted, done)
    again = {path: wanted[path] for path in wanted if _finding(tree, wanted[path], contents) is not Finding.SAME}
    if again:
        contents.update(await _digests(store, tree, again, lambda content: None))
    found = [
        Found(path, Finding.DIFFERENT, CONTRADICTS) if path in twice else _found(tree, wanted[path], contents)
        for path in sorted(wanted)
    ]
    if expected is not None:
        found = list(_with_facts(store, tree, found, expected))
    listed_too = set(wanted) | set(expected or ())
    found += [
        Found(path, Finding.NOT_LISTED, kind=tree.entries[path].kind)
        for path in sorted(tree.entries)
        if path not in listed_too and not is_record(path) and tree.entries[path].kind is not Kind.DIRECTORY
    ]
    size = sum(tree.entries[path].size for path in contents if path in tree.entries)
    origin = origin_of(store)
    if any(content.origin is DigestOrigin.READ_BACK for content in contents.values()):
        origin = DigestOrigin.READ_BACK
    return Verdicts(found, origin, len(contents), size, expected is not None)


async def _digests(
    store: Readable, tree: Tree, wanted: Mapping[bytes, Listed], done: Callable[[Content], None]
) -> dict[bytes, Content]:
    found: dict[bytes, Content] = {}
    for algorithm in sorted({line.algorithm for line in wanted.values()}):
        paths = [
            path
            for path, line in wanted.items()
            if line.algorithm == algorithm and (facts := tree.entries.get(path)) and facts.kind is Kind.FILE
        ]
        found.update(await digests(store, tree, paths, algorithm, done))
    return found


def _finding(tree: Tree, line: Listed, contents: Mapping[bytes, Content]) -> Finding:
    return _found(tree, line, contents).finding


def _found(tree: Tree, line: Listed, contents: Mapping[bytes, Content]) -> Found:
    facts = tree.entries.get(line.path)
    content = contents.get(line.path)
    if facts is None or (content is not None and content.fault is Fault.MISSING):
        return Found(line.path, Finding.MISSING)
    if facts.kind is not Kind.FILE:
        return Found(line.path, Finding.DIFFERENT, f"a {facts.kind.value}, not a file", facts.kind)
    if content is None or content.fault is not None:
        return Found(line.path, Finding.UNREADABLE, content.fault.value if content and content.fault else "")
    if content.digest == line.digest:
        return Found(line.path, Finding.SAME)
    return Found(line.path, Finding.DIFFERENT, "other contents")


def _with_facts(store: Readable, tree: Tree, found: list[Found], expected: Mapping[bytes, Expected]) -> Iterator[Found]:
    by_path = {entry.path: entry for entry in found}
    for path in sorted(set(expected) | set(by_path)):
        entry, wanted, facts = by_path.get(path), expected.get(path), tree.entries.get(path)
        if wanted is None or (entry is not None and entry.finding is not Finding.SAME):
            if entry is not None:
                yield _with_sizes(entry, facts, wanted)
        elif facts is None:
            yield Found(path, Finding.MISSING, kind=wanted.facts.kind)
        elif other := _other_thing(tree, path, facts, wanted):
            yield Found(path, Finding.DIFFERENT, other, facts.kind)
        elif detail := _facts_detail(store, facts, wanted):
            yield Found(path, Finding.FACTS_DIFFER, detail, facts.kind)
        else:
            yield entry or Found(path, Finding.SAME, kind=facts.kind)


def _with_sizes(entry: Found, facts: Facts | None, wanted: Expected | None) -> Found:
    """A verdict on contents with what the facts file knows of the size."""
    if entry.detail != "other contents" or facts is None or wanted is None:
        return entry
    if facts.size == wanted.facts.size:
        return replace(entry, detail="other contents of the same size")
    return replace(entry, detail=f"{facts.size} bytes, not {wanted.facts.size}")


def _other_thing(tree: Tree, path: bytes, facts: Facts, wanted: Expected) -> str:
    """How an entry without contents of its own differs in what it is; "" when it does not."""
    if facts.kind is not wanted.facts.kind:
        return f"a {facts.kind.value}, not a {wanted.facts.kind.value}"
    if facts.kind is Kind.LINK and tree.targets.get(path) != wanted.target:
        return "it points elsewhere"
    return ""


_SET_GROUP = 0o2000


def _facts_detail(store: Readable, facts: Facts, wanted: Expected) -> str:
    """Which fact differs; "" when none does. A directory's time moves when the record itself is written."""
    if facts.kind not in (Kind.FILE, Kind.DIRECTORY):
        return ""
    differing = []
    # A directory may have been given the bit that hands down its group by the one above it.
    given = _SET_GROUP if facts.kind is Kind.DIRECTORY and not wanted.facts.mode & _SET_GROUP else 0
    if facts.mode & ~given != wanted.facts.mode:
        differing.append(f"mode {facts.mode:04o}, not {wanted.facts.mode:04o}")
    step = max(store.traits.time_step_ns, 1_000_000_000)
    if facts.kind is Kind.FILE and not same_time(facts.mtime_ns, wanted.facts.mtime_ns, step):
        differing.append("another modification time")
    return ", ".join(differing)


async def fetch(store: Readable, path: bytes) -> bytes:
    """Read a list or a facts file whole. Raises StoreError, and BadList for one that is too large."""
    reader = await store.open(path)
    try:
        size = (await reader.facts()).size
        if size > _LARGEST_LIST:
            raise BadList(path.decode("utf-8", "backslashreplace"), 0, "it is too large for a checksum list")
        pieces, offset = [], 0
        while offset < size:
            piece = await reader.read(offset, min(store.traits.read_size, size - offset))
            if not piece:
                raise StoreError(Fault.SOURCE_CHANGED, path, store=store.name)
            pieces.append(piece)
            offset += len(piece)
        return b"".join(pieces)
    finally:
        await reader.close()
