"""The same stage again: what an earlier batch has left, and what becomes of it."""

from __future__ import annotations

import contextlib
from dataclasses import dataclass
from enum import StrEnum

from yatagan.batches.batch_store import Batch, Batches
from yatagan.batches.counts import BatchCounts, outcome_of
from yatagan.batches.journal_data import Header
from yatagan.batches.queue import Queue
from yatagan.batches.said import said, take_back
from yatagan.batches.states import BatchState
from yatagan.config.home import Home
from yatagan.errors import BatchInUse, BatchStopped
from yatagan.planning.plan import Plan
from yatagan.planning.takeover import can_go_on, remove_parts, sync_what_is_there, take_over, unfinished
from yatagan.stores.interface import Store


class EarlierUse(StrEnum):
    """What becomes of an earlier batch."""

    RUNNING = "running"
    GO_ON = "go on"
    TAKE_OVER = "take over"


@dataclass(frozen=True, slots=True)
class Earlier:
    """An unfinished batch with the same ends as a new plan, and its counts."""

    batches: Batches
    batch: Batch
    outcome: BatchCounts

    def use(self, header: Header, plan: Plan) -> EarlierUse:
        """What a stage does with it."""
        if self.batch.is_carried():
            return EarlierUse.RUNNING
        with contextlib.closing(self.batch.journal()) as journal:
            return EarlierUse.GO_ON if can_go_on(journal, header, plan.steps()) else EarlierUse.TAKE_OVER

    def refuse_if_stopped(self) -> None:
        """Raise BatchStopped where a person has stopped it: then only a person says that it goes on."""
        with contextlib.closing(self.batch.journal()) as journal:
            standing = journal.standing()
        held = standing.state is BatchState.HELD and standing.fault is None
        if said(self.batch) is not None or held:
            raise BatchStopped(self.batch.name)

    async def become(self, use: EarlierUse, header: Header, plan: Plan, destination: Store, queue: Queue) -> Batch:
        """The batch to carry, locked by us, and the earlier one out of the queue.

        Raises BatchInUse, JournalError, StoreError.
        """
        if use is EarlierUse.RUNNING:
            raise BatchInUse(self.batch.name, str(self.batch.carrier() or "another process"))
        self.batch.lock()
        queue.remove(self.batch.name)  # only once it is ours: a worker that carries it goes on after a lost line
        take_back(self.batch)
        if use is EarlierUse.GO_ON:
            with contextlib.closing(self.batch.journal()) as journal:
                journal.reopen_failed()
            return self.batch
        try:
            with contextlib.closing(self.batch.journal()) as journal:
                await sync_what_is_there(journal, destination)
                new = self.batches.accept(header, take_over(plan.steps(), journal, plan.chooses), journal)
                with contextlib.closing(new.journal()) as accepted:
                    adopted = frozenset(step.adopts for step in accepted.begun())
                await remove_parts(journal, destination, keep=adopted)
                journal.clear_spool()
            return new
        finally:
            self.batch.unlock()


def find_earlier(home: Home, header: Header) -> Earlier | None:
    """The batch that an earlier stage with the same ends left behind. Raises JournalError."""
    batches = Batches(home.batches)
    batch = unfinished(batches, header)
    if batch is None:
        return None
    with contextlib.closing(batch.journal()) as journal:
        return Earlier(batches, batch, outcome_of(journal))
