r"""Checksum lists: `HEX  PATH` lines that the standard checksum commands read.

A line whose path holds a backslash, a newline or a carriage return starts with a backslash, and
those bytes are written `\\`, `\n` and `\r`. A file named `-` is written `./-`, because the
commands read standard input under that name. Paths are relative to the list's own directory.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from yatagan.errors import BadList

#: The algorithm of our own lists, and the name such a list goes by.
ALGORITHM = "sha256"
LIST_NAME = b"SHA256SUMS"

#: Digest length in hex digits -> algorithm, for lists whose name does not say.
_BY_LENGTH = {32: "md5", 40: "sha1", 64: "sha256", 128: "sha512"}
_LINE = re.compile(rb"(\\?)([0-9a-fA-F]{32,128}) ([ *])(.+)", re.DOTALL)
#: Bytes of the longest line that is read: a path of the longest kind, every byte escaped, and its digest.
LONGEST_LINE = 1 << 14
_ESCAPES = {b"\\": b"\\\\", b"\n": b"\\n", b"\r": b"\\r"}
_ESCAPED = re.compile(rb"[\\\n\r]")
_UNESCAPES = {b"\\\\": b"\\", b"\\n": b"\n", b"\\r": b"\r"}
_ESCAPE = re.compile(rb"\\(?:\\|n|r)|\\")


@dataclass(frozen=True, slots=True)
class Listed:
    """One line of a list: a path relative to the list, its digest in lower-case hex, the algorithm."""

    path: bytes
    digest: str
    algorithm: str = ALGORITHM


def format_line(path: bytes, digest: str) -> bytes:
    """One line, newline included."""
    if path == b"-":
        path = b"./-"
    if _ESCAPED.search(path) is not None:
        escaped = _ESCAPED.sub(lambda found: _ESCAPES[found[0]], path)
        return b"\\%s  %s\n" % (digest.encode(), escaped)
    return b"%s  %s\n" % (digest.encode(), path)


def format_list(lines: Iterable[tuple[bytes, str]]) -> Iterator[bytes]:
    """Lines of a list from (path, digest), in the order given."""
    for path, digest in lines:
        yield format_line(path, digest)


def parse_list(data: bytes, name: str = "") -> list[Listed]:
    """Read a list. Raises BadList at the first line that is none, and for a list that names no file."""
    listed = []
    for number, line in enumerate(data.split(b"\n"), start=1):
        if len(line) > LONGEST_LINE:
            raise BadList(name, number, "longer than any line of a checksum list")
        text = line[:-1] if line.endswith(b"\r") and not line.startswith(b"\\") else line
        if not text or text.startswith(b"#"):
            continue
        listed.append(_parse_line(text, name, number))
    if not listed:
        raise BadList(name, 0, "it names no file, so there is nothing to check")
    return listed


def contradictions(listed: Iterable[Listed]) -> set[bytes]:
    """Paths for which a list has two different digests of one algorithm."""
    seen: dict[tuple[bytes, str], str] = {}
    return {line.path for line in listed if seen.setdefault((line.path, line.algorithm), line.digest) != line.digest}


def _parse_line(line: bytes, name: str, number: int) -> Listed:
    match = _LINE.fullmatch(line)
    if not match:
        raise BadList(name, number, "not a line of the form HEX  PATH")
    escaped, digest, _, path = match.groups()
    algorithm = _BY_LENGTH.get(len(digest))
    if algorithm is None:
        raise BadList(name, number, f"a digest of {len(digest)} hex digits belongs to no algorithm we know")
    if escaped:
        try:
            path = unescaped(path)
        except KeyError:
            raise BadList(name, number, "a backslash that escapes nothing") from None
    path = inside(path, name, number)
    return Listed(path, digest.decode().lower(), algorithm)


def unescaped(path: bytes) -> bytes:
    """A path of a line that begins with a backslash. Raises KeyError for an escape that there is not."""
    return _ESCAPE.sub(lambda found: _UNESCAPES[found[0]], path)


def inside(path: bytes, name: str, number: int) -> bytes:
    """The path without `.` and doubled slashes. Raises BadList if it leads out of the list's directory."""
    parts = path.split(b"/")
    sound = not path.startswith(b"/") and b".." not in parts and b"\0" not in path
    path = b"/".join(part for part in parts if part not in (b"", b"."))
    if not sound or not path:
        raise BadList(name, number, "the path leads out of the list's own directory")
    return path
