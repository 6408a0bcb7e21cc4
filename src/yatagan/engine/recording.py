"""The ledger record of a batch, written once when it is finished."""

from __future__ import annotations

import posixpath
from collections.abc import Mapping
from typing import Any

from yatagan.batches.counts import BatchCounts, outcome_of
from yatagan.batches.journal import Journal
from yatagan.batches.journal_data import Header
from yatagan.batches.states import BatchState
from yatagan.batches.steps import Modes, Times
from yatagan.ledger.ledger import Ledger
from yatagan.ledger.records import MOST_WORDS, RecordedPlace, RecordKind, Statement, time_text
from yatagan.places import name_fields


def record(journal: Journal, ledger: Ledger) -> None:
    """Put a finished batch on record, once, whatever kills us on the way. Raises JournalError.

    The intent is journalled first. After a crash the ledger itself shows whether the record was appended. A ledger that
    cannot be written stops nothing: the record waits.
    """
    outcome = outcome_of(journal)
    if outcome.standing.state is not BatchState.FINISHED:
        return
    name = f"{outcome.header.id}-{outcome.moved}-{outcome.failed}"
    if outcome.standing.recorded == name and ledger.state_of(name) is not None:
        return
    journal.intend_record(name)
    ledger.append(_statement(name, outcome), journal.contents, journal.entry_facts)


def _statement(name: str, outcome: BatchCounts) -> Statement:
    header = outcome.header
    counts = {
        "files": outcome.moved,
        "directories": outcome.directories,
        "directories_above": outcome.above,
        "links": outcome.links,
        "bundles": outcome.bundles,
        "left_as_is": outcome.left,
        "replaced": outcome.replaced,
        "not_carried": outcome.not_carried,
        "newer_there": outcome.newer,
        "facts_set": outcome.facts_set,
        "failed": outcome.failed,
    }
    return staged_statement(
        name,
        "good" if outcome.good else "with failures" if outcome.failed else "newer there",
        header,
        {what: count for what, count in counts.items() if count or what in ("files", "failed")},
        outcome.moved_size,
        {evidence.value: count for evidence, count in sorted(outcome.evidence.items())},
        _last_look(outcome),
    )


def _last_look(outcome: BatchCounts) -> dict[str, Any]:
    """Which directory the destination was at the last look, as far as its machine says, and when that was."""
    standing = outcome.standing
    if not standing.looked_ns:
        return {}
    identity = f"inode {standing.top_inode}" if standing.top_inode else "not known over this connection"
    return {"to_identity": identity, "looked_at": time_text(standing.looked_ns)}


def staged_statement(
    name: str,
    outcome: str,
    header: Header,
    counts: Mapping[str, int],
    size: int = 0,
    evidence: Mapping[str, int] | None = None,
    details: Mapping[str, Any] | None = None,
) -> Statement:
    """What is put on record of a stage: of its batch, or that there was nothing to carry."""
    return Statement(
        name,
        RecordKind.RESTORED if header.purpose.restores else RecordKind.STAGED,
        outcome,
        tuple(RecordedPlace(header.source_node, path) for path, _ in header.arrivals),
        RecordedPlace(header.destination_node, posixpath.normpath(header.destination)),
        counts,
        size,
        evidence or {},
        header.command,
        header.id,
        {**_details(header), **(details or {})},
    )


def _details(header: Header) -> dict[str, Any]:
    """What else a later reader must know: names, and what of the facts did not arrive as it was."""
    names = [name for _, name in header.arrivals]
    own = [posixpath.basename(path) for path, _ in header.arrivals]
    purpose = header.purpose
    return {
        "arrived_as": [name_fields(name) for name in names[:MOST_WORDS]] if names != own else [],
        "project": purpose.project,
        "dataset": purpose.dataset,
        "towards": purpose.towards,
        "from_disk": purpose.disk,
        "modes": header.modes.value if header.modes is not Modes.KEEP else "",
        "times": header.times.value if header.times is not Times.KEEP else "",
    }
