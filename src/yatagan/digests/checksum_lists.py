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
