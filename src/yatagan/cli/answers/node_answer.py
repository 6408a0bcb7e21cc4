"""Nodes and areas, for scripts."""

from __future__ import annotations

from dataclasses import asdict
from typing import TYPE_CHECKING, Any

from yatagan.cli.answers.json_fields import seconds_at
from yatagan.config.areas import Area

if TYPE_CHECKING:
    from yatagan.keeper.client import KeeperStatus


def area_json(node: str, area: Area) -> dict[str, Any]:
    """An area as JSON."""
    fields = asdict(area)
    seconds = fields.pop("purged_after")
    return {"node": node, **fields, "purged_after_seconds": seconds}


def openness_json(status: KeeperStatus | None) -> dict[str, Any] | None:
    """An open node as JSON."""
    if status is None:
        return None
    return {
        "opened_at": seconds_at(status.since),
        "closes_at": seconds_at(status.until),
        "process": status.pid,
        "batches": list(status.batches),
    }
