"""Routines: when they are due, whatever the clock does, and what a thousand runs leave behind."""

from __future__ import annotations

import asyncio
import contextlib
import os
import random
from collections.abc import Callable
from dataclasses import replace
from datetime import datetime
from itertools import pairwise
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from routine_times import DAY, HOUR, START, ZONE, look
from yatagan.background.following import Follower
from yatagan.background.routine_decisions import LOOK, Act, RoutineStanding, next_due
from yatagan.background.routine_decisions import look as decide
from yatagan.background.routine_runs import Ended, Planned, RoutineRunner
from yatagan.background.routines import Routine, RoutineBook, RunOutcome
from yatagan.background.schedules import DailyAt, Every, OnChange, Schedule, parse_at, parse_every, read_schedule
from yatagan.background.worker import Worker
from yatagan.batches.batch_store import Batches
from yatagan.batches.journal import Journal
from yatagan.batches.journal_data import Header
from yatagan.batches.locks import Holder
from yatagan.batches.moments import Moment
from yatagan.batches.queue import Queue
from yatagan.batches.steps import Prove
from yatagan.engine.executor import Conditions, Executor
from yatagan.planning import planner
from yatagan.planning.planner import PlanWish, make_plan
from yatagan.stores.local import LocalSource, LocalStore


def daily(hour: int, minute: int) -> DailyAt:
    """Every day at a time in a zone that has summer time."""
    return DailyAt(
        hour,
        minute,
        lambda instant: datetime.fromtimestamp(instant, ZONE).replace(tzinfo=None),
        lambda local: local.replace(tzinfo=ZONE).timestamp(),
    )


def dues(schedule: Schedule, first: float, until: float) -> list[float]:
    """When it is due, one after the other, of a clock that runs as it should."""
    found = [first]
    while (after := next_due(schedule, found[-1], found[-1])) < until:
        found.append(after)
    return found[1:]


def test_a_night_without_the_time_and_one_with_it_twice() -> None:
    def shown(first: float) -> list[str]:
        return [
            datetime.fromtimestamp(due, ZONE).strftime("%d %H:%M %z")
            for due in dues(daily(2, 30), first, first + 3 * DAY)
        ]

    assert shown(START) == ["29 03:30 +0200", "30 02:30 +0200", "31 02:30 +0200"]
    autumn = datetime(2026, 10, 24, 12, tzinfo=ZONE).timestamp()
    assert shown(autumn) == ["25 02:30 +0200", "26 02:30 +0100", "27 02:30 +0100"]


@given(last=st.floats(0, 1e6), now=st.floats(0, 1e6), seconds=st.floats(10, 1e5))
def test_what_was_missed_is_due_once(last: float, now: float, seconds: float) -> None:
    every = Every(seconds)
    due = every.after(last, now)
    assert due > min(last, now) and (due <= now or due <= min(last, now) + seconds + 1e-3)
    after = next_due(every, min(last, now), now)
    assert now < after <= now + seconds + 1e-3
    steps = (after - min(last, now)) / seconds
    assert abs(steps - round(steps)) * seconds < 1e-3, "it keeps its beat, however late it was seen"
    assert next_due(OnChange(), min(last, now), now) == now + HOUR


def test_what_is_typed() -> None:
    assert parse_every("15min") == parse_every("15m") == Every(900.0)
    assert str(parse_every("90s")) == "every 90s" and read_schedule("every 90s") == Every(90.0)
    assert str(parse_at("2:30")) == "at 02:30" and read_schedule("at 02:30") == DailyAt(2, 30)
    for read, text in ((parse_every, "3s"), (parse_every, "soon"), (parse_at, "25:00"), (parse_at, "2.30")):
        with pytest.raises(ValueError):
            read(text)


class World:
    """A directory that lives, a destination, and a clock that anybody may put back and forth."""

    def __init__(self, root: Path, monkeypatch: pytest.MonkeyPatch) -> None:
        self.now = START
        self.here, self.there = root / "here", root / "there"
        self.here.mkdir()
        self.there.mkdir()
        self.told: list[str] = []
        self.away = False
        self.going_on = 0
        self.rng = random.Random(11)
        self.settled: dict[str, bytes] = {}
        self._counts: dict[str, tuple[int, int]] = {}
        monkeypatch.setattr(planner, "opened_for_writing", frozenset)

        async def clock_ns(store: LocalStore) -> int:
            return int(self.now * 1e9)

        monkeypatch.setattr(LocalStore, "clock_ns", clock_ns)

    async def plan(self, routine: Routine) -> Planned:
        """A run, in this process."""
        if self.away:
            return Planned(failure="heron cannot be reached")
        ends = LocalSource(b"/"), LocalSource(b"/")
        stores = await ends[0].open(), await ends[1].open()
        there = os.fsencode(self.there)
        plan = await make_plan(*stores, [(os.fsencode(self.here), b"fen")], there, PlanWish(unchanged_for=120.0))
        if not plan.summary.anything:
            return Planned()
        batch = f"batch-{len(self._counts)}"
        header = Header(batch, 0, ("stage",), "", "", there, Prove.NONE)
        journal = Journal.in_memory(header, plan.steps())
        await Executor(journal, *ends, lambda event: None, Conditions(clock=self)).run()
        journal.close()
        self._counts[batch] = plan.summary.files, plan.summary.size
        self.going_on = self.rng.choice([0, 0, 0, 1, 3])
        return Planned(batch)

    def ended(self, batch: str) -> Ended | None:
        if self.going_on > 0:
            self.going_on -= 1
            return None
        return Ended(*self._counts[batch])

    def monotonic(self) -> float:
        return self.now

    async def sleep(self, seconds: float) -> None:
        self.now += seconds
        await asyncio.sleep(0)

    def routine_trouble(self, routine: Routine, why: str) -> None:
        self.told.append(f"trouble: {why}")

    def routine_well(self, routine: Routine) -> None:
        self.told.append("well")

    def write(self, name: str, data: bytes, when: float) -> None:
        """A file is written at a time; its change time cannot be made up, so it is left out of what is looked at."""
        (self.here / name).write_bytes(data)
        os.utime(self.here / name, (when, when))

    def live(self) -> None:
        """Something happens to the files."""
        deed = self.rng.random()
        names = sorted(os.listdir(self.here))
        if deed < 0.35 or not names:
            self.write(f"{len(self.settled)}-{self.rng.randrange(10**6)}.csv", self.rng.randbytes(20), self.now)
        elif deed < 0.6:
            name = self.rng.choice(names)
            with contextlib.suppress(FileNotFoundError):
                self.write(name, (self.here / name).read_bytes() + b"more", self.now)
        elif deed < 0.65:
            (self.here / self.rng.choice(names)).unlink()


def by_the_wall(world: World) -> Callable[[], Moment]:
    """The clock of a machine that is restarted between any two looks: only the wall's is left."""
    return lambda: Moment(world.now, "", 0.0)


def play(world: World, book: RoutineBook, runs: int, jump: Callable[[int], float]) -> None:
    runner = RoutineRunner(book, world.plan, world.ended, world, by_the_wall(world))
    for number in range(runs):
        world.live()
        world.now += jump(number)
        world.away = 40 < number % 250 < 48
        before = {name: (world.here / name).read_bytes() for name in os.listdir(world.here)}
        ages = {name: world.now - (world.here / name).stat().st_mtime for name in before}
        last = next(iter(book.runs("fen", 1)), None)
        look(runner)
        ran = next(iter(book.runs("fen", 1)), None)
        if ran is None or world.away or (last is not None and ran.number == last.number):
            continue
        there = world.there / "fen"
        for name, data in before.items():
            if (there / name).exists() and (there / name).stat().st_mtime > (world.here / name).stat().st_mtime:
                continue  # written before the clock was put back: it is newer there, and stays
            if not 0 <= ages[name] < 120:
                assert (there / name).read_bytes() == data, f"{name} has settled, and is not there"
            elif (there / name).exists():
                assert (there / name).read_bytes() != data or ages[name] == 0, f"{name} has not settled"


@pytest.mark.parametrize("count", [80, pytest.param(1000, marks=pytest.mark.soak)])
@pytest.mark.parametrize("schedule", [Every(900.0), daily(2, 30)], ids=str)
def test_many_runs(schedule: Schedule, count: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Files appear, grow and vanish; the clock jumps a day back and forth; some runs take longer than their time."""
    monkeypatch.setattr("yatagan.planning.unsettled._CHANGE_TIMES", False)
    world, book = World(tmp_path, monkeypatch), RoutineBook(tmp_path / "routines" / "here.db")
    book.put(Routine("fen", ("stage",), "/", schedule, 0.0, world.now, due=world.now))
    step = schedule.seconds if isinstance(schedule, Every) else DAY

    def jump(number: int) -> float:
        if number % 97 == 50:
            return -DAY
        if number % 89 == 40:
            return 1.5 * DAY
        return world.rng.choice([0.1, 0.5, 1.0, 1.0, 2.5]) * step

    play(world, book, count, jump)
    runs = book.runs("fen")
    assert {run.outcome for run in runs} >= {RunOutcome.MOVED, RunOutcome.FAILED}
    assert sum(run.left_out for run in runs) > 5 and len(runs) > count / 3
    assert all(run.ended for run in runs[:-1]), "it never overlaps itself"
    # Told once when it breaks, and once when it is well again.
    assert world.told and all(first[:4] != second[:4] for first, second in pairwise(world.told))


def test_held_and_over(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    world, book = World(tmp_path, monkeypatch), RoutineBook(tmp_path / "routines" / "here.db")
    book.put(Routine("fen", ("stage",), "/", Every(900.0), START + HOUR, START, due=START))
    runner = RoutineRunner(book, world.plan, world.ended, world, by_the_wall(world))
    book.change("fen", held=True)
    assert look(runner) is None and not book.runs("fen")
    book.change("fen", held=False)
    assert look(runner) is not None and len(book.runs("fen")) == 1
    world.now, world.going_on = START + 60, 0
    assert look(runner) == LOOK, "it is not due, and nothing else calls for a look"
    world.now, world.going_on = START + 2 * HOUR, 0
    assert look(runner) is None and len(book.runs("fen")) == 1
    dead = replace(Holder.this_process(), pid=1_000_001)
    number = book.begin("fen", world.now, dead)  # and the process died while it planned
    assert number is not None
    world.now = START + 1.0
    look(runner)
    assert {run.number: run.outcome for run in book.runs("fen")}[number] is RunOutcome.BROKEN_OFF


def test_a_change_that_cannot_be_followed(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    world, book = World(tmp_path, monkeypatch), RoutineBook(tmp_path / "routines" / "here.db")
    told: list[bool | None] = []
    routine = Routine("fen", ("stage",), "/", OnChange(), 0.0, START, due=START, sources=("/here",), settles=120.0)
    book.put(routine)
    runner = RoutineRunner(book, world.plan, world.ended, world, by_the_wall(world), lambda name, sources: told.pop())

    def tick(after: float, answer: bool | None) -> int:
        world.now += after
        world.going_on = 0
        told[:] = [answer]
        look(runner)
        return len(book.runs("fen"))

    assert tick(0, False) == 1
    assert tick(30, False) == 1 and tick(600, False) == 1  # nothing has changed
    assert tick(10, True) == 1 and tick(100, False) == 1  # it has not settled
    assert tick(30, False) == 2
    assert tick(30, None) == 2 and tick(61, None) == 3  # from here on nothing is told: looks
    assert tick(4000, False) == 4  # even so, a look now and then


@given(
    changes=st.lists(st.floats(0, 600), min_size=1, max_size=6),
    lengths=st.lists(st.floats(0.1, 400), min_size=8, max_size=8),
    settles=st.sampled_from([0.0, 1.0, 120.0]),
)
def test_a_change_is_followed_by_a_run_however_long_the_last_one_takes(
    changes: list[float], lengths: list[float], settles: float
) -> None:
    """No change waits for the look that comes even so, an hour later."""
    now, told, ends, begun = 0.0, 0.0, 0.0, list[float]()
    standing = RoutineStanding(OnChange(), 0.0, Moment(START, "boot", 0.0), settles=settles)
    while now < 1500:
        moment = Moment(START + now, "boot", now)
        changed = any(told <= change < now for change in changes)
        found = decide(standing, going_on=now < ends, changed=changed, now=moment)
        told = now
        if found.due != standing.due:
            standing = replace(standing, due=found.due, since=moment)
        if found.act is Act.RUN:
            begun.append(now)
            ends = now + lengths[len(begun) % len(lengths)]
        assert found.again is not None and found.again <= 2
        now += max(found.again, 0.5)
    last = max(changes)
    assert any(last <= begin <= last + settles + max(lengths) + 25 for begin in begun), begun


def test_what_is_followed(tmp_path: Path) -> None:
    async def follow() -> list[bool | None]:
        follower = Follower()
        here = str(tmp_path)
        found = [follower.changed("fen", (here,)), follower.changed("fen", ("",)), follower.changed("x", ("/none",))]
        await asyncio.sleep(1.0)
        found.append(follower.changed("fen", (here,)))
        (tmp_path / "new").write_text("x")
        for _ in range(100):
            await asyncio.sleep(0.05)
            if changed := follower.changed("fen", (here,)):
                break
        await follower.close()
        return [*found, changed]

    assert asyncio.run(follow()) == [True, None, None, False, True]


def test_a_directory_that_was_away_is_followed_again(tmp_path: Path) -> None:
    async def follow() -> list[bool | None]:
        follower, here = Follower(), tmp_path / "here"
        here.mkdir()

        async def seen() -> bool | None:
            for _ in range(100):
                await asyncio.sleep(0.05)
                if changed := follower.changed("fen", (str(here),)):
                    return changed
            return False

        found = [follower.changed("fen", (str(here),))]
        here.rename(tmp_path / "away")
        found.append(follower.changed("fen", (str(here),)))
        here.mkdir()
        found.append(follower.changed("fen", (str(here),)))
        await asyncio.sleep(1.0)
        (here / "new").write_text("x")
        found.append(await seen())
        await follower.close()
        return found

    assert asyncio.run(follow()) == [True, None, True, True]


class Told:
    """Hears of routines."""

    def __init__(self) -> None:
        self.heard: list[str] = []

    def routine_trouble(self, routine: Routine, why: str) -> None:
        self.heard.append(why)

    def routine_well(self, routine: Routine) -> None:
        self.heard.append("well")


def test_a_verdict_that_changes_is_told_once(tmp_path: Path) -> None:
    verdicts = iter([Ended(3, 9), Ended(3, 9, "1 different"), Ended(3, 9, "2 different"), Ended(3, 9), Ended(3, 9)])
    book, told = RoutineBook(tmp_path / "routines.db"), Told()

    async def plan(routine: Routine) -> Planned:
        return Planned(verdict=next(verdicts))

    runner = RoutineRunner(book, plan, lambda batch: None, told)
    book.put(Routine("check", ("heron:fen",), "/", Every(900.0), 0.0, START, due=START))
    for _ in range(5):
        asyncio.run(runner.run(book.get("check")))
    outcomes = [(run.outcome.value, run.files, run.size, run.detail) for run in book.runs("check")]
    assert outcomes == [
        ("good", 3, 9, ""),
        ("not good", 3, 9, "1 different"),
        ("not good", 3, 9, "2 different"),
        ("good", 3, 9, ""),
        ("good", 3, 9, ""),
    ]
    assert told.heard == ["1 different", "well"]


def test_a_worker_ends_before_the_next_batch_when_another_version_is_installed(tmp_path: Path) -> None:
    started: list[int] = []
    queue = Queue(tmp_path / "queue.db", Batches(tmp_path / "batches"))
    queue.add("never-taken", [], 0o022)

    async def plan(routine: Routine) -> Planned:
        raise AssertionError

    runner = RoutineRunner(RoutineBook(tmp_path / "routines.db"), plan, lambda batch: None, Told())
    worker = Worker(queue, object(), object(), lambda: started.append(1), runner, lambda: True)  # type: ignore[arg-type]

    async def work() -> None:
        async with asyncio.timeout(60):
            await worker.run()

    asyncio.run(work())
    assert started == [1] and queue.entry("never-taken") is not None
