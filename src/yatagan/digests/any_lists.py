"""Checksum lists of any open form, as publishers give them.

The lines are those of the GNU commands, `HEX  PATH`, or those of BSD, `SHA256 (PATH) = HEX`, mixed or not, in either
case. Digests of one length are distinguished by the tag of a line, by the list's name, or by what the user says; where
nothing does they count as SHA or MD5, and `ListRead.assumed` says so. A list made on Windows ends every line with CRLF,
which is no part of the names then.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

from yatagan.digests.algorithms import Algorithm, by_length, by_name, in_file_name
from yatagan.digests.checksum_lists import ALGORITHM, LONGEST_LINE, Listed, inside, unescaped
from yatagan.errors import BadList, NoPlace, PlaceFault

_GNU = re.compile(rb"(\\?)([0-9a-fA-F]{32,128})(?: [ *]|\t+)(.+)", re.DOTALL)
_BSD = re.compile(rb"(\\?)([A-Za-z0-9/-]{2,16}) ?\((.+)\) ?= ?([0-9a-fA-F]{32,128})", re.DOTALL)


@dataclass(frozen=True, slots=True)
class ListRead:
    """A list that was read: its lines, and paths that several of them name.

    `crlf`: its lines ended with CRLF. `assumed`: some of its digests may be of other algorithms of that length.
    """

    lines: list[Listed]
    contradictions: frozenset[bytes]
    crlf: bool
    assumed: bool = False


@dataclass(frozen=True, slots=True)
class Reading:
    """How a list is read.

    `algorithm` of lines that do not name one; None where the list's name and the digests' length are to say it. Of
    paths those `below` a directory are taken, without it, and then `drop` names are dropped from the front.
    """

    algorithm: str | None = None
    below: bytes = b""
    drop: int = 0


def read_list(data: bytes, name: str, reading: Reading) -> ListRead:
    """Read a list; `name` is its place. Raises BadList, and NoPlace where nothing is left of it."""
    rows = [(number, line) for number, line in enumerate(data.split(b"\n"), start=1) if line not in (b"", b"\r")]
    crlf = bool(rows) and all(line.endswith(b"\r") for _, line in rows)
    hint = by_name(reading.algorithm) if reading.algorithm else in_file_name(name.rpartition("/")[2])
    lines: list[Listed] = []
    seen: dict[tuple[bytes, str], tuple[bytes, str]] = {}
    twice = set[bytes]()
    for number, line in rows:
        if len(line) > LONGEST_LINE:
            raise BadList(name, number, "longer than any line of a checksum list")
        text = line[:-1] if crlf else line
        if text.startswith((b"#", b";")):
            continue
        listed = _line(text, name, number, hint)
        raw = listed.path
        path = _below(raw, reading.below)
        if path is None:
            continue
        path = inside(b"/".join(path.split(b"/")[reading.drop :]) if reading.drop else path, name, number)
        if seen.setdefault((path, listed.algorithm), (raw, listed.digest)) != (raw, listed.digest):
            twice.add(path)
        lines.append(Listed(path, listed.digest, listed.algorithm))
    if not lines:
        if rows and reading.below:
            raise NoPlace(name, PlaceFault.NOTHING_BELOW)
        if data:  # else it is the list of a tree without files
            raise BadList(name, 0, "it names no file, so there is nothing to check")
    assumed = hint is None and any(len(by_length(len(line.digest))) > 1 for line in lines)
    return ListRead(lines, frozenset(twice), crlf, assumed)


def own_list(data: bytes, name: str) -> list[Listed]:
    """The lines of a list that Yatagan wrote. Raises BadList."""
    return read_list(data, name, Reading(ALGORITHM)).lines


def _line(text: bytes, name: str, number: int, hint: Algorithm | None) -> Listed:
    """One line, with its path as it is written."""
    if (found := _GNU.fullmatch(text)) is not None:
        escaped, digest, path = found.groups()
        algorithm = _algorithm(len(digest), hint, name, number)
    elif (found := _BSD.fullmatch(text)) is not None:
        escaped, tag, path, digest = found.groups()
        tagged = by_name(tag.decode())
        if tagged is None:
            raise BadList(name, number, f"digests of {tag.decode()}, which we do not know")
        shorter = by_name(f"{tagged.name}-256") if len(digest) == 64 else None  # BLAKE2b of 256 bits may go by BLAKE2b
        algorithm = shorter or tagged
        if algorithm.hex_digits != len(digest):
            raise BadList(name, number, f"{len(digest)} hex digits are no digest of {tag.decode()}")
    else:
        raise BadList(name, number, "not a line of the form HEX  PATH or NAME (PATH) = HEX")
    if escaped:
        try:
            path = unescaped(path)
        except KeyError:
            raise BadList(name, number, "a backslash that escapes nothing") from None
    return Listed(path, digest.decode().lower(), algorithm.name)


def _algorithm(hex_digits: int, hint: Algorithm | None, name: str, number: int) -> Algorithm:
    """The algorithm of a digest without a tag: of several the one that is usual. Raises BadList."""
    possible = by_length(hex_digits)
    if not possible:
        raise BadList(name, number, f"a digest of {hex_digits} hex digits belongs to no algorithm we know")
    return hint if hint is not None and hint in possible else possible[0]


def _below(path: bytes, directory: bytes) -> bytes | None:
    """A path without a directory that it begins with; None if it does not."""
    if not directory:
        return path
    parts, above = _parts(path), _parts(directory)
    return b"/".join(parts[len(above) :]) if parts[: len(above)] == above and len(parts) > len(above) else None


def _parts(path: bytes) -> list[bytes]:
    return [part for part in path.split(b"/") if part not in (b"", b".")]
