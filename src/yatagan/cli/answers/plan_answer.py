"""A plan for scripts."""

from __future__ import annotations

from typing import Any

from yatagan.cli.words.caution_words import words_of
from yatagan.operations.earlier_batch import Earlier, EarlierUse
from yatagan.operations.stage import PlannedStage
from yatagan.places import name_fields
from yatagan.planning.plan import Plan

#: Names of what is gone that are given.
_FIRST = 3


def _unkept_json(plan: Plan) -> dict[str, int] | None:
    """What will be lost, as JSON; None where the source could not be asked."""
    found = plan.unkept
    if found is None or not found.known:
        return None
    return {
        "set_ids": plan.set_ids(),
        "hard_links": found.names,
        "access_lists": found.lists,
        "extended_attributes": found.attributes,
    }


def _gone_json(planned: PlannedStage) -> dict[str, Any] | None:
    """What is gone from the source, for scripts; None for nothing."""
    gone = planned.gone
    if gone is None:
        return None
    return {
        "files": gone.files,
        "size_bytes": gone.size,
        "recorded_at": gone.recorded_at,
        "asked_because": gone.why,
        "on_record": planned.gone_accepted,
        "first": [name_fields(path) for path in gone.paths[:_FIRST]],
    }


def plan_json(planned: PlannedStage) -> dict[str, Any]:
    """The plan as JSON."""
    plan, counts = planned.plan, planned.plan.summary
    cautions = [words for caution in planned.cautions if (words := words_of(caution)).text]
    return {
        **name_fields(plan.destination, "destination"),
        "names": [name_fields(arrival.name) for arrival in plan.arrivals],
        "files": counts.files,
        "size_bytes": counts.size,
        "directories": counts.directories,
        "directories_above": counts.above,
        "links": counts.links,
        "bundled_files": plan.travel.files if plan.travel is not None else 0,
        "bundles": [
            {**name_fields(storing.bundle), "files": storing.files, "size_bytes": storing.size, "gone": storing.gone}
            for arrival in plan.arrivals
            for storing in arrival.storing
        ],
        "left_as_is": counts.left,
        "left_as_is_bytes": counts.left_size,
        "left_by_digest": counts.looked_into,
        "left_by_digest_remembered": counts.remembered,
        "skipped": counts.skipped,
        "still_written": [name_fields(name) for name in plan.unsettled],
        "replace": counts.replaced,
        "facts_of_files": counts.facts_of_files,
        "facts_of_directories": counts.facts_of_directories,
        "in_part": counts.in_part,
        "in_part_bytes": counts.in_part_size,
        "growing": counts.growing,
        "growing_bytes": counts.growing_size,
        "growing_there_bytes": counts.growing_there,
        "not_carried": counts.not_carried,
        "in_the_way": counts.in_the_way,
        "name_clashes": counts.clashes,
        "newer_there": counts.newer,
        "gone": _gone_json(planned),
        "unreadable": counts.unread,
        "not_kept": _unkept_json(plan),
        "free_bytes": plan.free,
        "begun": earlier_json(planned.earlier, planned.use),
        "proof": planned.header.promised,
        "expected_seconds": round(plan.expectation.seconds, 1) if plan.expectation is not None else None,
        "cautions": [{"about": caution.label, "text": caution.text} for caution in cautions],
    }


def earlier_json(earlier: Earlier | None, use: EarlierUse | None) -> dict[str, Any] | None:
    """An earlier batch as JSON."""
    if earlier is None or use is None:
        return None
    outcome = earlier.outcome
    return {"batch": earlier.batch.name, "use": use, "in_place": outcome.moved, "safe_bytes": outcome.safe}
