"""Areas: named directories on a node, and what one must know of each before data is left there."""

from __future__ import annotations

import posixpath
import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

from yatagan.config.units import parse_duration, spell_duration
from yatagan.errors import NoSuchArea, OutOfArea
from yatagan.places import holds

#: What an area may be called: as a node is, so that `@NAME/` ends where one expects.
AREA_NAME = re.compile(r"[A-Za-z][A-Za-z0-9_-]{0,31}")


@dataclass(frozen=True, slots=True)
class Area:
    """One area. `path` is absolute, or starts where a login there starts by itself.

    `backed_up` is None where it was not said; `purged_after` is the age in seconds at which files are removed, None
    where they are not.
    """

    name: str
    path: str
    backed_up: bool | None = None
    purged_after: float | None = None
    read_only: bool = False
    shared: bool = False
    note: str = ""

    def __post_init__(self) -> None:
        if not AREA_NAME.fullmatch(self.name):
            raise ValueError(f"{self.name!r} cannot be an area's name: letters, digits, - and _, at most 32")
        if not isinstance(self.path, str) or not self.path or "\0" in self.path:
            raise ValueError(f"{self.path!r} is no path")
        if posixpath.normpath(self.path).split("/")[0] == "..":
            raise ValueError(f"{self.path!r} leads out of the home; give a path from the root")
        for name in ("read_only", "shared"):
            if not isinstance(getattr(self, name), bool):
                raise ValueError(f"{name} must be true or false")
        if not isinstance(self.backed_up, bool | None):
            raise ValueError("backed_up must be true or false")
        if not isinstance(self.note, str):
            raise ValueError("note must be text")
        if self.purged_after is not None and self.purged_after <= 0:
            raise ValueError("purged_after must be longer than nothing")

    def table(self) -> dict[str, Any]:
        """The area as a table of the file, without what was not given."""
        facts = {
            "path": self.path,
            "backed_up": self.backed_up,
            "purged_after": spell_duration(self.purged_after) if self.purged_after is not None else None,
            "read_only": self.read_only or None,
            "shared": self.shared or None,
            "note": self.note or None,
        }
        return {key: value for key, value in facts.items() if value is not None}


def read_area(name: str, entry: Mapping[str, Any]) -> Area:
    """An area from its table in the file. Raises ValueError or TypeError."""
    known = dict(entry)
    if "purged_after" in known:
        known["purged_after"] = parse_duration(str(known["purged_after"]))
    return Area(name, **known)


def split_area(path: bytes) -> tuple[str, bytes]:
    """The area's name and what follows it, of a path like `@scratch/fen`; ("", path) for any other."""
    if not path.startswith(b"@"):
        return "", path
    name, _, rest = path[1:].partition(b"/")
    return name.decode("utf-8", "replace"), rest


def area_of(areas: Iterable[Area], path: bytes) -> Area | None:
    """The innermost area that a path as typed lies in, as far as that shows without a look at the node."""
    name, _ = split_area(path)
    if name:
        return next((area for area in areas if area.name == name), None)
    whole = posixpath.normpath(path)
    roots = [(posixpath.normpath(area.path.encode("utf-8", "surrogateescape")), area) for area in areas]
    holding = [(len(root), area) for root, area in roots if holds(root, whole)]
    return max(holding, key=lambda each: each[0])[1] if holding else None


def find_area(node: str, areas: Iterable[Area], name: str) -> Area:
    """The area of this name. Raises NoSuchArea."""
    known = {area.name: area for area in areas}
    if name in known:
        return known[name]
    raise NoSuchArea(node, name, tuple(sorted(known)))


def below(area: Area, node: str, rest: bytes) -> bytes:
    """The path of what is named below an area. Raises OutOfArea when it climbs out by `..`."""
    tidy = posixpath.normpath(rest) if rest else b"."
    if tidy == b".." or tidy.startswith((b"../", b"/")):
        raise OutOfArea(node, area.name, rest.decode("utf-8", "replace"))
    return posixpath.normpath(posixpath.join(area.path.encode("utf-8", "surrogateescape"), tidy))
