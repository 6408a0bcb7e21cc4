"""Resuming a batch: which ones are left, and what is made ready before one is carried."""

from __future__ import annotations

from dataclasses import dataclass

from yatagan.batches.batch_store import Batch, Batches
from yatagan.batches.counts import outcome_of
from yatagan.batches.journal_data import Standing
from yatagan.batches.said import take_back
from yatagan.batches.states import ENDED, BatchState
from yatagan.batches.steps import Prove
from yatagan.desk.desk import Desk
from yatagan.engine.accepted_paths import refuse_moved
from yatagan.engine.recording import record
from yatagan.errors import BatchCancelled, NoSuchBatch
from yatagan.operations.accepted_batch import AcceptedBatch


@dataclass(frozen=True, slots=True)
class ResumeRequest:
    """How a batch is to go on.

    `batch`: its name, or a part that only it has; "" for the newest that is left. `make_again`: a destination that is
    gone is made again, and what was in it is carried again. `prove`: how from now on; None as before. `take_over`: also
    where another host began it, which has gone for good.
    """

    batch: str = ""
    make_again: bool = False
    prove: Prove | None = None
    take_over: bool = False


def find_unfinished(desk: Desk, *, failed: bool = False) -> list[Batch]:
    """The batches that nothing carries and that are not finished, oldest first; with `failed`, or with failed steps.

    One that is in the queue, though it is finished, is among them: its worker ended before it was on record.
    """
    found, activities = list[Batch](), desk.activities()
    queued = {entry.batch for entry in desk.queue().entries()}
    for batch, journal in Batches(desk.home.batches).opened(finished=failed or bool(queued)):
        state = journal.standing().state
        if activities.of(batch, state).is_carried:
            continue
        again = failed and state is BatchState.FINISHED and outcome_of(journal).failed
        if state not in ENDED or again or batch.name in queued:
            found.append(batch)
    return found[::-1]


def find_newest_failed(desk: Desk) -> Batch:
    """The newest batch of which steps have failed. Raises NoSuchBatch."""
    for batch, journal in Batches(desk.home.batches).opened():
        if outcome_of(journal).failed:
            return batch
    raise NoSuchBatch("")


async def resume(desk: Desk, request: ResumeRequest) -> AcceptedBatch:
    """A batch that is ready to be carried, locked by us and out of the queue. Its failed steps are tried again.

    A finished one is only put on record, if it is not yet. Raises NoSuchBatch, BatchInUse, BatchCancelled,
    NoLocks, JournalError, and StoreError where a path that was accepted leads elsewhere by now.
    """
    batches = Batches(desk.home.batches)
    left = [] if request.batch else find_unfinished(desk)
    batch = left[-1] if left else batches.find(request.batch or None)
    batch.lock(take_over=request.take_over)
    try:
        desk.queue().remove(batch.name)  # only once it is ours: a worker that carries it goes on after a lost line
        accepted = AcceptedBatch(desk, batch)
    except BaseException:
        batch.unlock()
        raise
    try:
        await _make_ready(desk, accepted, request)
    except BaseException:
        async with accepted:
            raise
    return accepted


def refuse_cancelled(batch: Batch, standing: Standing) -> None:
    """Raise BatchCancelled for a batch that was cancelled, or whose place another one took."""
    if standing.state is BatchState.CANCELLED:
        raise BatchCancelled(batch.name, standing.detail)


async def _make_ready(desk: Desk, accepted: AcceptedBatch, request: ResumeRequest) -> None:
    outcome, journal = accepted.outcome, accepted.journal
    refuse_cancelled(accepted.batch, outcome.standing)
    if outcome.good and not request.make_again:
        journal.clear_spool()
        record(journal, desk.ledger_in(outcome.header.purpose.ledger))
        return
    await refuse_moved(outcome.header)
    take_back(accepted.batch)
    journal.reopen_failed()
    if request.prove is not None:
        journal.prove_by(request.prove)
    if request.make_again:
        journal.make_again(wanted=True)
