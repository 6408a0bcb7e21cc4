"""Checking a bag wherever it is: here, on a node, or in an archive."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from yatagan.trees.hashing import DigestOrigin
from yatagan.verdicts.bags import Bag, BagProblem, compare_digests, payload_of, read_bag, tag_files
from yatagan.verdicts.sides import ArchiveSide, Side

#: Bytes of the largest tag file that is read: a manifest of some millions of lines.
_LARGEST_TAG = 512 << 20


@dataclass(frozen=True, slots=True)
class BagVerdict:
    """What a check of a bag came to. `files` and `size`: what the payload holds."""

    bag: Bag
    problems: list[BagProblem]
    complete: bool
    files: int
    size: int
    origin: DigestOrigin

    @property
    def valid(self) -> bool:
        """Whether it is complete, and every checksum agrees."""
        return not self.problems


async def check_bag(side: Side, hashed: Callable[[int, int], None], expect: Callable[[int, int], None]) -> BagVerdict:
    """Check a bag. `expect` is called once with how many files and bytes will be read, `hashed` for each of them.

    Raises StoreError when the connection is lost.
    """
    problems: list[BagProblem] = []
    if isinstance(side, ArchiveSide) and not side.enter():
        problems.append(BagProblem("4.2", "an archive must hold one directory, the bag, and nothing beside it"))
    bag = read_bag(side.tree, await side.read(tag_files(side.tree), _LARGEST_TAG))
    problems += bag.problems
    complete = not problems
    entries = side.tree.entries
    wanted: dict[str, list[bytes]] = {}
    for each in bag.manifests:
        wanted.setdefault(each.algorithm, []).extend(path for path in each.digests if path in entries)
    expect(sum(map(len, wanted.values())), sum(sum(entries.file_sizes(paths)) for paths in wanted.values()))
    made: dict[str, dict[bytes, str]] = {}
    for algorithm, paths in wanted.items():
        digests = await side.digests(paths, lambda size: hashed(size, 1), algorithm)
        made[algorithm] = dict(digests.values)
        problems += [
            BagProblem("3", f"it cannot be read ({fault.value})", path) for path, fault in digests.faults.items()
        ]
    problems += compare_digests(bag, made)
    payload = list(payload_of(side.tree))
    return BagVerdict(bag, problems, complete, len(payload), sum(entries.file_sizes(payload)), side.origin)
