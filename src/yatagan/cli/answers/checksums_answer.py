"""A checksum list that was written, for scripts."""

from __future__ import annotations

from typing import Any

from yatagan.cli.answers.json_fields import evidence_json
from yatagan.cli.answers.ledger_answer import record_json
from yatagan.operations.checksums import ListMade
from yatagan.places import name_fields


def list_json(made: ListMade) -> dict[str, Any]:
    """A list that was written."""
    assert made.target is not None
    return {
        "node": made.where.node,
        **name_fields(made.root),
        "files": made.files,
        "size_bytes": made.size,
        "evidence": evidence_json({made.origin: made.files}),
        "outcome": made.outcome,
        **name_fields(made.target.path, "list"),
        "list_node": made.target.node,
        **record_json(made.record),
    }
