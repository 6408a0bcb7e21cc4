"""Where something is: a local path or `NODE:PATH`.

Paths are bytes. A place keeps the path as it was typed, without trailing slashes; only a store
can make it absolute, because only the node knows where a relative path starts.
"""

from __future__ import annotations

import base64
import os
import posixpath
import re
from collections.abc import Mapping
from dataclasses import dataclass

from yatagan.errors import NoPlace, PlaceFault

#: What a node may be called: short, no dots or slashes, so that a place cannot be ambiguous.
NODE_NAME = re.compile(r"[A-Za-z][A-Za-z0-9_-]{0,31}")

#: Part files of ours; never carried, listed as content, or checked.
PART_PREFIX = b".yatagan-"
PART_SUFFIX = b".part"

#: Where replaced files are kept, at the top of a destination.
KEPT_DIRECTORY = b".yatagan-kept"


def is_ours(name: bytes) -> bool:
    """Whether a directory entry's name marks it as Yatagan's own (a part file, kept files)."""
    return name == KEPT_DIRECTORY or (name.startswith(PART_PREFIX) and name.endswith(PART_SUFFIX))


_PART_OF_BATCH = re.compile(rb"\.yatagan-(\d{6}-[a-z0-9]{4})-(\d+)-(\d+)\.part")


def batch_of_part(name: bytes) -> str:
    """The batch that a part file belongs to, as its name says; "" when it is of something else."""
    found = _PART_OF_BATCH.fullmatch(name)
    return found[1].decode() if found else ""


#: Bytes of the longest name that systems take.
_LONGEST_NAME = 255


def is_name(name: bytes) -> bool:
    """Whether this can be the name of an entry. A node's listing is a stranger's word: it may hold `..` or `a/b`."""
    return 0 < len(name) <= _LONGEST_NAME and name not in (b".", b"..") and b"/" not in name and b"\0" not in name


def holds(directory: bytes, path: bytes) -> bool:
    """Whether a path, absolute as the directory's, is the directory or below it."""
    return path == directory or path.startswith(directory.rstrip(b"/") + b"/")


@dataclass(frozen=True, slots=True)
class Place:
    """A local path (`node` is empty) or a path on a node.

    A relative path on a node starts in the node's start directory; an empty one is that directory, `~` the
    directory where a login there starts by itself, and `@NAME` one of its areas.
    """

    node: str
    path: bytes

    @property
    def name(self) -> bytes:
        """The last component, under which this arrives elsewhere; empty for a root or start directory."""
        base = posixpath.basename(posixpath.normpath(self.path)) if self.path else b""
        starts_here = self.node and (self.path == b"~" or (self.path.startswith(b"@") and b"/" not in self.path))
        return b"" if base in (b".", b"..", b"/") or starts_here else base

    def __str__(self) -> str:
        text = os.fsdecode(self.path)
        return f"{self.node}:{text}" if self.node else text


def parse_place(text: str) -> Place:
    """Read a place as typed on a command line (undecodable bytes as surrogates, as `sys.argv` has them).

    `NODE:PATH` is a node's when what stands before the first colon could be a node's name and holds
    no slash; a local name with a colon is written `./NAME`. Raises NoPlace.
    """
    if text == "":
        raise NoPlace(text, PlaceFault.EMPTY)
    if "\0" in text:
        raise NoPlace(text, PlaceFault.NUL)
    head, colon, tail = text.partition(":")
    if colon and NODE_NAME.fullmatch(head):
        return Place(head, _tidy(os.fsencode(tail)))
    if colon and "/" not in head and head and not os.path.lexists(text):
        raise NoPlace(text, PlaceFault.NO_NODE_NAME)
    return Place("", _tidy(os.fsencode(text)))


def _tidy(path: bytes) -> bytes:
    """Drop trailing slashes, so that `fen` and `fen/` are the same place."""
    return path.rstrip(b"/") or (b"/" if path.startswith(b"/") else b"")


def name_fields(path: bytes, key: str = "path") -> dict[str, str]:
    """A path for JSON: under `path`, or under `path_b64` where it is not UTF-8."""
    try:
        return {key: path.decode("utf-8")}
    except UnicodeDecodeError:
        return {f"{key}_b64": base64.b64encode(path).decode("ascii")}


def name_from(fields: Mapping[str, object], key: str = "path") -> bytes:
    """The reverse of `name_fields`. Raises KeyError or ValueError."""
    if key in fields:
        return str(fields[key]).encode("utf-8")
    return base64.b64decode(str(fields[f"{key}_b64"]), validate=True)
