"""Entries that differ, in groups: a directory of which all is only there is one line, and not a hundred thousand."""

from __future__ import annotations

import posixpath
from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import NamedTuple

from yatagan.stores.interface import Kind
from yatagan.verdicts.comparison import Compared, Comparison, Outcome


@dataclass(frozen=True, slots=True)
class Group:
    """Entries of one outcome: all below the directory `path`, or a single one.

    `entries`: how many these are, `entry` the first of them; `files` and `size` (in bytes) count those that are files.
    Of what was moved `new_path` is where it is now.
    """

    path: bytes
    entry: Compared
    entries: int
    files: int
    size: int
    new_path: bytes = b""

    @property
    def outcome(self) -> Outcome:
        """What all of them are."""
        return self.entry.outcome

    @property
    def is_whole(self) -> bool:
        """Whether it is a directory that is wholly one thing."""
        return self.entries > 1


def grouped(comparison: Comparison) -> Iterator[Group]:
    """The entries that are not the same; those below the highest directory that is wholly one thing as one."""
    alike = _Alike(comparison)
    group: Group | None = None
    directory: bytes | None = None
    for entry in comparison.entries:
        files, size = _counts(comparison, entry)
        whole = alike.directory_of(entry)
        if group is not None and whole is not None and whole == directory:
            group = replace(group, entries=group.entries + 1, files=group.files + files, size=group.size + size)
            continue
        if group is not None:
            yield _alone_or_whole(group)
        directory = whole
        new_path = entry.new_path if whole is None else alike.moved_to(entry, whole)
        group = Group(entry.path if whole is None else whole, entry, 1, files, size, new_path)
    if group is not None:
        yield _alone_or_whole(group)


def _alone_or_whole(group: Group) -> Group:
    """A group of one is that entry, under its own name."""
    return group if group.is_whole else replace(group, path=group.entry.path, new_path=group.entry.new_path)


def _counts(comparison: Comparison, entry: Compared) -> tuple[int, int]:
    """Files and bytes of one entry."""
    for tree in (comparison.first, comparison.second):
        facts = tree.entries.get(entry.path)
        if facts is not None and facts.kind is Kind.FILE:
            return 1, facts.size
    return 0, 0


class _Trait(NamedTuple):
    """What entries below a directory have in common: of what was moved, also where that directory is now."""

    outcome: Outcome
    moved_to: bytes = b""


#: What else the directory may be of which all that is in it is one thing.
_LEFT_EMPTY = {Outcome.MOVED: Outcome.ONLY_FIRST}


class _Alike:
    """Which directories are wholly one thing."""

    def __init__(self, comparison: Comparison) -> None:
        #: By directory: what all below it has in common; None where it has nothing.
        self._common: dict[bytes, _Trait | None] = {}
        self._entries = entries = {entry.path: entry for entry in comparison.entries}
        trees = comparison.first, comparison.second
        directories = {path for tree in trees for path in tree.entries.of_kind(Kind.DIRECTORY)}
        for tree in trees:
            for path in tree.entries:
                entry = entries.get(path)
                if entry is not None or path not in directories:
                    self._add(path, entry)

    def _add(self, path: bytes, entry: Compared | None) -> None:
        """Note an entry in all directories above it; None is one that is the same, or that came from elsewhere."""
        above = path
        while above:
            above = posixpath.dirname(above)
            trait = _trait(entry, above) if entry is not None else None
            if above not in self._common:
                self._common[above] = trait
            elif self._common[above] is None:
                return  # nothing in common there, nor further up
            elif self._common[above] != trait:
                self._common[above] = None

    def directory_of(self, entry: Compared) -> bytes | None:
        """The highest directory that is wholly what this entry is; None where there is none."""
        found, above = None, entry.path
        below = self._common.get(entry.path)
        if below is not None and below == _trait(entry, entry.path):
            found = entry.path
        while above:
            above = posixpath.dirname(above)
            common = self._common.get(above)
            if common is None or common != _trait(entry, above) or not self._belongs(entry, above):
                break
            found = above
        return found

    def _belongs(self, entry: Compared, directory: bytes) -> bool:
        """Whether a directory is what this entry is; where all below it was moved, it may have stayed behind, empty."""
        own = self._entries.get(directory)
        return own is None or own.outcome in (entry.outcome, _LEFT_EMPTY.get(entry.outcome))

    @staticmethod
    def moved_to(entry: Compared, directory: bytes) -> bytes:
        """Where a directory is now, of which all was moved; b"" for other outcomes."""
        trait = _trait(entry, directory)
        return trait.moved_to if trait is not None else b""


def _trait(entry: Compared, above: bytes) -> _Trait | None:
    """What an entry can have in common with others below a directory."""
    if entry.outcome is not Outcome.MOVED:
        return _Trait(entry.outcome)
    if entry.path == above:
        return _Trait(entry.outcome, entry.new_path)
    below = entry.path[len(above) + 1 if above else 0 :]
    if not below or not entry.new_path.endswith(b"/" + below):
        return None
    return _Trait(entry.outcome, entry.new_path[: -len(below) - 1])
