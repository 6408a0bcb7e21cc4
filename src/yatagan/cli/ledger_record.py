"""Putting on record what a command has done, and saying so, the same for all commands."""

from __future__ import annotations

import sys
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from yatagan.cli import text
from yatagan.cli.context import App
from yatagan.ledger.appending import Unsigned
from yatagan.ledger.ledger import Contents, OnRecord, record_id
from yatagan.ledger.records import RecordedPlace, RecordKind, Statement

if TYPE_CHECKING:
    from yatagan.batches.counts import BatchCounts

#: Digits of a digest that are shown: enough to pin it on paper.
DIGITS = 32

#: Why a record has no signature, and what to do.
_UNSIGNED = {
    Unsigned.KEY_MISSING: "the key is missing",
    Unsigned.KEY_UNREADABLE: "the key cannot be read",
    Unsigned.NEEDS_TOUCH: "the key needs a touch, and records are written unattended",
    Unsigned.PASS_PHRASE: "the key needs a pass phrase; add it to the agent with ssh-add",
    Unsigned.NO_AGENT: "there is no SSH agent",
    Unsigned.NOT_IN_AGENT: "the SSH agent does not hold the key; add it with ssh-add",
    Unsigned.AGENT_SILENT: "the SSH agent did not answer within 5 s",
    Unsigned.AGENT_REFUSED: "the SSH agent refused",
}


def typed_command() -> tuple[str, ...]:
    """What was typed, word by word."""
    return ("yatagan", *sys.argv[1:])


def put_on_record(
    app: App,
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
    """Put on record what this command has done. A ledger that cannot be written is no error: the record waits."""
    statement = Statement(
        record_id(kind),
        kind,
        outcome,
        origins,
        target,
        counts or {},
        size,
        evidence or {},
        typed_command(),
        details=details or {},
    )
    return app.ledger().append(statement, contents)


def of_batch(app: App, outcome: BatchCounts) -> OnRecord | None:
    """What became of the record of a batch; None before it has one."""
    name = outcome.standing.recorded
    return app.ledger_in(outcome.header.purpose.ledger).state_of(name) if name else None


def record_row(record: OnRecord | None) -> tuple[str, str]:
    """The row of a summary: the digest, to be noted on paper, or that there is none."""
    if record is None:
        return "record", ""
    if record.digest:
        return "record", f"in the ledger, digest {record.digest[:DIGITS]}"
    return "record", "none" if record.lost else "waits, and goes into the ledger with the next one"


def warn_of(record: OnRecord | None) -> None:
    """Warn of a record that is not in the ledger, or not signed though it should be."""
    if record is None:
        return
    if record.lost:
        text.warn(f"this is not on record: {text.show(record.lost)}")
    if record.waits:
        text.warn(f"the record is not in the ledger yet: {text.show(record.waits)}")
    if record.unsigned:
        text.warn(f"the record is not signed: {unsigned_words(record.unsigned)}")


def unsigned_words(why: str) -> str:
    """Why a record has no signature, and what to do."""
    try:
        return _UNSIGNED[Unsigned(why)]
    except ValueError:
        return text.show(why)


def record_json(record: OnRecord | None) -> dict[str, str | None]:
    """Fields for JSON: the record's id and digest, and why it waits, is lost or is not signed."""
    found = record if record is not None else OnRecord("")
    return {
        "ledger_record": found.id or None,
        "ledger_digest": found.digest or None,
        "ledger_waits": found.waits or None,
        "ledger_lost": found.lost or None,
        "ledger_unsigned": found.unsigned or None,
    }
