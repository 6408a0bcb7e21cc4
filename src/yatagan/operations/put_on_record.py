"""Putting on record what was done, the same for all operations."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from yatagan.batches.counts import BatchCounts
from yatagan.desk.desk import Desk
from yatagan.ledger.ledger import Contents, OnRecord, record_id
from yatagan.ledger.records import RecordedPlace, RecordKind, Statement
from yatagan.spelling import show
from yatagan.trees.patterns import Choice


def put_on_record(
    desk: Desk,
    kind: RecordKind,
    outcome: str,
    *,
    origins: tuple[RecordedPlace, ...] = (),
    target: RecordedPlace | None = None,
    counts: Mapping[str, int] | None = None,
    size: int = 0,
    evidence: Mapping[str, int] | None = None,
    details: Mapping[str, Any] | None = None,
    contents: Contents = tuple,
) -> OnRecord:
    """Put on record what was done. A ledger that cannot be written is no error: the record waits."""
    statement = Statement(
        record_id(kind),
        kind,
        outcome,
        origins,
        target,
        counts or {},
        size,
        evidence or {},
        desk.command,
        details=details or {},
    )
    return desk.ledger().append(statement, contents)


def record_of_batch(desk: Desk, outcome: BatchCounts) -> OnRecord | None:
    """What became of the record of a batch; None before it has one."""
    name = outcome.standing.recorded
    return desk.ledger_in(outcome.header.purpose.ledger).state_of(name) if name else None


def patterns_on_record(choice: Choice) -> dict[str, list[str]]:
    """The patterns that chose, for the ledger; empty if everything was chosen."""
    given = {"only": choice.only, "skip": choice.skip}
    return {name: [show(pattern) for pattern in patterns] for name, patterns in given.items() if patterns}
