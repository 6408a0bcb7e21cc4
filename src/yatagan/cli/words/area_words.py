"""An area in words."""

from __future__ import annotations

from yatagan.cli.terminal import text
from yatagan.config.areas import Area
from yatagan.config.units import spell_duration


def meaning(area: Area) -> str:
    """What an area means for data, in a few words."""
    parts = [
        "" if area.backed_up is None else "backed up" if area.backed_up else "not backed up",
        f"purged after {age(area.purged_after)}" if area.purged_after is not None else "",
        "read-only" if area.read_only else "",
        "shared" if area.shared else "",
        text.show(area.note),
    ]
    return ", ".join(part for part in parts if part)


def age(seconds: float) -> str:
    """`30 days`."""
    days = seconds / 86400
    return text.count(round(days), "day") if days >= 2 and days == round(days) else spell_duration(seconds)
