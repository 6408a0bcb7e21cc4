"""What has another name in a second tree: files by their contents, and the links and directories that went with them.

Whether a place is compared with another or with what is on record of it, this decides. No I/O.
"""

from __future__ import annotations

import posixpath
from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping

from yatagan.stores.interface import Kind
from yatagan.trees.scan import Tree

#: Files of one tree, each with what is known of its contents; a file may come with several digests.
Known = Iterable[tuple[bytes, str]]


def may_have_moved(first: Tree, second: Tree) -> tuple[list[bytes], list[bytes]]:
    """The files of either tree whose names the other has not, where it has such a file of their size.

    Empty files are all alike, so that none of them says where another went.
    """
    alone: tuple[defaultdict[int, list[bytes]], ...] = (defaultdict(list), defaultdict(list))
    for tree, other, found in ((first, second, alone[0]), (second, first, alone[1])):
        for path in tree.entries.of_kind(Kind.FILE):
            if path not in other.entries:
                found[tree.entries[path].size].append(path)
    sizes = sorted((alone[0].keys() & alone[1].keys()) - {0})
    gone, came = ([path for size in sizes for path in found[size]] for found in alone)
    return gone, came


def moved(first: Tree, second: Tree, known: tuple[Known, Known]) -> dict[bytes, bytes]:
    """The names in the second tree of what has another one in the first; no entry comes twice on either side."""
    files = dict(_files(first, second, known))
    went_to: defaultdict[bytes, list[bytes]] = defaultdict(list)
    for path, new in files.items():
        if posixpath.basename(path) == posixpath.basename(new):
            went_to[posixpath.dirname(path)].append(posixpath.dirname(new))
    links = _links(first, second, {directory: places[0] for directory, places in went_to.items()})
    return {**files, **dict(links), **_directories(first, second, went_to)}


def _files(first: Tree, second: Tree, known: tuple[Known, Known]) -> Iterator[tuple[bytes, bytes]]:
    alone: tuple[defaultdict[str, set[bytes]], ...] = (defaultdict(set), defaultdict(set))
    for tree, other, contents, found in ((first, second, known[0], alone[0]), (second, first, known[1], alone[1])):
        for path, digest in contents:
            if path not in other.entries and tree.entries[path].size:
                found[digest].add(path)
    gone, taken = set[bytes](), set[bytes]()
    for digest, paths in alone[0].items():
        pairs = zip(sorted(paths - gone), sorted(alone[1].get(digest, set()) - taken), strict=False)
        for path, new in pairs:
            gone.add(path)
            taken.add(new)
            yield path, new


def _links(first: Tree, second: Tree, directories: Mapping[bytes, bytes]) -> Iterator[tuple[bytes, bytes]]:
    """Links that went with the files of their directories. `directories`: where files went, under their names."""
    for path, target in first.targets.items():
        above, name = posixpath.split(path)
        if path in second.entries or above not in directories:
            continue
        new = posixpath.join(directories[above], name)
        if new not in first.entries and second.targets.get(new) == target:
            yield path, new


def _directories(first: Tree, second: Tree, went_to: defaultdict[bytes, list[bytes]]) -> dict[bytes, bytes]:
    """Directories that have another name: all that left them, and kept its own name, went to one new directory.

    Directories without files have moved with the one that they are in. `went_to`: by directory, those to which its
    files went under their names.
    """
    free = {path for path in second.entries.of_kind(Kind.DIRECTORY) if path not in first.entries}
    gone = [path for path in first.entries.of_kind(Kind.DIRECTORY) if path not in second.entries]
    found: dict[bytes, bytes] = {}
    for path in sorted(gone, key=_depth, reverse=True):
        places = set(went_to[path])
        if len(places) == 1 and places <= free:
            found[path] = new = places.pop()
            free.discard(new)
            if posixpath.basename(path) == posixpath.basename(new):
                went_to[posixpath.dirname(path)].append(posixpath.dirname(new))
    for path in sorted(gone, key=_depth):
        above, name = posixpath.split(path)
        new = posixpath.join(found[above], name) if above in found else b""
        if path not in found and new in free:
            found[path] = new
            free.discard(new)
    return found


def _depth(path: bytes) -> int:
    return path.count(b"/")
