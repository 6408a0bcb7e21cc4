"""Leaving a batch to a worker: what that needs before, and waiting until it has begun."""

from __future__ import annotations

import asyncio
import contextlib
import time
from collections.abc import Iterable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from yatagan.background.carrying import queue_limits
from yatagan.background.routines import RoutineBook
from yatagan.background.starting import start_worker
from yatagan.batches.activity import Activity
from yatagan.batches.batch_store import Batch
from yatagan.batches.counts import BatchCounts, outcome_of
from yatagan.batches.journal import Journal
from yatagan.batches.log_events import LogConnected, LogQueued
from yatagan.batches.queueing import WaitsFor
from yatagan.batches.states import ENDED, BatchState
from yatagan.desk.desk import Desk
from yatagan.engine.run_log import RunLog, read_events
from yatagan.nodes.outlook import LoginBy, LoginOutlook, look_ahead
from yatagan.stores.local_calls import own_umask

if TYPE_CHECKING:
    from yatagan.keeper.client import KeeperStatus

#: Seconds to wait for a batch to begin, and between looks.
_BEGINNING, _LOOK = 30.0, 0.1


#: How long a node is opened for whose login needs a person, in seconds. What is being carried then is not ended by it.
_OPEN = 8 * 3600.0


@dataclass(frozen=True, slots=True)
class Outlook:
    """How a batch's logins go unattended: by a key, or over an open node."""

    logins: tuple[LoginOutlook, ...]
    opened: tuple[KeeperStatus, ...]


async def prepare_logins(desk: Desk, nodes: Iterable[str]) -> Outlook:
    """See to it that a worker can reach these nodes; one whose login needs a person is opened, by that person.

    Raises CannotReach, also where a person is needed and there is no terminal.
    """
    logins, opened = [], []
    for name in dict.fromkeys(node for node in nodes if node):
        keeper = desk.keeper(name)
        if keeper is not None:
            opened.append(await keeper.status())
            continue
        node = desk.nodes().get(name)
        outlook = await look_ahead(node, desk.home, desk.connection())
        if outlook.by is LoginBy.PERSON:
            from yatagan.keeper.spawn import open_node

            opened.append(await open_node(desk.home, node, time.time() + _OPEN, desk.questions, desk.trusts))
        else:
            logins.append(outlook)
    return Outlook(tuple(logins), tuple(opened))


def leave_to_worker(desk: Desk, batch: Batch, journal: Journal, routine: str = "") -> None:
    """Put a batch whose lock we hold into the queue, let go of it, and start a worker. Raises JournalError.

    `routine`: the routine that made it, or "".
    """
    header = journal.header()
    umask = own_umask()
    if journal.standing().state is not BatchState.QUEUED:
        journal.settle(BatchState.QUEUED)
    RunLog(batch).write(LogQueued())
    desk.queue().add(
        batch.name, [node for node in (header.source_node, header.destination_node) if node], umask, routine
    )
    batch.unlock()
    start_worker(desk.home)


async def begun(desk: Desk, batch: Batch) -> tuple[BatchCounts, Activity]:
    """Wait until a batch moves, or waits for something else than a worker; no longer than a while."""
    until, events, waits = time.monotonic() + _BEGINNING, sum(1 for _ in read_events(batch)), 0
    while True:
        with contextlib.closing(batch.journal()) as journal:
            standing = journal.standing()
            now = desk.activities().of(batch, standing.state)
            waits = waits + 1 if _waits(desk, now) else 0
            # Seen to wait once, it may just have been taken.
            if _has_begun(batch, now, events) or waits > 1 or time.monotonic() > until:
                return outcome_of(journal), now
        await asyncio.sleep(_LOOK)


def _has_begun(batch: Batch, now: Activity, events: int) -> bool:
    """Whether a batch moves, or has ended. Its log had so many `events` when it was queued."""
    if now.is_carried:
        return any(isinstance(event, LogConnected) for _, event in list(read_events(batch))[events:])
    return now.state in ENDED or now.entry is None


def _waits(desk: Desk, now: Activity) -> bool:
    """Whether a batch waits for something else than a worker."""
    if now.is_carried or now.entry is None:
        return False
    return now.entry.waits_for is not WaitsFor.ITS_TURN or not desk.queue().has_more(queue_limits(desk.home))


def attend(desk: Desk) -> bool:
    """Start a worker where something is to be carried or run by itself, and none is alive. Returns whether it did."""
    if desk.queue().is_attended():
        return False
    waiting = desk.queue().has_more(queue_limits(desk.home))
    if waiting or any(not routine.held for routine in RoutineBook.of(desk.home).all()):
        start_worker(desk.home)
        return True
    return False
