"""Choosing by name: what a pattern matches, and what a set of patterns leaves of a tree.

`*` and `?` stand for any characters of one name, `[ab]`, `[a-z]` and `[!a]` for one of some; none of them crosses
a slash. `**` stands for any number of directories. A pattern without a slash matches names at any depth,
one with a slash against paths from the root. What matches a directory takes all below it.
"""

from __future__ import annotations

import posixpath
import re
from collections.abc import Iterable
from functools import cache

from yatagan.places import is_name, is_ours
from yatagan.stores.interface import Facts, Kind, Readable

_WILD = re.compile(rb"[*?[]")


def is_pattern(path: bytes) -> bool:
    """Whether a path contains pattern characters."""
    return _WILD.search(path) is not None


def split_at_pattern(path: bytes) -> tuple[bytes, list[bytes]]:
    """The directory above the first pattern of a path, and the names from there on; none without a pattern."""
    names = path.split(b"/")
    first = next((at for at, name in enumerate(names) if is_pattern(name)), len(names))
    root = b"/" if path.startswith(b"/") else b""
    return b"/".join(names[:first]) or root, names[first:]


@cache
def compile_pattern(pattern: bytes) -> re.Pattern[bytes]:
    """The regular expression for a pattern, for a full match. Raises ValueError for an empty one."""
    parts = [part for part in pattern.split(b"/") if part not in (b"", b".")]
    if not parts or b".." in parts:
        raise ValueError("it names nothing below the place")
    if b"/" not in pattern.strip(b"/") and not pattern.startswith(b"/"):
        parts = [b"**", *parts]
    expression = b""
    for at, part in enumerate(parts):
        last = at == len(parts) - 1
        if part == b"**":
            expression += rb".*" if last else rb"(?:[^/]+/)*"
        else:
            expression += _one_name(part) + (b"" if last else b"/")
    return _compile(expression)


def _one_name(pattern: bytes) -> bytes:
    """The expression for one name of a pattern."""
    expression, at = b"", 0
    while at < len(pattern):
        char = pattern[at : at + 1]
        at += 1
        if char == b"*":
            expression += rb"[^/]*"
        elif char == b"?":
            expression += rb"[^/]"
        elif char == b"[" and (end := pattern.find(b"]", at + (2 if pattern[at : at + 1] == b"!" else 1))) > 0:
            inside = pattern[at:end]
            negated = inside.startswith(b"!")
            chars = b"".join(
                b"-" if each == b"-" else re.escape(each)
                for each in (bytes([number]) for number in (inside[1:] if negated else inside))
            )
            expression += b"(?!/)[" + (b"^" if negated else b"") + chars + b"]"
            at = end + 1
        else:
            expression += re.escape(char)
    return expression


class Choice:
    """What is chosen: what matches one of `only` (everything, if that is empty) and none of `skip`.

    Paths are relative to the root, which is always chosen. Raises ValueError for a bad pattern.
    """

    def __init__(self, only: Iterable[bytes] = (), skip: Iterable[bytes] = ()) -> None:
        self.only, self.skip = tuple(only), tuple(skip)
        self.only_patterns = [compile_pattern(pattern) for pattern in self.only]
        self.skip_patterns = [compile_pattern(pattern) for pattern in self.skip]

    def __eq__(self, other: object) -> bool:
        """Whether the same is chosen by the same patterns."""
        return isinstance(other, Choice) and (self.only, self.skip) == (other.only, other.skip)

    def __hash__(self) -> int:
        """Equal for equal choices."""
        return hash((self.only, self.skip))

    def __bool__(self) -> bool:
        """Whether anything may be left out."""
        return bool(self.only_patterns or self.skip_patterns)

    def pruning(self) -> Choice:
        """The same without `only`, for a tree that is only compared with."""
        return Choice(skip=self.skip)

    def unmatched(self, paths: Iterable[bytes]) -> list[bytes]:
        """Those of `only` that match none of these paths."""
        left = dict(zip(self.only, self.only_patterns, strict=True))
        for path in paths:
            for given in [given for given, pattern in left.items() if pattern.fullmatch(path)]:
                del left[given]
            if not left:
                break
        return list(left)

    def skips(self, path: bytes) -> bool:
        """Whether `skip` matches this very path."""
        return any(pattern.fullmatch(path) for pattern in self.skip_patterns)

    def chooses(self, path: bytes) -> bool:
        """Whether a path is chosen, by itself or with a directory above it."""
        if not path:
            return True
        above = [path]
        while path := posixpath.dirname(path):
            above.append(path)
        wanted = not self.only_patterns or any(
            pattern.fullmatch(each) for pattern in self.only_patterns for each in above
        )
        return wanted and not any(self.skips(each) for each in above)


#: No choice at all.
EVERYTHING = Choice()


async def expand(store: Readable, typed: bytes) -> tuple[bytes, list[tuple[bytes, Facts]]]:
    """What is there under a path some of whose names are patterns: where that begins, absolute paths and facts.

    Something that really has this name is meant by it, and nothing else. Up to the first pattern the path means
    what `Store.resolve` makes of it; below that links are not followed, and a name that starts with a dot is meant
    only by a pattern that does. Raises StoreError when a directory cannot be read, ValueError for a pattern that
    is none.
    """
    literal = await store.resolve(typed)
    facts = await store.look(literal)
    if facts is not None:
        return posixpath.dirname(literal), [(literal, facts)]
    above, names = split_at_pattern(typed)
    root = await store.resolve(above, follow=True)
    facts = await store.look(root)
    found = [(root, facts)] if facts is not None else []
    for name in names:
        if name in (b"", b"."):
            continue
        if name == b"..":
            raise ValueError("it climbs up again")
        matches = _compile(_one_name(name))
        below: list[tuple[bytes, Facts]] = []
        for above, facts in found:
            if facts.kind is not Kind.DIRECTORY:
                continue
            async for handful in store.entries(above):
                below += [
                    (posixpath.join(above, each), its)
                    for each, its in handful
                    if is_name(each) and matches.fullmatch(each)
                    if name.startswith(b".") >= each.startswith(b".") and not is_ours(each)
                ]
        found = below
    return root, sorted(found, key=lambda each: each[0])


def _compile(expression: bytes) -> re.Pattern[bytes]:
    try:
        return re.compile(expression, re.DOTALL)
    except re.error as error:
        raise ValueError(str(error)) from None
