"""What was staged before and is no longer at the source. Absence is not taken for intent.

A disk that is not mounted, a directory that was emptied: what is missing then was not taken away on purpose. So only a
little of it goes on record by itself; more of it is asked about, and is said until somebody answers.
"""

from __future__ import annotations

import asyncio
import posixpath
from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum

from yatagan.errors import FileTrouble
from yatagan.nodes.replies import DiskReply, read_reply
from yatagan.planning.plan import Plan
from yatagan.portable.disk_names import disk_of
from yatagan.portable.modules import DISKS
from yatagan.stores.interface import Kind, Store
from yatagan.trees.checksum_record import Expected

#: Files that may go on record as gone without a question; of as many files on record as this, at most a tenth.
MOST, AT_LEAST = 100, 20


class WhyAsk(StrEnum):
    """Why what is gone does not go on record by itself."""

    EMPTY = "nothing is left"
    MANY = "so many"
    OTHER_DISK = "another disk"


@dataclass(frozen=True, slots=True)
class OnRecordBefore:
    """What is on record of a tree: by path, with facts where there are any; since when, and on which disk it was."""

    entries: Mapping[bytes, Expected | None] = field(default_factory=dict)
    recorded_at: str = ""
    disk: str = ""


@dataclass(frozen=True, slots=True)
class NoLongerThere:
    """What is no longer at the source, by path and by the label that it has at the destination.

    `files` counts files and links, `size` is in bytes. `recorded_at`: when it was last put on record. `why`: why a
    person is asked before it goes on record as gone; None where it is little.
    """

    labels: tuple[bytes, ...]
    paths: tuple[bytes, ...]
    files: int
    size: int
    recorded_at: str
    why: WhyAsk | None


def find_gone(before: OnRecordBefore, plan: Plan, disk: str) -> NoLongerThere | None:
    """What of a tree on record the plan's source has no more; None for nothing.

    Where something could not be read nothing is: it may be in there. `disk`: the one that the source is on now.
    """
    if len(plan.arrivals) != 1 or plan.arrivals[0].tree.unread:
        return None
    arrival, later = plan.arrivals[0], set(plan.unsettled)
    labels = {
        posixpath.join(arrival.name, path): path
        for path in sorted(before.entries)
        if path and path not in arrival.tree.entries
    }
    gone = {label: path for label, path in labels.items() if label not in later}
    if not gone:
        return None
    lost = [path for path in gone.values() if not _is_directory(before.entries[path])]
    size = sum(facts.facts.size for path in lost if (facts := before.entries[path]) is not None)
    known = sum(bool(path) and not _is_directory(facts) for path, facts in before.entries.items())
    why = _why(len(lost), known, empty=not any(arrival.tree.entries), moved=_is_other(disk, before.disk))
    return NoLongerThere(tuple(gone), tuple(lost or gone.values()), len(lost), size, before.recorded_at, why)


def _is_other(disk: str, before: str) -> bool:
    """Whether two disks are known not to be the same."""
    return bool(disk and before) and disk != before


def _is_directory(expected: Expected | None) -> bool:
    return expected is not None and expected.facts.kind is Kind.DIRECTORY


def _why(lost: int, known: int, *, empty: bool, moved: bool) -> WhyAsk | None:
    """Why to ask about so many of the files that are known; None for a few."""
    if empty:
        return WhyAsk.EMPTY
    if lost and moved:
        return WhyAsk.OTHER_DISK
    return WhyAsk.MANY if lost > MOST or (known >= AT_LEAST and lost * 10 > known) else None


async def find_disk(store: Store, path: bytes) -> str:
    """The name of the disk that a directory is on; "" where it cannot be known. Raises StoreError for a lost line."""
    if store.traits.here:
        return await asyncio.to_thread(disk_of, path)
    if store.machine is None:
        return ""
    try:
        reply = await store.machine.run(DISKS, "disk", b"", {"root": path.decode("latin-1")})
        return read_reply(DiskReply, reply).disk
    except FileTrouble:
        return ""
