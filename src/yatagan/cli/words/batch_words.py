"""What a batch is doing, in words: one place for every command."""

from __future__ import annotations

import posixpath
import time
from collections.abc import Mapping
from typing import Any

from yatagan.batches.activity import Activity
from yatagan.batches.counts import BatchCounts
from yatagan.batches.journal import Journal
from yatagan.batches.journal_data import Header
from yatagan.batches.moments import Moment
from yatagan.batches.queueing import Attendance, QueueEntry, WaitsFor
from yatagan.batches.snapshot import Snapshot
from yatagan.batches.states import ENDED, BatchState
from yatagan.batches.time_left import SecondsLeft, Span, Spans, seconds_left
from yatagan.cli.terminal import text
from yatagan.cli.words import fault_words
from yatagan.cli.words.conclusions import conclude_batch
from yatagan.errors import NoPlace
from yatagan.faults import Fault
from yatagan.places import parse_place


def state_words(outcome: BatchCounts, now: Activity) -> str:
    """The state of a batch in one clause."""
    if now.holder is not None:
        return _carried(now)
    if now.state is BatchState.QUEUED:
        return _queued(outcome, now)
    if now.state is BatchState.HELD and now.entry is not None and now.entry.waits_for is WaitsFor.ROOM:
        return _without_room(outcome, now)
    if now.state is BatchState.INTERRUPTED:
        return "interrupted"
    return conclude_batch(outcome).text


def short_state(now: Activity, failed: int) -> str:
    """The state in a word or two, for a table."""
    if now.holder is not None and now.holder.is_stopped:
        return "stopped"
    if now.snapshot is not None and now.snapshot.fault is not None:
        return "reconnects"
    if now.state is BatchState.NEEDS_LOGIN:
        return "needs login"
    if now.state is BatchState.QUEUED and not now.attended:
        return "no worker"
    return f"{text.number(failed)} failed" if now.state is BatchState.FINISHED and failed else now.state.value


def _carried(now: Activity) -> str:
    holder, snapshot = now.holder, now.snapshot
    assert holder is not None
    if not holder.is_here:
        return f"moving on {text.show(holder.host)}, as its lock says"
    if holder.is_stopped:
        return f"moving, but its process {holder.pid} is stopped"
    if snapshot is not None and snapshot.fault is not None:
        return f"moving; {trouble(snapshot)}"
    return "moving now"


def trouble(snapshot: Snapshot) -> str:
    """Why there is no connection, and when the next try is made."""
    assert snapshot.fault is not None
    left = snapshot.again - time.time()
    again = f"in {text.duration(left)}" if left >= 1 else "now"
    return f"{snapshot.said or fault_words.fault(snapshot.fault)}; trying again {again}"


def _queued(outcome: BatchCounts, now: Activity) -> str:
    entry = now.entry
    if not now.attended:
        return f"waits: {no_worker(now.attendance)}"
    retried = entry.retried_at(Moment.now()) if entry is not None else None
    if entry is not None and retried is not None:
        return f"queued, because {_why_waiting(outcome, entry)}; tries again {text.day_time(retried)}"
    return f"queued, {text.count(now.ahead, 'batch', 'batches')} before it" if now.ahead else "queued, the next"


def no_worker(attendance: Attendance) -> str:
    """That nothing will go on by itself, and since when."""
    if attendance.seen is None:
        return "no worker runs"
    return f"no worker runs; the last one did {text.ago(text.timestamp(int(attendance.seen * 1e9)))}"


def _without_room(outcome: BatchCounts, now: Activity) -> str:
    """That a batch waits for free space, and when that is looked at."""
    assert now.entry is not None
    looks = now.entry.retried_at(Moment.now())
    when = f"looks again {text.day_time(looks)}" if looks is not None else "looks again now"
    return f"{conclude_batch(outcome).text}; {when if now.attended else no_worker(now.attendance)}"


def _why_waiting(outcome: BatchCounts, entry: QueueEntry) -> str:
    """Why a batch in the queue is tried at a later time, as a clause."""
    match entry.waits_for:
        case WaitsFor.OTHER_HOST:
            return "another machine has it"
        case WaitsFor.JOURNAL:
            return "its journal could not be read"
        case _:
            return fault_words.fault(outcome.standing.fault or Fault.CONNECTION_LOST)


def goes_on(now: Activity) -> bool:
    """Whether a person can say that it goes on."""
    return not now.is_carried and now.state not in ENDED


def by_itself(now: Activity) -> bool:
    """Whether it goes on, or will, without a person."""
    room = now.entry is not None and now.entry.waits_for is WaitsFor.ROOM
    return now.is_carried or ((now.state is BatchState.QUEUED or room) and now.entry is not None and now.attended)


def sources(header: Header) -> str:
    """What is carried, short: `fen`, `heron:july and 3 more`."""
    path, _ = header.arrivals[0] if header.arrivals else (b"?", b"")
    more = f" and {len(header.arrivals) - 1} more" if len(header.arrivals) > 1 else ""
    name = posixpath.basename(path) or path
    return text.place(header.source_node, name) + more


def destination(header: Header) -> str:
    """Where to, as it was typed if that can be found, such as `heron:campaign`."""
    for word in reversed(header.command):
        try:
            place = parse_place(word)
        except NoPlace:
            continue
        tail = place.path.partition(b"/")[2] if place.path.startswith(b"@") else place.path
        if place.node == header.destination_node and place.node and header.destination.endswith(tail):
            return text.show(word)
    return text.place(header.destination_node, header.destination)


def from_to(header: Header) -> str:
    """`fen → heron:campaign`."""
    return f"{sources(header)} → {destination(header)}"


def left(row: Mapping[str, Any], snapshot: Snapshot | None, journal: Journal) -> SecondsLeft | None:
    """How long a moving batch still takes, by how it went so far; None if that is unknown."""
    if snapshot is None or snapshot.fault is not None:
        return None
    spans = Spans([])
    for seen in journal.pace():
        spans.add(Span(seen.seconds, seen.files, seen.placed))
    under_way = sum(min(each.done, each.size) for each in snapshot.moving.values())
    size = max(0, row["waiting_bytes"] - under_way)
    return seconds_left(spans.spans, row["waiting"], size, journal.header().max_rate)
