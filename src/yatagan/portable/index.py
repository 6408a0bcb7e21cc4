"""The index of a bundle: JSON Lines, one for each member, kept beside it as `NAME.members.jsonl`.

The first line names the format and the bundle; the last one holds the totals, so that an index that was cut off is
known for one. In between come the members in the bundle's order: name, kind, size, mode, time, for files where their
contents begin in the tar stream and their SHA-256. The first line of a bundle that is the stored form of a directory
names that directory too.
"""

import json
from base64 import b64decode, b64encode
from json.encoder import encode_basestring
from typing import Any, Dict, Iterable, Iterator, List, NamedTuple, Optional, Tuple

from yatagan.portable.tar import FILE, Member

SUFFIX = b".members.jsonl"
#: What it was called at first; still read.
OLD_SUFFIX = b".index.jsonl"
SUFFIXES = SUFFIX, OLD_SUFFIX
FORMAT = "yatagan-index-1"


class BadIndex(Exception):
    """An index cannot be understood; `line` counts from 1."""

    def __init__(self, line: int, why: str) -> None:
        super().__init__("line %d: %s" % (line, why))
        self.line = line
        self.why = why


class Totals(NamedTuple):
    """The totals of a bundle: `size` of its files, `stored` of the bundle itself, in bytes.

    `digest`: the SHA-256 of the bundle.
    """

    members: int
    files: int
    size: int
    stored: int
    digest: str


def first_line(bundle: bytes, stands_for: bytes = b"") -> bytes:
    """The line that an index begins with; `stands_for` names the directory in whose place the bundle is stored."""
    line = {"format": FORMAT, **_named("bundle", bundle)}
    if stands_for:
        line.update(_named("stands_for", stands_for))
    return _line(line)


def read_first_line(line: bytes) -> bytes:
    """The directory that a bundle stands for, from the first line of its index; b"" for none. Raises BadIndex."""
    fields = _fields(line, 1)
    if fields.get("format") != FORMAT:
        raise BadIndex(1, "it is not an index of ours")
    try:
        return _name(fields, "stands_for") if "stands_for" in fields or "stands_for_b64" in fields else b""
    except (ValueError, TypeError):
        raise BadIndex(1, "it cannot be understood") from None


_MARK = -(1 << 62)
_BEFORE = b'{"path": %b, "kind": "file", "size": %d, "mode": "%04o", "mtime_ns": %d, "offset": '
_AFTER = b', "sha256": "%b"}\n'


def before_offset(name: bytes, size: int, mode: int, mtime_ns: int) -> bytes:
    """A common file's index line up to its offset; b"" for an unusual name."""
    try:
        spelled = encode_basestring(name.decode("utf-8")).encode("utf-8")
    except UnicodeError:
        return b""
    return _BEFORE % (spelled, size, mode, mtime_ns)


def after_offset(digest: str) -> bytes:
    """A common file's index line after its offset."""
    return _AFTER % digest.encode("ascii")


def around_offset(member: Member, digest: str) -> Tuple[bytes, bytes]:
    """A member's index line before and after its offset; the whole and b"" if it has none."""
    if digest and member.kind == FILE and member.regions is None:
        before = before_offset(member.name, member.size, member.mode, member.mtime_ns)
        if before:
            return before, after_offset(digest)
    line = {**_named("path", member.name), "kind": member.kind, "size": member.size}  # type: Dict[str, Any]
    if member.target:
        line.update(_named("target", member.target))
    line["mode"] = "%04o" % member.mode
    line["mtime_ns"] = member.mtime_ns
    if member.regions is not None:
        line["regions"] = member.regions
    if not digest:
        return _line(line), b""
    line["offset"] = _MARK
    line["sha256"] = digest
    before, _, after = _line(line).partition(b"%d" % _MARK)
    return before, after


def last_line(totals: Totals) -> bytes:
    """The line that an index ends with."""
    return _line(
        {
            "members": totals.members,
            "files": totals.files,
            "bytes": totals.size,
            "bundle_bytes": totals.stored,
            "bundle_sha256": totals.digest,
        }
    )


def _line(value: Dict[str, Any]) -> bytes:
    return json.dumps(value, ensure_ascii=False, separators=(", ", ": ")).encode("utf-8") + b"\n"


def _named(key: str, name: bytes) -> Dict[str, str]:
    try:
        return {key: name.decode("utf-8")}
    except UnicodeDecodeError:
        return {key + "_b64": b64encode(name).decode("ascii")}


def _name(fields: Dict[str, Any], key: str) -> bytes:
    if key in fields:
        return str(fields[key]).encode("utf-8")
    return b64decode(str(fields[key + "_b64"]), validate=True)


class IndexEntry(NamedTuple):
    """A member by the index; `digest` is "" where it has none."""

    member: Member
    digest: str


def read_lines(lines: Iterable[bytes]) -> Iterator[IndexEntry]:
    """The entries of an index. Raises BadIndex, also for one that was cut off."""
    number, totals = 0, None  # type: int, Optional[Totals]
    for number, line in enumerate(lines, 1):
        if number == 1:
            read_first_line(line)
            continue
        fields = _fields(line, number)
        if totals is not None:
            raise BadIndex(number, "it goes on after its end")
        if "members" in fields:
            totals = _totals(fields, number)
        else:
            yield _member(fields, number)
    if totals is None:
        raise BadIndex(number, "it is cut off")


def read_totals(tail: bytes) -> Optional[Totals]:
    """The totals, from the last bytes of an index; None if it was cut off."""
    line = tail.rstrip(b"\n").rpartition(b"\n")[2]
    try:
        return _totals(_fields(line, 0), 0)
    except BadIndex:
        return None


def _fields(line: bytes, number: int) -> Dict[str, Any]:
    try:
        fields = json.loads(line.decode("utf-8"))
    except (ValueError, RecursionError):
        raise BadIndex(number, "it is no line of JSON") from None
    if not isinstance(fields, dict):
        raise BadIndex(number, "it is no object")
    return fields


def _totals(fields: Dict[str, Any], number: int) -> Totals:
    try:
        return Totals(
            int(fields["members"]),
            int(fields["files"]),
            int(fields["bytes"]),
            int(fields["bundle_bytes"]),
            str(fields["bundle_sha256"]),
        )
    except (KeyError, ValueError, TypeError):
        raise BadIndex(number, "its totals cannot be understood") from None


def _member(fields: Dict[str, Any], number: int) -> IndexEntry:
    try:
        regions = fields.get("regions")
        pairs = tuple((int(at), int(size)) for at, size in regions) if regions is not None else None
        size = int(fields["size"])
        member = Member(
            name=_name(fields, "path"),
            kind=str(fields["kind"]),
            size=size,
            mode=int(fields["mode"], 8),
            mtime_ns=int(fields["mtime_ns"]),
            target=_name(fields, "target") if "target" in fields or "target_b64" in fields else b"",
            regions=pairs,
            stored=sum(pair[1] for pair in pairs) if pairs is not None else size,
            offset=int(fields["offset"]) if "offset" in fields else None,
        )
        return IndexEntry(member, str(fields.get("sha256", "")))
    except (KeyError, ValueError, TypeError):
        raise BadIndex(number, "a member cannot be understood") from None


class InStep:
    """The entries of an index in step with an archive that is read from the front, as long as both name the same."""

    def __init__(self, entries: Optional[Iterator[IndexEntry]]) -> None:
        self._entries = entries
        #: Whether the index names other members than the archive has.
        self.strays = False

    def entry(self, member: Member) -> Optional[IndexEntry]:
        """What the index says of a member, which must be the next one; None where it says nothing."""
        if self._entries is None:
            return None
        try:
            found = next(self._entries, None)
        except BadIndex:
            found = None
        if found is None or found.member.name != member.name:
            self._entries, self.strays = None, True
            return None
        return found

    def digest(self, member: Member) -> str:
        """The digest that the index has of a member; "" when it has none."""
        found = self.entry(member)
        return found.digest if found is not None else ""

    def stop(self) -> None:
        """Stop: members were lost to damage, so the index is of no more use."""
        self._entries = None

    def rest(self) -> List[bytes]:
        """The names of members that the index has and that did not come."""
        entries, self._entries = self._entries, None
        return [entry.member.name for entry in entries] if entries is not None else []
