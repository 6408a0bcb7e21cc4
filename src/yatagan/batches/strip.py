"""How far the files of a batch have come, in the order of the plan: a strip of cells, each an equal share of the bytes.

No I/O. A million files and their changes of state are as cheap as ten: weights are kept for a fixed number of slots,
of which a cell of any strip covers some.
"""

from __future__ import annotations

import math
from array import array
from collections.abc import Iterable, Iterator
from enum import IntEnum
from typing import NamedTuple

from yatagan.batches.states import StepState

#: Slots that a batch is divided into: more than any window has columns.
_SLOTS = 1200


class CellState(IntEnum):
    """How far a share of a batch has come, the least first. A failed file is FAILED where it begins, however small."""

    WAITING = 0
    ON_THE_WAY = 1
    ARRIVED = 2
    PROVEN = 3
    IN_PLACE = 4
    FAILED = 5


CELL_OF = {
    StepState.WAITING: CellState.WAITING,
    StepState.MOVING: CellState.WAITING,  # what of it is on the way is known by its bytes
    StepState.ARRIVED: CellState.ARRIVED,
    StepState.PROVEN: CellState.PROVEN,
    StepState.IN_PLACE: CellState.IN_PLACE,
    StepState.LEFT: CellState.IN_PLACE,
    StepState.NOT_CARRIED: CellState.IN_PLACE,
    StepState.FAILED: CellState.FAILED,
}


class StripFile(NamedTuple):
    """A file of a plan: its step's number, size in bytes, state, and the bundle that it travels in (0 for none)."""

    number: int
    size: int
    state: StepState
    bundle: int


class Strip:
    """The files of a batch, given in the order of their numbers."""

    def __init__(self, files: Iterable[StripFile]) -> None:
        #: Where the file of a step begins, by its number; the next number's begins where it ends.
        self._starts = array("Q", [0])
        #: The size of the file that was appended last.
        self._last = 0
        self._states = bytearray(1)
        self._members: dict[int, array[int]] = {}
        self._weights = [[0.0] * _SLOTS for _ in CellState]
        self._failed: set[int] = set()
        #: Bytes on the way: of files, and of stored bundles from where each begins, with where it ends.
        self._way: dict[int, int] = {}
        self._stored: dict[int, tuple[int, int, int]] = {}
        settled: list[tuple[int, StepState]] = []
        for number, size, state, bundle in files:
            self._append(number, size)
            if bundle:
                self._members.setdefault(bundle, array("Q")).append(number)
            if state is not StepState.WAITING:
                settled.append((number, state))
        self._starts.append(self._starts[-1] + self._last)
        self._per_slot = self._starts[-1] / _SLOTS
        if self._per_slot:
            self._weights[CellState.WAITING] = [self._per_slot] * _SLOTS
        for number, state in settled:
            self.reach(number, state)

    def _append(self, number: int, size: int) -> None:
        """Add a file; numbers between are of steps that are no files."""
        end = self._starts[-1] + self._last
        missing = number - len(self._starts)
        self._starts.extend([end] * (missing + 1))
        self._states.extend(bytes(missing + 1))
        # An empty file weighs a byte: a plan of empty files is a plan.
        self._last = max(1, size)

    def __contains__(self, number: int) -> bool:
        return 0 < number < len(self._states) and self._starts[number + 1] > self._starts[number]

    def members(self, bundle: int) -> Iterator[int]:
        """The numbers of the files that travel in a bundle."""
        return iter(self._members.get(bundle, ()))

    def reach(self, number: int, state: StepState) -> None:
        """All of a file is in this state now."""
        if number not in self:
            return
        start, end = self._starts[number], self._starts[number + 1]
        for bundle, (first, last, _) in list(self._stored.items()):
            if first <= start < last:
                self.move_stored(bundle, 0.0)  # from now on each of its files says where it is
        old, new = CellState(self._states[number]), CELL_OF[state]
        way = start + self._way.pop(number, 0)
        self._shift(start, way, CellState.ON_THE_WAY, new)
        self._shift(way, end, old, new)
        self._states[number] = new
        if new is CellState.FAILED:
            self._failed.add(number)
        else:
            self._failed.discard(number)

    def move(self, number: int, done: int) -> None:
        """Take in that `done` bytes of a file are acknowledged, or were there already."""
        if number not in self or self._states[number] != CellState.WAITING:
            return
        start, end = self._starts[number], self._starts[number + 1]
        before = self._way.get(number, 0)
        now = min(done, end - start)
        self._shift(start + before, start + now, CellState.WAITING, CellState.ON_THE_WAY)
        self._shift(start + now, start + before, CellState.ON_THE_WAY, CellState.WAITING)
        self._way[number] = now

    def move_share(self, number: int, share: float) -> None:
        """As `move`, by the share of its bytes, 0 to 1."""
        if number in self:
            self.move(number, int(share * (self._starts[number + 1] - self._starts[number])))

    def move_stored(self, bundle: int, share: float) -> None:
        """Take in that a share, 0 to 1, of a stored bundle is on the way. Its files follow each other in the plan."""
        members = self._members.get(bundle)
        if not members:
            return
        start, end = self._starts[members[0]], self._starts[members[-1] + 1]
        _, _, before = self._stored.pop(bundle, (start, end, 0))
        now = int(min(1.0, share) * (end - start))
        self._shift(start + before, start + now, CellState.WAITING, CellState.ON_THE_WAY)
        self._shift(start + now, start + before, CellState.ON_THE_WAY, CellState.WAITING)
        if now:
            self._stored[bundle] = (start, end, now)

    def _shift(self, start: int, end: int, old: CellState, new: CellState) -> None:
        """Move the weight of some bytes from one state to another."""
        if start >= end or old is new:
            return
        for slot in range(int(start / self._per_slot), min(_SLOTS, math.ceil(end / self._per_slot))):
            weight = max(0.0, min(end, (slot + 1) * self._per_slot) - max(start, slot * self._per_slot))
            self._weights[old][slot] -= weight
            self._weights[new][slot] += weight

    def cells(self, count: int) -> list[CellState]:
        """The states of `count` cells: how far at least half of each has come. Empty without any file."""
        if not self._per_slot or count < 1:
            return []
        marked = {int(self._starts[number] / self._per_slot * count / _SLOTS) for number in self._failed}
        return [
            CellState.FAILED if cell in marked else self._most(cell * _SLOTS // count, (cell + 1) * _SLOTS // count)
            for cell in range(count)
        ]

    def _most(self, first: int, last: int) -> CellState:
        """How far at least half of some slots has come."""
        last = max(last, first + 1)
        weights = [sum(self._weights[state][first:last]) for state in CellState]
        half, reached = sum(weights) / 2, 0.0
        if weights[CellState.FAILED] >= half:
            return CellState.FAILED
        for state in reversed(CellState):
            if state is not CellState.FAILED:
                reached += weights[state]
                if reached >= half * (1 - 1e-9):
                    return state
        return CellState.WAITING
