"""What a person stopped stays stopped, and one bad item stops nothing else.

The queue, workers and routines in a made-up world (`standing_world.py`), through histories of every kind; and broken
variants of them, each of which is caught.
"""

from __future__ import annotations

import asyncio
import random
from collections.abc import Callable, Iterator
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from standing_world import (
    PROCESS,
    TIMER,
    Broken,
    Machine,
    World,
    WorldBatch,
    WorldBook,
    WorldCarrying,
    WorldQueue,
    patch_process,
)
from yatagan.background import routine_decisions, routine_runs
from yatagan.background.routine_runs import RoutineRunner
from yatagan.background.routines import Routine
from yatagan.background.schedules import Every, OnChange
from yatagan.background.worker import Worker
from yatagan.batches import queue, queueing
from yatagan.batches.locks import Holder
from yatagan.batches.moments import Moment
from yatagan.batches.queueing import OnTaking, QueueEntry
from yatagan.batches.said import Said
from yatagan.batches.states import ENDED, BatchState
from yatagan.errors import BatchInUse, JournalError

NODES = ("heron", "bittern", "dunlin")
YEAR = 365 * 86400.0
#: Each routine and the longest time between two of its runs, in seconds.
ROUTINES = {"quick": 600.0, "slow": 900.0, "follow": 3600.0}


class History:
    """What happens in a world, one thing after the other."""

    def __init__(self, world: World, rng: random.Random) -> None:
        self.world = world
        self.rng = rng
        self.removed: set[str] = set()
        self.held_routines: set[str] = set()
        self.where: dict[str, Machine] = {}

    def any_machine(self) -> Machine:
        return self.rng.choice(self.world.machines)

    def any_batch(self) -> WorldBatch | None:
        there = [batch for batch in self.world.batches.values() if not batch.forgotten]
        return self.rng.choice(there) if there else None

    # -- persons -------------------------------------------------------------------------------------------

    def stage(self) -> None:
        machine = self.any_machine()
        name = f"b{len(self.world.batches)}"
        nodes = tuple(self.rng.sample(NODES, self.rng.choice([1, 1, 2])))
        with self.world.command(machine):
            if self.world.home_fails:
                return
            self.world.batches[name] = WorldBatch(self.world, name, nodes, self.rng.randint(1, 40))
            WorldQueue(machine).add(name, nodes, 0o022)
            self.world.start_worker(machine)

    def hold(self) -> None:
        self._stop(Said.HOLD)

    def cancel(self) -> None:
        self._stop(Said.CANCEL)

    def _stop(self, word: Said) -> None:
        batch, machine = self.any_batch(), self.any_machine()
        if batch is None or self.world.home_fails or batch.state in ENDED:
            return
        with self.world.command(machine):
            if batch.word is not Said.CANCEL:
                batch.word, batch.said_at = word, self.world.now
            WorldQueue(machine).remove(batch.name)
            try:
                batch.lock()
            except BatchInUse:
                return  # whoever has it does as was said
            try:
                if batch.damaged or batch.state in ENDED:
                    return
                batch.settle(BatchState.CANCELLED if batch.word is Said.CANCEL else BatchState.HELD)
            finally:
                batch.unlock()

    def resume(self) -> None:
        batch, machine = self.any_batch(), self.any_machine()
        if batch is None or self.world.home_fails or batch.damaged:
            return
        with self.world.command(machine):
            try:
                batch.lock(take_over=self.rng.random() < 0.3 and batch.locked is None)
            except BatchInUse:
                return
            try:
                if batch.state in ENDED:
                    return
                batch.word = None
                batch.settle(BatchState.QUEUED)
                WorldQueue(machine).add(batch.name, batch.nodes, 0o022)
            finally:
                batch.unlock()
            self.world.start_worker(machine)

    def forget(self) -> None:
        batch = self.any_batch()
        if batch is not None and batch.state in ENDED and batch.locked is None:
            batch.forgotten = True

    def log_in(self) -> None:
        self.world.closed.clear()
        for machine in self.world.machines:
            with self.world.command(machine):
                for node in NODES:
                    WorldQueue(machine).let_in(node)
                self.world.start_worker(machine)

    def add_routine(self) -> None:
        machine, name = self.any_machine(), self.rng.choice(list(ROUTINES))
        if name in self.where or name in self.removed or self.world.home_fails:
            return
        schedule = OnChange() if name == "follow" else Every(ROUTINES[name])
        now = machine.moment()
        with self.world.command(machine):
            WorldBook(machine).put(
                Routine(name, ("x",), "/", schedule, 0.0, now.wall, due=now.wall, sources=("/s",), since=now)
            )
            self.where[name] = machine
            self.world.start_worker(machine)

    def remove_routine(self) -> None:
        if self.where and not self.world.home_fails:
            name = self.rng.choice(list(self.where))
            with self.world.command(self.where[name]):
                WorldBook(self.where[name]).remove(name)
                del self.where[name]
                self.removed.add(name)

    def hold_routine(self) -> None:
        if self.where and not self.world.home_fails:
            name = self.rng.choice(list(self.where))
            held = name not in self.held_routines
            with self.world.command(self.where[name]):
                WorldBook(self.where[name]).change(name, held=held)
                (self.held_routines.add if held else self.held_routines.discard)(name)
                self.world.start_worker(self.where[name])

    # -- misfortunes ---------------------------------------------------------------------------------------

    def jump(self) -> None:
        self.any_machine().offset += self.rng.choice([-YEAR, YEAR, -3600.0, 3600.0, 86400.0])

    def put_right(self) -> None:
        for machine in self.world.machines:
            machine.offset = 0.0

    def kill(self) -> None:
        living = [each for machine in self.world.machines for each in self.world.workers(machine)]
        if living:
            self.world.kill(self.rng.choice(living))

    def kill_soon(self) -> None:
        living = [each for machine in self.world.machines for each in self.world.workers(machine)]
        if living:
            self.rng.choice(living).dies_after = self.rng.randrange(60)

    def kill_at_the_end(self) -> None:
        """The next worker dies between the end of a batch and its record."""
        self.world.dies_at_the_end = True

    def restart(self) -> None:
        machine = self.any_machine()
        for each in self.world.workers(machine):
            self.world.kill(each)
        machine.boots += 1
        machine.booted = self.world.now
        machine.waiter = None
        if self.rng.random() < 0.5:
            machine.name += "x"  # it gets another name

    def home(self) -> None:
        self.world.home_fails = not self.world.home_fails

    def node(self) -> None:
        self.world.away ^= {self.rng.choice(NODES)}

    def code(self) -> None:
        self.world.closed.add(self.rng.choice(NODES))

    def damage(self) -> None:
        if (batch := self.any_batch()) is not None:
            batch.damaged = not batch.damaged
            self.world.damages[batch.name] += batch.damaged

    def source(self) -> None:
        self.world.sources_away ^= {self.rng.choice(list(ROUTINES))}

    def slow_plan(self) -> None:
        self.world.slow["slow"] = self.rng.choice([3.0, 4000.0])

    # -- the end -------------------------------------------------------------------------------------------

    def all_well(self) -> None:
        """Everything works again; what is damaged stays so, and what a person stopped."""
        self.put_right()
        self.world.home_fails = False
        self.world.away.clear()
        self.world.sources_away.clear()
        self.world.slow["slow"] = 4000.0 if self.rng.random() < 0.5 else 3.0
        self.log_in()


DEEDS: dict[str, Callable[[History], None]] = {
    name: getattr(History, name)
    for name in (
        *("stage", "stage", "hold", "cancel", "resume", "forget", "log_in"),
        *("add_routine", "remove_routine", "hold_routine"),
        *("jump", "put_right", "kill", "kill_soon", "restart", "home", "node", "code", "damage", "source", "slow_plan"),
    )
}
#: Those that are drawn by a seed.
DRAWN = sorted(DEEDS)
DEEDS["kill_at_the_end"] = History.kill_at_the_end
#: Seconds between two of them.
WAITS = (0.0, 1.0, 7.0, 40.0, 400.0, 1500.0)
HISTORIES = st.lists(st.tuples(st.sampled_from(sorted(DEEDS)), st.sampled_from(WAITS)), max_size=30)


def play(deeds: list[tuple[str, float]], seed: int) -> None:
    """Play a history to its end, and see that the rules hold."""
    world = World()
    history = History(world, random.Random(seed))

    async def timers() -> None:
        while True:
            for machine in world.machines:
                if not world.workers(machine) and not world.home_fails:
                    world.start_worker(machine)
            await asyncio.sleep(TIMER)

    async def life() -> None:
        timer = asyncio.ensure_future(timers())
        for name in ("add_routine", "add_routine", "stage", "stage"):
            DEEDS[name](history)
        for name, wait in deeds:
            DEEDS[name](history)
            await asyncio.sleep(wait)
        history.all_well()
        # A wait may have begun just before, and the plan of another run must come to its end; then two intervals.
        well = world.now
        await asyncio.sleep(3600.0 + 4000.0 + 2 * 3600.0 + TIMER)
        timer.cancel()
        judge(well)

    def judge(well: float) -> None:
        assert not world.defects, world.defects
        for batch in world.batches.values():
            if batch.damaged or batch.forgotten or batch.word is not None:
                continue
            assert batch.state in (BatchState.FINISHED, BatchState.CANCELLED, BatchState.HELD), batch
            assert batch.state is not BatchState.HELD, f"{batch.name}: nobody has held it"
            assert batch.recorded or batch.state is not BatchState.FINISHED, f"{batch.name} is not on record"
        for name in history.where:
            if name not in history.held_routines:
                ran = world.ran.get(name, 0.0)
                assert ran >= well and world.now - ran <= 2 * max(ROUTINES[name], 4000.0), f"{name} runs no more"
        for name, notices in world.unread_notices.items():
            assert notices <= 2 * world.damages[name] + 4, f"{notices} notices of {name}"

    try:
        world.loop.run_until_complete(life())
    finally:
        for process in world.processes:
            world.kill(process)
        for task in asyncio.all_tasks(world.loop):
            task.cancel()
        world.loop.run_until_complete(asyncio.sleep(0))
        world.loop.close()


@pytest.fixture
def world_only() -> Iterator[pytest.MonkeyPatch]:
    with pytest.MonkeyPatch.context() as patch:
        patch_process(patch)
        yield patch


@pytest.mark.parametrize("count", [60, pytest.param(20_000, marks=pytest.mark.soak)])
@pytest.mark.parametrize("part", range(3))
def test_histories(part: int, count: int, world_only: pytest.MonkeyPatch) -> None:
    check(count)


def check(count: int) -> None:
    @settings(max_examples=count, deadline=None, database=None, suppress_health_check=list(HealthCheck))
    @given(HISTORIES, st.integers(0, 2**32))
    def run(deeds: list[tuple[str, float]], seed: int) -> None:
        play(deeds, seed)

    run()


# -- broken variants -------------------------------------------------------------------------------------------


def deaf(patch: pytest.MonkeyPatch) -> None:
    """A worker takes from its queue what a person has held on another machine."""
    patch.setattr(queue, "on_taking", lambda state, word, **more: queueing.on_taking(state, None, **more))


def never_leaving(patch: pytest.MonkeyPatch) -> None:
    """A batch that was cancelled elsewhere is carried, or held, all the same."""

    def on_taking(state: BatchState, word: Said | None, **more: Any) -> OnTaking:
        found = queueing.on_taking(state, word, **more)
        return OnTaking.GIVE_UP if found is OnTaking.LEAVE else found

    patch.setattr(queue, "on_taking", on_taking)


def spinning(patch: pytest.MonkeyPatch) -> None:
    """A batch that another machine has is tried again at once."""
    patch.setattr(queue, "ELSEWHERE_SECONDS", 0.0)


def stopped_by_one(patch: pytest.MonkeyPatch) -> None:
    """A journal that cannot be read stops the whole queue."""
    really = queue.Queue._take

    def take(self: Any, sql: Any, entry: QueueEntry, problems: list[Any]) -> Any:
        found, before = None, len(problems)
        found = really(self, sql, entry, problems)
        if len(problems) > before:
            raise problems[-1][1]
        return found

    patch.setattr(queue.Queue, "_take", take)


def by_the_wall(patch: pytest.MonkeyPatch) -> None:
    """Waits go by the wall's clock, however far ahead."""

    def left(since: Moment, seconds: float, now: Moment) -> float:
        return max(0.0, since.wall + seconds - now.wall)

    patch.setattr(queueing, "seconds_left", left)


def routines_by_the_wall(patch: pytest.MonkeyPatch) -> None:
    """Routines, too."""
    patch.setattr(routine_decisions, "due_at", lambda routine, now: routine.due)


def one_plan_at_a_time(patch: pytest.MonkeyPatch) -> None:
    """A plan that takes hours keeps the other routines waiting."""
    really = RoutineRunner._begin

    def begin(self: Any, routine: Routine, now: Moment) -> None:
        if not self._planning:
            really(self, routine, now)

    patch.setattr(RoutineRunner, "_begin", begin)


def without_owner(patch: pytest.MonkeyPatch) -> None:
    """A run that plans is taken for one whose process is gone."""
    patch.setattr(routine_runs, "plans_on", lambda owner: False)


def dying_of_a_full_disk(patch: pytest.MonkeyPatch) -> None:
    """A worker that cannot write to our own disk starts another one, and ends."""
    really = Worker._step

    async def step(self: Worker) -> bool:
        try:
            return await really(self)
        except JournalError as error:
            PROCESS.get().machine.world.start_worker(PROCESS.get().machine, whatever=True)
            raise RuntimeError from error

    patch.setattr(Worker, "_step", step)


def known_by_name(patch: pytest.MonkeyPatch) -> None:
    """The lock of a run that was killed is another machine's for ever, once this one has got another name."""
    patch.setattr(Holder, "is_of", lambda holder, directory: holder.host == PROCESS.get().machine.name)


def busy_with_itself(patch: pytest.MonkeyPatch) -> None:
    """What a worker could not write down that it has let go of, it takes for carried as long as it lives."""

    def is_running(self: Any, entry: QueueEntry) -> bool:
        if entry.worker is not None and entry.worker.is_alive:
            return True
        return bool(self._batches.holds(entry.batch) and self._batches.get(entry.batch).is_carried())

    patch.setattr(queue.Queue, "_is_running", is_running)


def without_record(patch: pytest.MonkeyPatch) -> None:
    """A batch whose worker died between its end and its record is never put on record."""
    patch.setattr(WorldCarrying, "record", lambda self, journal: None)


def deeds_of(seed: int) -> list[tuple[str, float]]:
    rng = random.Random(seed)
    return [(rng.choice(DRAWN), rng.choice(WAITS)) for _ in range(rng.randrange(30))]


@pytest.mark.parametrize(
    ("variant", "history"),
    [
        (deaf, 6),
        (never_leaving, 2),
        (spinning, 44),
        (stopped_by_one, 29),
        (by_the_wall, 199),
        (routines_by_the_wall, 9),
        (one_plan_at_a_time, 1),
        (without_owner, 0),
        (dying_of_a_full_disk, 0),
        (known_by_name, 0),
        (busy_with_itself, 733),
        (without_record, [("kill_at_the_end", 0.0), ("stage", 400.0)]),
    ],
    ids=lambda each: getattr(each, "__name__", None),
)
def test_a_broken_variant_is_caught(
    variant: Callable[[pytest.MonkeyPatch], None],
    history: int | list[tuple[str, float]],
    world_only: pytest.MonkeyPatch,
) -> None:
    """And the sound one is not, by the same history: one that is written down, or drawn by a seed."""
    deeds, seed = (deeds_of(history), history) if isinstance(history, int) else (history, 0)
    play(deeds, seed)
    variant(world_only)
    with pytest.raises((AssertionError, Broken)):
        play(deeds, seed)
