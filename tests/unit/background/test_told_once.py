"""What a routine finds gone is told once."""

from __future__ import annotations

import asyncio
from pathlib import Path

from yatagan.background.routine_runs import Ended, Planned, RoutineRunner
from yatagan.background.routines import Routine, RoutineBook
from yatagan.background.schedules import parse_at


def test_a_routine_tells_once(tmp_path: Path) -> None:
    """Whether its runs carry something besides or not."""
    told: list[str] = []

    class Listener:
        def routine_trouble(self, routine: Routine, why: str) -> None:
            told.append(why)

        def routine_well(self, routine: Routine) -> None:
            told.append("well")

    plans = [Planned("batch", missed="40 are gone"), Planned(missed="40 are gone"), Planned("batch"), Planned()]
    book = RoutineBook(tmp_path / "routines.db")
    book.put(Routine("fen", ("stage",), "/", parse_at("02:30"), 0.0, 0.0))

    async def plan(routine: Routine) -> Planned:
        return plans.pop(0)

    runner = RoutineRunner(book, plan, lambda batch: Ended(1, 1, ""), Listener())
    for _ in range(4):
        asyncio.run(runner.run(book.get("fen")))
        runner.settle(book.get("fen"))
    assert told == ["40 are gone", "well"]
