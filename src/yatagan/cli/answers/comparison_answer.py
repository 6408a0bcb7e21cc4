"""Two places side by side, for scripts."""

from __future__ import annotations

from typing import Any

from yatagan.cli.terminal import text
from yatagan.operations.compare_places import Sides
from yatagan.places import name_fields
from yatagan.trees.scan import Tree
from yatagan.verdicts.comparison import Compared, Comparison, Outcome, TreeTotals


def comparison_json(comparison: Comparison, sides: Sides) -> dict[str, Any]:
    """The comparison for scripts."""
    trees = comparison.first, comparison.second
    totals = TreeTotals.of(comparison.first), TreeTotals.of(comparison.second)
    first, second = (
        {
            "node": place.node,
            **name_fields(place.path or b"."),
            "files": total.files,
            "size_bytes": total.size,
            "directories": total.directories,
            "links": total.links,
            "other_kinds": total.others,
            "digests_made": origin.value if comparison.by_digest else None,
            "dropped": tree.dropped,
        }
        for place, total, origin, tree in zip(sides.places, totals, sides.origins, trees, strict=True)
    )
    return {
        "first": first,
        "second": second,
        "same": comparison.same,
        "contents_same": comparison.contents_same,
        "by": "digest" if comparison.by_digest else "size-and-time",
        "time_step_ns": comparison.step_ns,
        "totals_agree": totals[0] == totals[1],
        "outcomes": {
            outcome.value.replace(" ", "_"): {
                "count": comparison.counts[outcome],
                "size_bytes": comparison.sizes[outcome],
            }
            for outcome in Outcome
        },
        "entries": [_entry_json(comparison, entry) for entry in comparison.entries],
    }


def _entry_json(comparison: Comparison, entry: Compared) -> dict[str, Any]:
    """One entry that is not the same."""
    second = entry.new_path or entry.path
    return {
        **name_fields(entry.path),
        **(name_fields(entry.new_path, "new_path") if entry.new_path else {}),
        "outcome": entry.outcome.value.replace(" ", "_"),
        "differs": [aspect.value for aspect in entry.aspects],
        "reason": entry.fault,
        "first": _facts_json(comparison.first, entry.path),
        "second": _facts_json(comparison.second, second),
    }


def _facts_json(tree: Tree, path: bytes) -> dict[str, Any] | None:
    facts = tree.entries.get(path)
    if facts is None:
        return None
    target = name_fields(tree.targets[path], "target") if path in tree.targets else {}
    return {
        "kind": facts.kind.value,
        "size_bytes": facts.size,
        "modified_at": text.timestamp(facts.mtime_ns),
        "mode": f"{facts.mode:04o}",
        **target,
    }
