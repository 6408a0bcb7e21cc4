"""Editing a file in place: what it is, whether it can be written back as what it is, and writing it back whole.

A file is never written into: a new one beside it gets its name. So whatever belongs to a file besides its name,
contents and mode must be what a new file has anyway, or the file stays as it is.
"""

from __future__ import annotations

import hashlib
import posixpath
from dataclasses import dataclass
from enum import StrEnum

from yatagan.errors import StoreError
from yatagan.faults import Fault
from yatagan.stores.interface import Facts, Kind, Placement, Store
from yatagan.stores.reading import read_start
from yatagan.trees.kept_directories import KeptDirectories
from yatagan.trees.not_kept import find_unkept
from yatagan.trees.small_parts import small_part

#: Bytes of the largest file that is edited: an edit is a small thing, and a large file is staged.
LARGEST = 64_000_000
_SET_IDS = 0o6000


class Tie(StrEnum):
    """Something of a file that a new one in its place would not have."""

    OWNER = "its owner"
    GROUP = "its group"
    LISTS = "its access list"
    NAMES = "its further names (hard links)"
    ATTRIBUTES = "its extended attributes"
    SET_IDS = "its set-id bits"


@dataclass(frozen=True, slots=True)
class Original:
    """A file that is to be edited, as it is now. `path` is its own, links followed.

    `ties`: what it would lose. `all_known`: its access list, attributes and further names could be looked at.
    """

    path: bytes
    facts: Facts
    data: bytes
    owner: str
    group: int | None
    ties: tuple[Tie, ...]
    all_known: bool

    @property
    def digest(self) -> str:
        """SHA-256 of its contents."""
        return hashlib.sha256(self.data).hexdigest()


class ChangedMeanwhile(Exception):
    """The file is not what it was when it was fetched."""


async def fetch(store: Store, path: bytes) -> Original:
    """Read a file that is to be edited; a link's target is what is meant.

    Raises StoreError: MISSING, IS_DIRECTORY, SPECIAL for what is no file, UNSUPPORTED for one that is too large.
    """
    real = await store.resolve(path, follow=True)
    facts = await store.look_closely(real)
    if facts is None:
        raise StoreError(Fault.MISSING, real, store=store.name)
    if facts.kind is not Kind.FILE:
        fault = Fault.IS_DIRECTORY if facts.kind is Kind.DIRECTORY else Fault.SPECIAL
        raise StoreError(fault, real, store=store.name, detail=facts.kind.value)
    if facts.size > LARGEST:
        raise StoreError(Fault.UNSUPPORTED, real, store=store.name)
    data = await read_start(store, real, LARGEST)
    directory, name = posixpath.split(real)
    unkept = await find_unkept(store, [(directory, iter([name]))])
    counts = (unkept.lists, Tie.LISTS), (unkept.names, Tie.NAMES), (unkept.attributes, Tie.ATTRIBUTES)
    ties = [tie for many, tie in counts if many]
    ties += [Tie.SET_IDS] if facts.mode & _SET_IDS else []
    return Original(real, facts, data, await store.owner(real), await store.group(real), tuple(ties), unkept.known)


async def write_back(store: Store, original: Original, data: bytes, batch: str) -> tuple[bytes, list[Tie]]:
    """Give a new file with these contents the name of the original, which is kept in the name of `batch`.

    Returns where it is kept; or b"" and what the file would have lost, with nothing done. The name stands for the old
    contents or the new, whole, at every moment. Raises StoreError, and ChangedMeanwhile where the file is not the
    original any more.
    """
    await _refuse_changed(store, original)
    directory, name = posixpath.split(original.path)
    async with small_part(store, directory, "edit", data) as (part, writer):
        if await read_start(store, part, LARGEST) != data:
            raise StoreError(Fault.DIGEST_DIFFERS, part, store=store.name)
        lost = []
        if await store.owner(part) != original.owner:
            lost.append(Tie.OWNER)
        if await store.group(part) != original.group:
            lost.append(Tie.GROUP)
        if lost:
            await store.remove(part)
            return b"", lost
        keeping = KeptDirectories(store, directory, batch.encode())
        kept = await keeping.path_for(name)
        try:
            await _refuse_changed(store, original)
            mode, seen = original.facts.mode & ~_SET_IDS, original.facts
            placement = Placement(part, original.path, len(data), directory, mode=mode, seen=seen, kept=kept)
            await store.place(writer, placement)
        except (ChangedMeanwhile, StoreError):
            await keeping.remove_empty([posixpath.dirname(kept)])
            raise
        return kept, []


async def _refuse_changed(store: Store, original: Original) -> None:
    """Raise ChangedMeanwhile if the file has other facts or contents than it had."""
    now = await store.look_closely(original.path)
    if now is None or not now.same_as(original.facts):
        raise ChangedMeanwhile
    if await read_start(store, original.path, LARGEST) != original.data:
        raise ChangedMeanwhile
