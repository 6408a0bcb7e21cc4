"""Records of the ledger, and what a check has found, for scripts."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from yatagan.ledger.directory import LedgerDirectory
from yatagan.ledger.findings import Checked, LedgerFinding
from yatagan.ledger.ledger import OnRecord

if TYPE_CHECKING:
    pass


def finding_json(finding: LedgerFinding) -> dict[str, Any]:
    """A finding for scripts."""
    return {
        "file": finding.file or None,
        "problem": finding.problem.value.replace(" ", "_"),
        "first": finding.first or None,
        "last": finding.last or None,
        "line": finding.line or None,
        "record": finding.id or None,
        "detail": finding.detail or None,
        "witness_file": (finding.witness.file or "this machine") if finding.witness is not None else None,
        "witness_record": finding.witness.number or None if finding.witness is not None else None,
    }


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


def checked_json(files: LedgerDirectory, checked: Checked) -> dict[str, Any]:
    """What a check of a ledger has found."""
    return {
        "directory": str(files.path),
        "good": checked.good,
        "records": checked.records,
        "lists": checked.lists,
        "findings": [finding_json(each) for each in checked.findings],
        "signed_by": checked.signers,
        "signed_by_unknown": checked.unknown,
        "not_signed": checked.unsigned,
        "files": [
            {"file": end.file, "records": end.records, "seen_to": end.seen, "signed_to": end.signed}
            for end in checked.ends
        ],
        "forks_accepted": [
            {"writer": fork.writer, "record": fork.number, "accepted_by": who} for fork, who in checked.forks.items()
        ],
        "skipped": [{"name": each.name, "what": each.what} for each in checked.strange],
        "lines_not_read": [{"file": name, "line": line} for name, line in checked.odd_lines],
        "newest_digest": checked.newest[1] or None,
    }
