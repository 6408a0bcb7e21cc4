"""Verdicts for scripts."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from yatagan.batches.states import Evidence
from yatagan.cli.answers.json_fields import evidence_json
from yatagan.cli.answers.ledger_answer import record_json
from yatagan.operations.verify_request import Against, Verified
from yatagan.places import Place, name_fields
from yatagan.trees.hashing import DigestOrigin
from yatagan.verdicts.scope import StillNotGood
from yatagan.verdicts.verification import Finding, Verdicts


def _evidence(verdicts: Verdicts) -> dict[DigestOrigin | Evidence, int]:
    """How many files are known by which evidence."""
    if not verdicts.contents:
        return {}
    looked = verdicts.files - verdicts.remembered
    return {verdicts.origin: looked, **({Evidence.REMEMBERED: verdicts.remembered} if verdicts.remembered else {})}


def verified_json(found: Verified) -> dict[str, Any]:
    """What a verify has found, for scripts."""
    said = _verdicts_json(found.where, found.against, found.verdicts)
    return {**said, "still_not_good": not_good_json(found.still_not_good), **record_json(found.record)}


def _verdicts_json(where: Place, used: Against, verdicts: Verdicts) -> dict[str, Any]:
    of_list = not (used.batch or used.dataset)
    return {
        "node": where.node,
        **name_fields(where.path or b"."),
        **(name_fields(used.place.path, "against") if of_list else {"against": None}),
        "against_node": used.place.node if of_list else None,
        "good": verdicts.good,
        "contents_good": verdicts.contents_good,
        "evidence": evidence_json(_evidence(verdicts)),
        "facts_checked": verdicts.with_facts,
        "contents_checked": verdicts.contents,
        "time_step_ns": verdicts.step_ns,
        "against_batch": used.batch or None,
        "against_dataset": used.dataset or None,
        "recorded_at": used.recorded[0] or None,
        "remembered": verdicts.remembered,
        "files": verdicts.files,
        "size_bytes": verdicts.size,
        "counts": {finding.value.replace(" ", "_"): verdicts.count(finding) for finding in Finding},
        "entries": [
            {
                **name_fields(found.path),
                "kind": found.kind.value,
                "verdict": found.finding.value,
                "detail": found.detail,
                **(name_fields(found.new_path, "new_path") if found.new_path else {}),
            }
            for found in verdicts.found
            if found.finding is not Finding.SAME
        ],
    }


def not_good_json(not_good: Iterable[StillNotGood]) -> list[dict[str, Any]]:
    """The same for scripts."""
    return [
        {
            "end": each.owner.end,
            **(name_fields(each.path or b".") if each.path is not None else {"path": None}),
            "finding": each.finding or None,
            "more_files": each.more,
            "found_at": each.at,
            "evidence": sorted(each.record.fields.get("evidence", {})),
        }
        for each in not_good
    ]
