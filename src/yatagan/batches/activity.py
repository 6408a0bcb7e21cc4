"""What a batch is doing at this moment: what journal, lock and queue say together. Looking changes nothing."""

from __future__ import annotations

from dataclasses import dataclass, field
from itertools import accumulate

from yatagan.batches.batch_store import Batch
from yatagan.batches.locks import Holder
from yatagan.batches.queue import Queue
from yatagan.batches.queueing import Attendance, QueueEntry
from yatagan.batches.snapshot import Snapshot, read_snapshot
from yatagan.batches.states import CARRIED, ENDED, BatchState


@dataclass(frozen=True, slots=True)
class Activity:
    """What a batch is doing.

    `state`: as it is; the journal of a process that has died says still that it moves. `holder`: the process that
    carries it, if one does. `entry`: its place in the queue, `ahead` of which so many others wait. `attendance`:
    whether a worker is alive, and comes to it in its turn.
    """

    state: BatchState
    holder: Holder | None = None
    entry: QueueEntry | None = None
    ahead: int = 0
    attendance: Attendance = field(default_factory=lambda: Attendance(attended=False))
    snapshot: Snapshot | None = None

    @property
    def attended(self) -> bool:
        """Whether a worker comes to it in its turn."""
        return self.attendance.attended

    @property
    def is_carried(self) -> bool:
        """Whether a process carries it now, here or on another host."""
        return self.holder is not None


class Activities:
    """Tells what batches are doing. Raises JournalError where the queue cannot be read."""

    def __init__(self, queue: Queue) -> None:
        self._entries = queue.entries()
        self._attendance = queue.attendance() if self._entries else Attendance(attended=False)
        self._at = {entry.batch: at for at, entry in enumerate(self._entries)}
        working = (entry.worker is not None and entry.worker.is_alive for entry in self._entries)
        #: How many of the entries before each are carried by no process yet.
        self._ahead = [0, *accumulate(not each for each in working)]

    def of(self, batch: Batch, state: BatchState) -> Activity:
        """What a batch is doing whose journal says this state."""
        at = self._at.get(batch.name)
        entry = self._entries[at] if at is not None else None
        holder = batch.carrier()
        if holder is not None:
            return Activity(BatchState.MOVING, holder, entry, snapshot=read_snapshot(batch.snapshot_file))
        if state in CARRIED or state is BatchState.INTERRUPTED:
            # In the queue it goes on by itself, whatever its last process came to write.
            state = BatchState.INTERRUPTED if entry is None else BatchState.QUEUED
        elif state in ENDED:
            entry = None  # its worker is about to take it out of the queue
        ahead = self._ahead[at] if entry is not None and at is not None else 0
        return Activity(state, None, entry, ahead, self._attendance)
