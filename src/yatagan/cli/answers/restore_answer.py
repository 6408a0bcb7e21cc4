"""What was lost and found again, for scripts."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from yatagan.places import name_fields
from yatagan.planning.restoring import FoundCopies, Losses


def losses_json(
    name: str, target: bytes, losses: Losses, found: FoundCopies, trouble: Mapping[str, str]
) -> dict[str, Any]:
    """The same for scripts."""
    still = found.still(losses.lost)
    return {
        "name": name,
        **name_fields(target),
        "as_on_record": losses.right,
        "lost": [
            {**name_fields(path), "damaged": facts is not None, "found": path not in set(still)}
            for path, facts in losses.lost.items()
        ],
        "left": [{**name_fields(path), "reason": why.value} for path, why in losses.left.items()],
        "without_digest": [name_fields(path) for path in losses.unproven],
        "sources": [
            {"node": copy.place.node, **name_fields(copy.place.path), "kept": copy.kept, "entries": len(paths)}
            for copy, paths in found.sources.items()
        ],
        "bad_copies": [
            {"node": copy.place.node, **name_fields(copy.place.path, "copy"), **name_fields(path)}
            for copy, path in found.bad
        ],
        "earlier_versions": [
            {
                **name_fields(path),
                "node": found.offers[path].copy.place.node,
                **name_fields(found.offers[path].copy.place.path, "copy"),
                "recorded_at": found.offers[path].version.record.recorded_at,
                "sha256": found.offers[path].version.digest,
            }
            for path in still
            if path in found.offers
        ],
        "not_asked": [{"node": node, "reason": why} for node, why in trouble.items()],
    }
