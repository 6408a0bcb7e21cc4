"""Whether small files travel in bundles, and how such a bundle is laid out. No I/O."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from yatagan.batches.steps import Step
from yatagan.portable.tar import END, FILE, Member, encode, padding

#: The largest file that travels with others, and what a bundle comes to at most.
LARGEST_BUNDLED = 256 << 10
BUNDLE_BYTES, BUNDLE_FILES = 2 << 20, 1000
#: Fewer files than this are not worth a bundle.
_LEAST = 16


class BundleLayout:
    """Where each member of a bundle begins, in the order of its steps. Sizes and offsets in bytes."""

    def __init__(self, members: Sequence[Step]) -> None:
        self.members = members
        self.heads: list[bytes] = []
        self.starts: list[int] = []
        at = 0
        for step in members:
            facts = step.facts
            head = encode(Member(step.label, FILE, facts.size, facts.mode & 0o777, facts.mtime_ns, stored=facts.size))
            self.heads.append(head)
            self.starts.append(at)
            at += len(head) + facts.size + padding(facts.size)
        self.end = at
        self.size = at + len(END)

    def begins(self, number: int) -> int:
        """The offset at which a member's contents begin."""
        return self.starts[number] + len(self.heads[number])


@dataclass(frozen=True, slots=True)
class Costs:
    """Seconds that a file costs besides its bytes, alone or in a bundle, at a given round trip.

    Measured with 10,000 files: alone each takes 2 ms of both machines' time and waits for four round trips, 128 files
    at a time; in a bundle it takes 0.6 ms, and the bundle its requests.
    """

    round_trip: float = 0.0

    def alone(self, files: int) -> float:
        """Seconds for files that are carried one by one."""
        return files * (0.002 + 4 * self.round_trip / 128)

    def together(self, files: int, bundles: int) -> float:
        """Seconds for files that travel in bundles."""
        return files * 0.0006 + bundles * 0.02 + 20 * self.round_trip


@dataclass(frozen=True, slots=True)
class BundledTravel:
    """The small files of a plan: how many bundles they would travel in, and the seconds with and without."""

    files: int
    size: int
    bundles: int
    alone: float
    together: float

    @property
    def pays(self) -> bool:
        """Whether bundles save at least a fifth."""
        return self.files >= _LEAST and self.together < 0.8 * self.alone


def travel(files: int, size: int, costs: Costs) -> BundledTravel:
    """Estimate the bundles for `files` small files of `size` bytes."""
    bundles = max(1, -(-(size + files * 1536) // BUNDLE_BYTES), -(-files // BUNDLE_FILES)) if files else 0
    return BundledTravel(files, size, bundles, costs.alone(files), costs.together(files, bundles))
