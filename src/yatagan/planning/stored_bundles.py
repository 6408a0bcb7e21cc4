"""Which directories of an arrival are stored as bundles, and which of those bundles have to be made.

What is there already keeps its form: a directory that is stored as a bundle stays one, and is made anew when anything
of it is new or different; one that is there as files stays files. No I/O.
"""

from __future__ import annotations

import posixpath
from collections.abc import Collection, Mapping
from dataclasses import dataclass
from functools import partial

from yatagan.bundles.stored_bundle import StoredBundle, bundle_of
from yatagan.config.project import StoredAs
from yatagan.stores.interface import Facts, Kind
from yatagan.trees.compare import Differences, Verdict
from yatagan.trees.scan import Tree

#: The forms in which directories become bundles.
BUNDLED = (StoredAs.BUNDLE, StoredAs.BY_DIRECTORY)


@dataclass(slots=True)
class BundleToStore:
    """A directory that becomes a bundle: its path below the arrival's root, and its entries.

    `present`: the bundle that is there now; `changed`: how many entries it lacks or has otherwise; `gone`: how many it
    has that are no longer here. `seen`, `seen_index`: what has the names of the bundle and its index.
    """

    path: bytes
    bundle: bytes
    differences: Differences
    present: StoredBundle | None
    changed: int
    gone: int
    seen: Facts | None = None
    seen_index: Facts | None = None

    @property
    def size(self) -> int:
        """Bytes of its files."""
        return sum(each.facts.size for each in self.differences if each.facts.kind is Kind.FILE)

    @property
    def files(self) -> int:
        """Number of its files."""
        return sum(each.facts.kind is Kind.FILE for each in self.differences)


def store(
    tree: Tree,
    there: Tree,
    differences: Differences,
    how: StoredAs | None,
    bundles: Mapping[bytes, StoredBundle],
    unfit: Collection[bytes] = (),
) -> tuple[list[BundleToStore], Differences, list[bytes]]:
    """Decide what is stored as bundles. Returns those, the differences that are left, and directories that are there as
    files.

    `how`: the form of directories that are new there, None for files. `bundles`: those at the destination, by
    directory. `unfit`: directories whose bundles have an index that does not fit, because a stage was interrupted.
    """
    directories = {path: there.absolute(path) for path in tree.entries.of_kind(Kind.DIRECTORY)}
    present = {path: bundles[absolute] for path, absolute in directories.items() if absolute in bundles}
    unfinished = [path for path, absolute in directories.items() if absolute in unfit]
    wanted: list[bytes] = []
    as_files: list[bytes] = []
    for path in sorted({*_wanted(tree, how), *unfinished}):  # what holds others comes before them
        if not any(_holds(each, path) for each in (*present, *wanted)):
            (as_files if path in there.entries else wanted).append(path)
    held = {*present, *wanted}
    if not held:
        return [], differences, as_files
    groups = differences.grouped(partial(_group, groups=held))
    storing = []
    for path in [*present, *wanted]:
        now, members = present.get(path), groups[path]
        changed = sum(each.verdict is not Verdict.SAME for each in members if each.facts.kind.carried)
        if now is not None and not changed:
            held.remove(path)  # it stays as it is
        elif members:
            gone = sum(_join(path, each) not in tree.entries for each in now.lines) if now is not None else 0
            storing.append(BundleToStore(path, bundle_of(there.absolute(path)), members, now, changed, gone))
    return storing, differences.grouped(partial(_group, groups=held))[None], as_files


def _wanted(tree: Tree, how: StoredAs | None) -> list[bytes]:
    """Directories that become bundles: those with files, whole or right below the root."""
    if how is StoredAs.BUNDLE:
        some = any(tree.entries.of_kind(Kind.FILE))
        return [b""] if tree.entries[b""].kind is Kind.DIRECTORY and some else []
    if how is StoredAs.BY_DIRECTORY:
        return sorted({path.split(b"/")[0] for path in tree.entries.of_kind(Kind.FILE) if b"/" in path})
    return []


def _group(path: bytes, groups: Collection[bytes]) -> bytes | None:
    """The directory of a group that holds a path, if any; none of them holds another."""
    while path not in groups:
        if not path:
            return None
        path = posixpath.dirname(path)
    return path


def _holds(above: bytes, path: bytes) -> bool:
    return not above or path == above or path.startswith(above + b"/")


def _join(above: bytes, path: bytes) -> bytes:
    return posixpath.join(above, path) if above and path else above or path
