"""Why a run waits, or ends before all is done, and what is said of it."""

from __future__ import annotations

import os
from dataclasses import dataclass, field

from yatagan.batches.journal_data import Standing
from yatagan.errors import CannotReach, StoreError
from yatagan.faults import DESTINATION_FAULTS, Fault
from yatagan.stores.interface import Readable


@dataclass(slots=True)
class RunTrouble:
    """What has gone wrong so far.

    `problem`: why the last try to connect failed. `stopped_by`: what befalls all steps. `free`: bytes that were free at
    the destination when they were too few. `was_full` and `was_elsewhere`: whether the run before this one ended since
    the disk was full, or another directory had the destination's name.
    `said`: what the system or a server said of steps that came back, by their numbers.
    """

    was_full: bool = False
    was_elsewhere: bool = False
    problem: CannotReach | None = None
    stopped_by: StoreError | None = None
    free: int | None = None
    said: dict[int, str] = field(default_factory=dict)

    @classmethod
    def after(cls, standing: Standing) -> RunTrouble:
        """What a run begins with, by how the one before it ended."""
        return cls(standing.fault is Fault.NO_SPACE, standing.fault in DESTINATION_FAULTS)

    async def look_at_space(self, store: Readable, path: bytes) -> None:
        """Note how much is free there. Raises StoreError."""
        self.free = await store.free_space(path)

    def detail(self, fault: Fault | None) -> str:
        """What is written down of a fault that ended the run."""
        if fault is Fault.NO_SPACE:
            return "" if self.free is None else str(self.free)
        if self.stopped_by is not None and fault is self.stopped_by.fault:
            return os.fsdecode(self.stopped_by.path)
        return str(self.problem.detail) if self.problem else ""
