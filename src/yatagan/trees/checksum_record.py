"""The record of a tree: a checksum list and, beside it, a facts file.

`SHA256SUMS` is for everybody: the standard checksum commands read it. `SHA256SUMS.facts.jsonl` holds what it has no
place for: kinds, sizes, times, modes, link targets, directories. Its first line names the list and the list's own
digest, so that the two cannot be mixed up.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass

from yatagan.config.guarded_files import parse_json
from yatagan.digests.checksum_lists import ALGORITHM, LIST_NAME, format_list
from yatagan.errors import BadList, StoreError
from yatagan.faults import Fault
from yatagan.places import name_fields, name_from
from yatagan.stores.interface import Facts, Kind, Readable
from yatagan.trees.hashing import Content
from yatagan.trees.scan import Tree
from yatagan.trees.time_steps import common_step

FACTS_SUFFIX = b".facts.jsonl"
_FORMAT = "yatagan-facts-1"
#: The kind of an entry of which it is on record that it was no longer there.
_GONE = "gone"


@dataclass(frozen=True, slots=True)
class Expected:
    """What the facts file says of one entry."""

    facts: Facts
    target: bytes | None


def is_record(path: bytes) -> bool:
    """Whether a path of a tree is the tree's own record, which cannot list itself."""
    return path in (LIST_NAME, LIST_NAME + FACTS_SUFFIX)


def write_list(contents: Mapping[bytes, Content]) -> bytes:
    """The checksum list, sorted by path. Files without a digest are left out; the caller reports them."""
    lines = ((path, contents[path].digest) for path in sorted(contents) if contents[path].digest)
    return b"".join(format_list(lines))


def write_facts(tree: Tree, list_name: bytes, list_data: bytes) -> bytes:
    """The facts file that goes with a list."""
    head: dict[str, object] = {
        "format": _FORMAT,
        **name_fields(list_name, "list"),
        "digest": hashlib.sha256(list_data).hexdigest(),
        "algorithm": ALGORITHM,
    }
    paths = (path for path in sorted(tree.entries) if not is_record(path))
    lines: list[dict[str, object]] = [head]
    lines += (_facts_line(path, tree.entries[path], tree.targets.get(path)) for path in paths)
    return b"".join(map(_as_line, lines))


def format_facts(entries: Iterable[tuple[bytes, Facts | None, bytes | None]]) -> Iterator[bytes]:
    """The lines of a facts file that stands alone, of (path, facts, link target); none for no entries.

    Without facts: that it was gone.
    """
    for number, (path, facts, target) in enumerate(entries):
        if not number:
            yield _as_line({"format": _FORMAT})
        gone = {**name_fields(path or b"."), "kind": _GONE}
        yield _as_line(gone if facts is None else _facts_line(path, facts, target))


def read_gone(data: bytes) -> set[bytes]:
    """The paths that a facts file says were gone. Raises BadList when it is damaged."""
    try:
        lines = (parse_json(line) for line in data.split(b"\n")[1:] if _GONE.encode() in line)
        return {b"" if (path := name_from(line)) == b"." else path for line in lines if line["kind"] == _GONE}
    except (ValueError, KeyError, TypeError) as error:
        raise BadList("the facts", 0, "they are damaged") from error


_ENCODER = json.JSONEncoder(ensure_ascii=False, separators=(",", ":"))  # one for all: it is slow to make


def _as_line(fields: Mapping[str, object]) -> bytes:
    return _ENCODER.encode(fields).encode() + b"\n"


def _facts_line(path: bytes, facts: Facts, target: bytes | None) -> dict[str, object]:
    line: dict[str, object] = {**name_fields(path or b"."), "kind": facts.kind.value}
    if facts.kind is Kind.FILE:
        line["size"] = facts.size
    if facts.kind is not Kind.LINK:
        line["mode"] = f"{facts.mode:04o}"
        line["mtime_ns"] = facts.mtime_ns
    if target is not None:
        line.update(name_fields(target, "target"))
    return line


def read_facts(data: bytes, list_data: bytes | None, name: str) -> dict[bytes, Expected]:
    """Read a facts file; without a list, one that stands alone.

    Raises BadList when it is damaged or belongs to another list.
    """
    lines = data.split(b"\n")
    try:
        head = parse_json(lines[0])
        if head["format"] != _FORMAT:
            raise BadList(name, 1, f"a format that we do not know: {head['format']!r}")
        if list_data is not None and head["digest"] != hashlib.sha256(list_data).hexdigest():
            raise BadList(name, 1, "it belongs to another list, or the list was changed")
        entries = (parse_json(line) for line in lines[1:] if line)
        return dict(_expected(line) for line in entries if line["kind"] != _GONE)
    except (ValueError, KeyError, TypeError) as error:
        raise BadList(name, 0, "it is damaged") from error


def algorithm_of(data: bytes) -> str | None:
    """The algorithm of the list that a facts file goes with; None where it does not say."""
    try:
        return str(parse_json(data.partition(b"\n")[0])["algorithm"])
    except (ValueError, KeyError, TypeError):
        return None


def _expected(line: dict[str, object]) -> tuple[bytes, Expected]:
    path = name_from(line)
    kind = Kind(str(line["kind"]))
    facts = Facts(
        kind, int(str(line.get("size", 0))), int(str(line.get("mtime_ns", 0))), int(str(line.get("mode", "0")), 8)
    )
    target = name_from(line, "target") if kind is Kind.LINK else None
    return b"" if path == b"." else path, Expected(facts, target)


def step_of_record(recorded: Mapping[bytes, Expected], tree: Tree, nominal_ns: int) -> int:
    """At which step the times of a tree's files are compared with those on record."""
    there = ((tree.entries.get(path), each.facts) for path, each in recorded.items() if each.facts.kind is Kind.FILE)
    return common_step(((found.mtime_ns, facts.mtime_ns) for found, facts in there if found is not None), nominal_ns)


#: Bytes of the largest list that is read: some three million lines.
LARGEST_LIST = 512 << 20


async def fetch(store: Readable, path: bytes) -> bytes:
    """Read a list or a facts file whole. Raises StoreError, and BadList for one that is too large."""
    reader = await store.open(path)
    try:
        size = (await reader.facts()).size
        if size > LARGEST_LIST:
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
