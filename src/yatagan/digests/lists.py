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
_ESCAPES = {ord("\\"): b"\\\\", ord("\n"): b"\\n", ord("\r"): b"\\r"}
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
    if any(byte in path for byte in _ESCAPES):
        escaped = b"".join(_ESCAPES.get(byte, bytes((byte,))) for byte in path)
        return b"\\%s  %s\n" % (digest.encode(), escaped)
    return b"%s  %s\n" % (digest.encode(), path)


def format_list(lines: Iterable[tuple[bytes, str]]) -> Iterator[bytes]:
    """Lines of a list from (path, digest), in the order given."""
    for path, digest in lines:
        yield format_line(path, digest)


def parse_list(data: bytes, name: str = "") -> list[Listed]:
    """Read a list. Raises BadList at the first line that is none."""
    listed = []
    for number, line in enumerate(data.split(b"\n"), start=1):
        text = line[:-1] if line.endswith(b"\r") and not line.startswith(b"\\") else line
        if not text or text.startswith(b"#"):
            continue
        listed.append(_parse_line(text, name, number))
    return listed


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
            path = _ESCAPE.sub(lambda found: _UNESCAPES[found[0]], path)
        except KeyError:
            raise BadList(name, number, "a backslash that escapes nothing") from None
    path = _normal(path, name, number)
    return Listed(path, digest.decode().lower(), algorithm)


def _normal(path: bytes, name: str, number: int) -> bytes:
    """The path without `./`; refused when it leads out of the list's directory."""
    while path.startswith(b"./"):
        path = path[2:].lstrip(b"/")
    if path.startswith(b"/") or b".." in path.split(b"/") or b"\0" in path or not path:
        raise BadList(name, number, "the path leads out of the list's own directory")
    return path
