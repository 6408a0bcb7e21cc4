"""Names that a disk cannot tell apart: it takes no notice of case, or of how a letter with an accent is spelled.

Whether a disk is of that kind is seen by looking, without writing: an entry is asked for under another spelling.
"""

from __future__ import annotations

import posixpath
import unicodedata
from collections.abc import Iterable, Mapping

from yatagan.errors import FileTrouble
from yatagan.stores.interface import Readable

#: Characters that disks of other systems take in no name.
_NOT_EVERYWHERE = frozenset(b'\\:*?"<>|') | frozenset(range(32))


def folded(path: bytes) -> str:
    """A key that is equal for paths that clash on a disk that ignores case."""
    return unicodedata.normalize("NFC", path.decode("utf-8", "surrogateescape").casefold())


def is_everywhere(name: bytes) -> bool:
    """Whether disks of other systems allow a name, too."""
    return not (_NOT_EVERYWHERE & set(name)) and not name.endswith((b".", b" "))


def _otherwise(name: bytes) -> bytes:
    """The name in another spelling; the same if there is none."""
    text = name.decode("utf-8", "surrogateescape")
    for other in (text.swapcase(), unicodedata.normalize("NFD", text), unicodedata.normalize("NFC", text)):
        spelled = other.encode("utf-8", "surrogateescape")
        if spelled != name and folded(spelled) == folded(name):
            return spelled
    return name


def has_spellings(name: bytes) -> bool:
    """Whether a name has another spelling that such a disk takes for the same."""
    return _otherwise(name) != name


async def spelled_there(store: Readable, path: bytes) -> bytes | None:
    """The name under which a disk that ignores case lists an existing entry; None if it is spelled the same.

    Raises StoreError.
    """
    above, name = posixpath.split(path)
    other = _otherwise(name)
    if other == name or await store.look(posixpath.join(above, other)) is None:
        return None
    alike = None
    async for handful in store.entries(above):
        for each, _ in handful:
            if each == name:
                return None
            if folded(each) == folded(name):
                alike = each
    return alike


async def tells_apart(store: Readable, path: bytes) -> bool:
    """Whether a disk distinguishes an existing entry's name from other spellings of it."""
    above, name = posixpath.split(path)
    other = _otherwise(name)
    try:
        if other == name or await store.look(posixpath.join(above, other)) is None:
            return True
        listed = {each async for handful in store.entries(above) for each, _ in handful if each in (name, other)}
    except FileTrouble:
        return True  # it may be looked for, but not listed: a failure will tell
    return listed == {name, other}


def clashes(paths: Iterable[bytes], there: Iterable[bytes]) -> Mapping[bytes, bytes]:
    """Paths of a tree, parents first, that clash with another one on such a disk, and with which.

    The first of several keeps the name, unless one of `there` has it. What is below a directory is not listed with it.
    """
    taken = {folded(path): path for path in there}
    found: dict[bytes, bytes] = {}
    for path in paths:
        first = taken.setdefault(folded(path), path)
        if first != path and posixpath.basename(first) != posixpath.basename(path):
            found[path] = first
    return found
