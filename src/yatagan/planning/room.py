"""Whether what is to be carried fits where it goes."""

from __future__ import annotations

from yatagan.errors import NoRoom
from yatagan.planning.plan import Plan


def refuse_without_room(plan: Plan, node: str, reserve: int) -> None:
    """Raise NoRoom where less than `reserve` bytes would be left. What is replaced is kept: each file needs its size.

    Nothing is refused where the disk does not say how much is free, or bundles are made whose size is not known.
    """
    needed = plan.summary.size - plan.safe
    if plan.free is None or needed <= 0 or any(arrival.storing for arrival in plan.arrivals):
        return
    if needed + reserve > plan.free:
        raise NoRoom(node, needed, reserve, plan.free)
