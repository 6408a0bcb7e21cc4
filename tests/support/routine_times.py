"""Times of the survey's routines."""

from __future__ import annotations

import asyncio
from datetime import datetime
from zoneinfo import ZoneInfo

from yatagan.background.routine_runs import RoutineRunner

ZONE = ZoneInfo("Europe/Vienna")


#: A Saturday before summer time begins, and an hour and a day in seconds.
START, HOUR, DAY = datetime(2026, 3, 28, 12, tzinfo=ZONE).timestamp(), 3600.0, 86400.0


def look(runner: RoutineRunner) -> float | None:
    """A look at all routines, and what it begins."""

    async def work() -> float | None:
        again = runner.tick()
        await runner.finish()
        return again

    return asyncio.run(work())
