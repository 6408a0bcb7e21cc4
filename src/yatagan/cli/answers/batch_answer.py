"""A batch at the end of its run, for scripts."""

from __future__ import annotations

from typing import Any

from yatagan.batches.counts import BatchCounts
from yatagan.cli.answers.json_fields import batch_json
from yatagan.cli.answers.ledger_answer import record_json
from yatagan.desk.desk import Desk
from yatagan.operations.put_on_record import record_of_batch


def ended_json(desk: Desk, outcome: BatchCounts) -> dict[str, Any]:
    """A batch at the end of a run, and what became of its record."""
    return {**record_json(record_of_batch(desk, outcome)), **batch_json(outcome)}
