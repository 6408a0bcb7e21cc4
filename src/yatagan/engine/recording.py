"""The ledger record of a batch, written once when it is finished."""

from __future__ import annotations

import posixpath
from typing import Any

from yatagan.batches.counts import BatchCounts, outcome_of
from yatagan.batches.journal import Journal
from yatagan.batches.states import BatchState
from yatagan.ledger.records import Ledger, RecordKind
from yatagan.places import name_fields


def record(journal: Journal, ledger: Ledger) -> None:
    """Append the record of a finished batch, once, whatever kills us on the way. Raises JournalError.

    The intent is journalled first. After a crash the ledger itself shows whether the record was appended.
    """
    outcome = outcome_of(journal)
    if outcome.standing.state is not BatchState.FINISHED:
        return
    name = f"{outcome.header.id}-{outcome.moved}-{outcome.failed}"
    if outcome.standing.recorded == name and ledger.holds(name):
        return
    journal.intend_record(name)
    ledger.append(name, RecordKind.STAGED, _body(outcome), journal.contents())


def _body(outcome: BatchCounts) -> dict[str, Any]:
    header = outcome.header
    return {
        "batch": header.id,
        "command": list(header.command),
        "from": header.source_node,
        "to": header.destination_node,
        **name_fields(posixpath.normpath(header.destination), "destination"),
        "outcome": "good" if outcome.good else "with failures" if outcome.failed else "newer there",
        "files": outcome.moved,
        "bytes": outcome.moved_size,
        "bundles": outcome.bundles,
        "left": outcome.left,
        "failed": outcome.failed,
        "evidence": {evidence.value: count for evidence, count in sorted(outcome.evidence.items())},
    }
