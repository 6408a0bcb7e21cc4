"""Routines: when they are due, whatever the clock does, and what a thousand runs leave behind."""

from __future__ import annotations

import asyncio
import contextlib
import json
import os
import random
import shutil
import signal
import time
from collections.abc import Callable
from dataclasses import replace
from datetime import datetime
from itertools import pairwise
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import Practice, Program, first_run, wait_for
from yatagan.background.following import Follower
from yatagan.background.routine_decisions import next_due
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
from yatagan.config.home import Home
from yatagan.engine.executor import Conditions, Executor
from yatagan.operations.stage_request import StageRequest
from yatagan.places import Place
from yatagan.planning import planner
from yatagan.planning.planner import PlanWish, make_plan
from yatagan.stores.local import LocalSource, LocalStore

ZONE = ZoneInfo("Europe/Vienna")
#: A Saturday before summer time begins, and an hour and a day in seconds.
START, HOUR, DAY = datetime(2026, 3, 28, 12, tzinfo=ZONE).timestamp(), 3600.0, 86400.0


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


def look(runner: RoutineRunner) -> float | None:
    """A look at all routines, and what it begins."""

    async def work() -> float | None:
        again = runner.tick()
        await runner.finish()
        return again

    return asyncio.run(work())


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
    world.now, world.going_on = START + 2 * HOUR, 0
    assert look(runner) is None and len(book.runs("fen")) == 1
    dead = replace(Holder.this_process(), pid=1_000_001)
    number = book.begin("fen", world.now, dead)  # and the process died while it planned
    assert number is not None
    world.now = START + 1.0
    look(runner)
    assert {run.number: run.outcome for run in book.runs("fen")}[number] is RunOutcome.BROKEN_OFF


def test_a_routine_for_real(program: Program, practice: Practice) -> None:
    """A worker runs it when it is due; it moves what is new, and says once that it is broken, once that it is well."""
    far = practice.far()
    program.know(far)
    told = program.directory / "told"
    program("config", "set", "notice.command", f"cat >> {told}; echo >> {told}")
    fen = program.directory / "fen"
    fen.mkdir()
    (fen / "a.csv").write_text("1\n")
    os.utime(fen / "a.csv", (1_500_000_000, 1_500_000_000))
    time.sleep(1.1)  # or the first run leaves it to the next
    said = program("routine", "add", "fen", "fen", "heron:in", "--every", "10s", "--unchanged-for", "1s").stdout
    assert "Routine fen runs every 10s" in said and "yatagan stage fen heron:in" in said

    def runs() -> list[dict[str, Any]]:
        return list(program.json("routine", "show", "fen")["runs"])

    wait_for(lambda: any(run["outcome"] == "moved" for run in runs()))
    assert (far.root / "in" / "fen" / "a.csv").read_text() == "1\n" and runs()[0]["files"] == 1
    (fen / "b.csv").write_text("2\n")
    practice.wrong("heron", refuse_for="60s")
    wait_for(lambda: any(run["outcome"] == "failed" for run in runs()))
    assert "trouble" in program("routine", "show", "fen").stdout
    practice.wrong("heron")
    wait_for(lambda: (far.root / "in" / "fen" / "b.csv").exists() and runs()[-1]["outcome"] != "running")
    program("routine", "hold", "fen")
    wait_for(lambda: runs()[-1]["outcome"] != "running")
    assert "held" in program("routine", "list").stdout
    heard = [json.loads(line)["notice"] for line in told.read_text().splitlines() if line]
    assert heard == ["routine-trouble", "routine-well"]
    assert program.json("routine", "run", "fen")["outcome"] == "nothing new"
    records = program.json("ledger", "show")["records"]
    assert len(records) == 2  # of the runs that moved something
    program("routine", "remove", "fen")
    assert "no routine is called 'fen'" in program("routine", "show", "fen", expect=2).stderr


def test_what_cannot_be_a_routine(program: Program) -> None:
    (program.directory / "fen").mkdir()
    for words, why in (
        (("fen", "fen", "there"), "say when"),
        (("fen", "fen", "there", "--every", "3s"), "too often"),
        (("fen", "fen", "there", "--at", "26:00"), "no time of day"),
        (("fen", "fen", "there", "--every", "1h", "--at", "02:30"), "say when"),
        (("a b", "fen", "there", "--every", "1h"), "cannot be a routine's name"),
        (("fen", "fen", "there", "--every", "1h", "--backwards"), "backwards"),
        (("fen", "fen", "there", "--every", "1h", "--plan-only"), "see: yatagan stage --help"),
    ):
        assert why in program("routine", "add", *words, expect=2).stderr, words
    assert "There is no routine." in program("routine", "list").stdout


def test_on_a_change(program: Program, practice: Practice) -> None:
    """What has changed is followed by events, and waits until it has settled; on a node there are looks."""
    far = practice.far()
    program.know(far)
    fen = program.directory / "fen"
    fen.mkdir()
    said = program("routine", "add", "flux", "fen", "heron:in", "--on-change", "--unchanged-for", "1s").stdout
    assert "runs on change" in said and "look every" not in said
    looks = program("routine", "add", "back", "heron:in", "back", "--on-change").stdout
    assert "a source is on a node, so there is a look every 1m" in looks
    program("routine", "remove", "back")
    wait_for(lambda: bool(program.json("routine", "show", "flux")["runs"]))
    (fen / "a.csv").write_text("1\n")
    wait_for(lambda: (far.root / "in" / "fen" / "a.csv").exists())
    (fen / "b.csv").write_text("2\n")
    wait_for(lambda: (far.root / "in" / "fen" / "b.csv").exists())
    program("routine", "remove", "flux")


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


def test_a_routine_in_a_directory_of_any_name(program: Program) -> None:
    place = Path(os.fsdecode(os.fsencode(program.directory) + b"/f\xffn"))
    (place / "fen").mkdir(parents=True)
    (place / "fen" / "a").write_text("1")
    there = Program(program.home, place)
    there("routine", "add", "fen", "fen", "there", "--every", "1h", "--unchanged-for", "0s")
    wait_for(lambda: program.json("routine", "show", "fen")["runs"][-1:] != [])
    wait_for(lambda: program.json("routine", "show", "fen")["runs"][-1]["outcome"] != "running")
    assert (place / "there" / "fen" / "a").exists()
    assert "f\\xffn" in program("routine", "show", "fen").stdout
    program("routine", "remove", "fen")


def test_without_a_worker_nothing_is_called_active(program: Program) -> None:
    """A worker that was killed is missed by whoever looks, and another one started."""
    (program.directory / "fen").mkdir()
    program("routine", "add", "fen", "fen", "there", "--at", "02:30", "--unchanged-for", "0s")
    first_run(program, "fen")
    (file,) = (program.home / "queue").glob("*.db")
    lock = Queue(file, Batches(program.home / "batches")).waiting_lock()

    def waits() -> bool:
        holder = lock.holder()
        return holder is not None and holder.is_alive

    wait_for(waits)
    holder = lock.holder()
    assert holder is not None
    os.kill(holder.pid, signal.SIGKILL)
    wait_for(lambda: not waits())
    said = " ".join(program("routine", "show", "fen").stdout.split())
    assert "no worker runs; the last one did just now; one is started now" in said
    wait_for(waits)
    assert "no worker" not in program("routine", "show", "fen").stdout
    program("routine", "remove", "fen")


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


def test_a_verify_by_itself(program: Program, practice: Practice) -> None:
    heron = practice.far("heron")
    program.know(heron)
    fen = heron.root / "fen"
    fen.mkdir()
    (fen / "a").write_text("1")
    then = (fen / "a").stat().st_mtime_ns
    program("checksums", "heron:fen")
    added = program.json("routine", "add", "check", "--command", "verify", "heron:fen", "--at", "02:30")
    assert (added["command"], added["words"]) == ("verify", ["heron:fen"])
    assert first_run(program, "check")["outcome"] == "good"
    (fen / "a").write_text("2")
    for _ in range(2):
        run = program.json("routine", "run", "check", expect=1)
        assert (run["outcome"], run["detail"], run["files"]) == ("not good", "1 different", 1)
    assert "trouble" in program("routine", "list").stdout
    (fen / "a").write_text("1")
    os.utime(fen / "a", ns=(then, then))
    assert program.json("routine", "run", "check")["outcome"] == "good"
    assert program.json("routine", "show", "check")["trouble"] is None
    shown = " ".join(program("routine", "show", "check").stdout.split())
    assert "does verify heron:fen" in shown and "good" in shown
    program("routine", "remove", "check")


@pytest.mark.parametrize("command", ["compare", "checksums"])
def test_other_commands_by_themselves(command: str, program: Program) -> None:
    (program.directory / "fen").mkdir()
    (program.directory / "fen" / "a").write_text("1")
    shutil.copytree(program.directory / "fen", program.directory / "copy")
    words = ("fen", "copy", "--by", "digest") if command == "compare" else ("fen",)
    program("routine", "add", "look", "--command", command, *words, "--every", "1h")
    assert first_run(program, "look")["outcome"] == "good"
    if command == "compare":
        (program.directory / "copy" / "a").write_text("2")
        assert program.json("routine", "run", "look", expect=1)["detail"] == "1 entry not the same"
    else:
        assert (program.directory / "fen" / "SHA256SUMS").exists()
    program("routine", "remove", "look")


def test_what_an_earlier_version_has_kept_as_words(program: Program) -> None:
    (program.directory / "fen").mkdir()
    (program.directory / "fen" / "a").write_text("1")
    book = RoutineBook.of(Home(program.home, program.home, program.home / ".ssh", program.home))
    words, here = ("fen", "there", "--unchanged-for", "0s"), str(program.directory)
    book.put(Routine("fen", words, here, Every(3600.0), 0.0, START, held=True, due=START, sources=("",)))
    assert program.json("routine", "show", "fen")["words"] == list(words)
    (kept,) = book.all()
    assert kept.request == StageRequest((Place("", b"fen"),), Place("", b"there"))
    program("routine", "run", "fen")
    wait_for(lambda: program.json("routine", "show", "fen")["runs"][-1]["outcome"] == "moved")
    batch = program.json("routine", "show", "fen")["runs"][-1]["batch"]
    assert program.json("batch", "show", batch)["command"] == ["yatagan", "stage", *words], "as it was typed"
    assert (program.directory / "there" / "fen" / "a").read_text() == "1"
    program("routine", "remove", "fen")


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
