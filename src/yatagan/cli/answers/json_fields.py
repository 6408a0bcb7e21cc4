"""What the JSON answers of several commands are made of: evidence, times, and the fields of a batch.

Times are RFC 3339 in keys that end in `_at`, durations end in `_seconds`, sizes in `_bytes`; every other number is a
count. A path is under `path`, or under `path_b64` where it is not UTF-8.
"""

from __future__ import annotations

from collections.abc import Mapping
from math import inf
from typing import Any, TypeVar

from yatagan.background.notices import Delivery
from yatagan.batches.activity import Activity
from yatagan.batches.counts import BatchCounts
from yatagan.batches.moments import Moment
from yatagan.batches.steps import Step
from yatagan.batches.time_left import SecondsLeft
from yatagan.cli.terminal.text import timestamp
from yatagan.places import name_fields

E = TypeVar("E", bound=str)


def evidence_json(counts: Mapping[E, int]) -> dict[str, int]:
    """How many files are known by which evidence: `{"on-node": 1489}`."""
    return {str(evidence): count for evidence, count in sorted(counts.items()) if count}


def seconds_at(seconds: float | None) -> str | None:
    """A time in seconds since the epoch, by RFC 3339; None where there is none."""
    return timestamp(round(seconds) * 1_000_000_000) if seconds is not None else None


def batch_json(outcome: BatchCounts, now: Activity | None = None) -> dict[str, Any]:
    """A batch, and what it is doing `now`; without that, as its journal says."""
    header, standing = outcome.header, outcome.standing
    now = now or Activity(standing.state)
    return {
        "batch": header.id,
        "good": outcome.good,
        "reason": standing.fault,
        **now_json(now),
        "command": list(header.command),
        "made_at": timestamp(header.created_ns),
        "from_node": header.source_node,
        "sources": [name_fields(path) for path, _ in header.arrivals],
        "to_node": header.destination_node,
        **name_fields(header.destination, "destination"),
        "files": outcome.files,
        "in_place": outcome.moved,
        "in_place_bytes": outcome.moved_size,
        "left_as_is": outcome.left,
        "left_as_is_bytes": outcome.left_size,
        "waiting": outcome.waiting,
        "waiting_bytes": outcome.waiting_size,
        "safe_bytes": outcome.safe,
        "failed": outcome.failed,
        "failed_files": outcome.failed_files,
        "not_carried": outcome.not_carried,
        "newer_there": outcome.newer,
        "replaced": outcome.replaced,
        "facts_set": outcome.facts_set,
        "facts_refused": outcome.facts_refused,
        "directories": outcome.directories,
        "directories_above": outcome.above,
        "links": outcome.links,
        "bundles": outcome.bundles,
        "bundles_bytes": outcome.bundles_size,
        "sent_bytes": outcome.sent,
        "sent_again_bytes": outcome.again,
        "reused_bytes": outcome.reused,
        "zeros_bytes": outcome.holes,
        "evidence": evidence_json(outcome.evidence),
        "moving_seconds": round(standing.seconds, 3),
        "expected_seconds": round(header.expected_seconds, 1) or None,
        "ledger_record": standing.recorded or None,
    }


def now_json(now: Activity) -> dict[str, Any]:
    """What a batch is doing at this moment."""
    return {
        "state": now.state.value,
        "carried_now": now.is_carried,
        "carrier": {"process": now.holder.pid, "host": now.holder.host} if now.holder is not None else None,
        "rate_bytes_per_second": round(now.snapshot.rate) if now.snapshot is not None else None,
        "queue": _queue_json(now),
    }


def _queue_json(now: Activity) -> dict[str, Any] | None:
    """Where a batch is in the queue; None if it is not in it."""
    entry = now.entry
    if entry is None:
        return None
    return {
        "ahead": now.ahead,
        "waits_for": entry.waits_for.value or None,
        "retry_at": seconds_at(entry.retried_at(Moment.now())),
        "failures": entry.failures,
    }


def step_json(step: Step, state: str) -> dict[str, Any]:
    """One step of a batch, with its state in words."""
    return {
        "step": step.number,
        "kind": step.kind.value,
        **name_fields(step.label),
        "size_bytes": step.facts.size,
        "state": state,
        "reason": step.fault,
        "detail": step.detail,
        "evidence": evidence_json({step.evidence: 1} if step.evidence is not None else {}),
    }


def left_json(left: SecondsLeft | None) -> dict[str, float | None]:
    """The time left for scripts: about how much, where that is known, and the least and the most."""
    about = left.about if left is not None else None
    return {
        "left_seconds": round(about, 1) if about is not None else None,
        "left_least_seconds": round(left.least, 1) if left is not None else None,
        "left_most_seconds": round(left.most, 1) if left is not None and left.most < inf else None,
    }


def delivery_json(delivery: Delivery) -> dict[str, object]:
    """The same as JSON."""
    return {"way": delivery.way, "to": delivery.to, "sent": not delivery.why, "why_not": delivery.why or None}
