"""Records of the first form, which have a file for each process that wrote any. They are read, and never written.

A record has `id`, `kind`, `time`, `who`, `previous`, a `body`, and under `others` the newest digests of all other
files. What each kind has in its body is brought into the form that records have now.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator
from typing import Any

from yatagan.ledger.records import DIGEST, Record, canonical, digest_of
from yatagan.places import name_fields, name_from

#: Counts of a body, and what only one kind has in it; and those of them that have another name now.
_COUNTS = "files", "bundles", "left", "failed", "different", "missing", "facts_differ", "unreadable", "not_listed"
_DETAILS = (
    *("batch", "command", "list", "against", "against_sha256"),
    *("bundle_bytes", "bundle_sha256", "format", "only", "skip"),
)
_RENAMED = {"left": "left_as_is", "format": "archive"}


def records(file: str, lines: Iterable[bytes]) -> Iterator[Record]:
    """The records of a file; lines that are none are left out."""
    for number, line in enumerate(lines, 1):
        entry = parse(line)
        if entry is not None:
            yield Record(_fields(entry, number), digest_of(line), file)


def parse(line: bytes) -> dict[str, Any] | None:
    """A record as it was written; None if it was not written so."""
    try:
        entry = json.loads(line)
        sound = entry["format"] == 1 and canonical(entry) == line
        sound &= all(isinstance(entry[key], str) for key in ("id", "kind", "time", "who", "previous"))
        sound &= isinstance(entry["body"], dict)
        sound &= all(DIGEST.fullmatch(each) is not None for each in entry["others"].values())
    except (ValueError, KeyError, TypeError, AttributeError, RecursionError):
        return None
    return entry if sound else None


def _fields(entry: dict[str, Any], number: int) -> dict[str, Any]:
    """The fields of a record in the form that they have now."""
    body = entry["body"]
    evidence = body.get("evidence", {})
    counts = {_RENAMED.get(key, key): body[key] for key in _COUNTS if isinstance(body.get(key), int)}
    fields = {
        "format": 1,
        "id": entry["id"],
        "kind": entry["kind"],
        "recorded_at": entry["time"],
        "who": entry["who"],
        "number": number,
        "previous": entry["previous"],
        "outcome": str(body.get("outcome", "")),
        "size_bytes": body.get("bytes", 0),
        "counts": counts,
        "evidence": evidence if isinstance(evidence, dict) else {str(evidence): counts.get("files", 0)},
        **{_RENAMED.get(key, key): body[key] for key in _DETAILS if key in body},
    }
    try:
        fields.update(_places(entry["kind"], body))
    except (KeyError, ValueError, TypeError):
        pass  # written by another program
    return fields


def _places(kind: str, body: dict[str, Any]) -> dict[str, Any]:
    if kind == "staged":
        return {"to": {"node": str(body.get("to", "")), **name_fields(name_from(body, "destination"))}}
    here = {"node": str(body["node"]), **name_fields(name_from(body))}
    if kind == "bundled":
        return {"to": here}
    if kind == "unpacked":
        return {"from": [here], "to": {"node": here["node"], **name_fields(name_from(body, "into"))}}
    return {"from": [here]}
