"""New names for sources while they move: one name, or a template for many. No I/O."""

from __future__ import annotations

import os
import posixpath
from collections.abc import Sequence
from string import Formatter

#: What compresses a file, whatever it is; the ending before it says what.
_COMPRESSED = (b".gz", b".bz2", b".xz", b".zst")
#: What a template may ask for.
FIELDS = ("name", "stem", "suffix", "parent", "number")


def split_name(name: bytes) -> tuple[bytes, bytes]:
    """Split a name into stem and suffix: `flux` and `.csv`, `fen` and `.tar.gz`. A leading dot starts no suffix."""
    stem, ending = posixpath.splitext(name)
    if ending in _COMPRESSED:
        stem, before = posixpath.splitext(stem)
        ending = before + ending
    return stem, ending


class Template:
    """A name with fields in it, such as `{stem}-2026{suffix}`.

    Of a source `runs/07/flux.csv`: `name` flux.csv, `stem` flux, `suffix` .csv, `parent` 07; `number` counts the
    sources from 1, and may have a width, as in `{number:03}`. Braces that stand for themselves are doubled.
    """

    def __init__(self, text: str) -> None:
        """Raises ValueError, in words, for what cannot be read."""
        self.text = text
        self._parts = list(Formatter().parse(text))
        for _, name, width, how in self._parts:
            if name is None:
                continue
            if name not in FIELDS or how:
                raise ValueError(f"there is no field {{{name}}}; there are {{{'}, {'.join(FIELDS)}}}")
            if width and not (name == "number" and width.isdigit()):
                raise ValueError("only {number} has a width, as in {number:03}")

    @property
    def has_fields(self) -> bool:
        """Whether it gives different sources different names."""
        return any(name is not None for _, name, _, _ in self._parts)

    def names(self, sources: Sequence[tuple[bytes, bytes]]) -> list[bytes]:
        """The name of each source, given as (path, name). Raises ValueError for what cannot be a name."""
        return [self._name(path, name, number) for number, (path, name) in enumerate(sources, 1)]

    def _name(self, path: bytes, name: bytes, number: int) -> bytes:
        stem, suffix = split_name(name)
        parent = posixpath.basename(posixpath.dirname(path.rstrip(b"/")))
        values = {"name": name, "stem": stem, "suffix": suffix, "parent": parent}
        made = b""
        for literal, field, width, _ in self._parts:
            made += os.fsencode(literal)
            if field == "number":
                made += format(number, width or "").encode()
            elif field is not None:
                made += values[field]
        if made in (b"", b".", b"..") or b"/" in made or len(made) > 255:
            raise ValueError("one plain name, not a path" if made else f"nothing is left of {os.fsdecode(name)}")
        return made
