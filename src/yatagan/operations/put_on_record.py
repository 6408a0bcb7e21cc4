"""Putting on record what was done, the same for all operations."""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from yatagan.batches.counts import BatchCounts
from yatagan.desk.desk import Desk
from yatagan.ledger.ledger import Contents, OnRecord, record_id
from yatagan.ledger.records import RecordedPlace, RecordKind, Statement
from yatagan.spelling import show
from yatagan.trees.patterns import Choice


@dataclass(frozen=True, slots=True)
class Done:
    """What was done, and is to go on record; see `Statement`."""

    kind: RecordKind
    outcome: str
    origins: tuple[RecordedPlace, ...] = ()
    target: RecordedPlace | None = None
    counts: Mapping[str, int] = field(default_factory=dict)
    size: int = 0
    evidence: Mapping[str, int] = field(default_factory=dict)
    details: Mapping[str, Any] = field(default_factory=dict)


def put_on_record(desk: Desk, done: Done, contents: Contents = tuple) -> OnRecord:
    """Put on record what was done. A ledger that cannot be written is no error: the record waits."""
    fields = {each.name: getattr(done, each.name) for each in dataclasses.fields(done)}
    return desk.ledger().append(Statement(record_id(done.kind), **fields, command=desk.command), contents)


def record_of_batch(desk: Desk, outcome: BatchCounts) -> OnRecord | None:
    """What became of the record of a batch; None before it has one."""
    name = outcome.standing.recorded
    return desk.ledger_in(outcome.header.purpose.ledger).state_of(name) if name else None


def patterns_on_record(choice: Choice) -> dict[str, list[str]]:
    """The patterns that chose, for the ledger; empty if everything was chosen."""
    given = {"only": choice.only, "skip": choice.skip}
    return {name: [show(pattern) for pattern in patterns] for name, patterns in given.items() if patterns}
