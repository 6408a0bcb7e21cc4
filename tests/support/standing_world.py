"""A world for the queue, its workers and the routines: two machines with one home, in virtual time.

What runs in it is the program's own: `Worker`, `Queue`, `RoutineBook`, `RoutineRunner`. Made up are machines and their
clocks, locks, journals, runs, plans and persons. A worker may be killed at any call into the world; from then on none
of its calls does anything, as of a process that is gone.
"""

from __future__ import annotations

import asyncio
import contextlib
import selectors
import sqlite3
from collections import Counter
from collections.abc import Callable, Iterator
from contextvars import ContextVar
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import pytest

from yatagan.background import routines, worker
from yatagan.background.routine_runs import Ended, Planned, RoutineRunner
from yatagan.background.routines import Routine, RoutineBook
from yatagan.background.worker import Worker
from yatagan.batches import queue as queue_module
from yatagan.batches.events import ConnectionOpened
from yatagan.batches.journal_reading import AsJournalError
from yatagan.batches.locks import Holder, LockTaken
from yatagan.batches.moments import Moment
from yatagan.batches.queue import Queue
from yatagan.batches.queueing import QueueLimits
from yatagan.batches.said import Said
from yatagan.batches.states import BatchState, batch_may_move
from yatagan.errors import BatchInUse, CannotReach, JournalError, NoSuchBatch

#: The beginning of the world, by a clock that is right.
START = 1_790_000_000.0
#: Seconds between looks of a timer whether a worker runs, and between looks of a worker that waits.
TIMER, LOOK = 300.0, 300.0
#: Calls into the world within so many seconds in which nothing moves: far more than workers need for their looks.
_BUSY, _BUSY_SECONDS = 2000, 10.0


class Killed(BaseException):
    """This process is gone."""


class Broken(AssertionError):
    """A rule does not hold."""


class _Clock(selectors.DefaultSelector):
    """Time passes when everything waits."""

    def __init__(self) -> None:
        super().__init__()
        self.now = 0.0
        self.calls: list[float] = []

    def select(self, timeout: float | None = None) -> list[Any]:
        if timeout is None:
            raise Broken("everything waits for nothing")
        if timeout > 0:
            self.now += timeout
            self.calls = [each for each in self.calls if each > self.now - _BUSY_SECONDS]
        return super().select(0)

    def call(self) -> None:
        """Something calls into the world. Raises Broken where that happens too often."""
        self.calls.append(self.now)
        if len(self.calls) > _BUSY:
            raise Broken("a processor is busy while nothing moves")


@dataclass(eq=False)
class Machine:
    """A machine. `offset`: of its wall's clock. `boots`: how often it was started."""

    world: World
    number: int
    name: str
    offset: float = 0.0
    boots: int = 0
    booted: float = 0.0
    queue_rows: sqlite3.Connection = field(default_factory=lambda: sqlite3.connect(":memory:", isolation_level=None))
    book_rows: sqlite3.Connection = field(default_factory=lambda: sqlite3.connect(":memory:", isolation_level=None))
    waiter: Process | None = None

    def __post_init__(self) -> None:
        for rows, module in ((self.queue_rows, queue_module), (self.book_rows, routines)):
            rows.executescript(module._SCHEMA)
            for table, columns in module._ADDED.items():
                for column in columns.split(", "):
                    rows.execute(f"ALTER TABLE {table} ADD COLUMN {column}")

    @property
    def boot(self) -> str:
        return f"boot-{self.number}-{self.boots}"

    def moment(self) -> Moment:
        now = self.world.now
        return Moment(START + now + self.offset, self.boot, now - self.booted)


@dataclass(eq=False)
class Process:
    """A process on a machine: a worker, or a person's command."""

    machine: Machine
    pid: int
    boot: str
    dead: bool = False
    dies_after: int | None = None
    task: asyncio.Task[None] | None = None

    @property
    def holder(self) -> Holder:
        return Holder(self.machine.name, self.boot, self.pid, 1, f"machine-{self.machine.number}")

    def call(self) -> None:
        """This process calls into the world."""
        if self.dies_after is not None:
            self.dies_after -= 1
            if self.dies_after < 0:
                self.machine.world.kill(self)
        if self.dead:
            raise Killed
        self.machine.world.selector.call()


PROCESS: ContextVar[Process] = ContextVar("process")


class _Rows:
    """A database of the home: on a disk that may be full."""

    def __init__(self, world: World, rows: sqlite3.Connection) -> None:
        self._world = world
        self._rows = rows

    def execute(self, statement: str, values: Any = ()) -> sqlite3.Cursor:
        if self._world.home_fails and not statement.startswith(("SELECT", "ROLLBACK", "BEGIN")):
            raise sqlite3.OperationalError("database or disk is full")
        return self._rows.execute(statement, values)


@contextlib.contextmanager
def _opened(world: World, rows: sqlite3.Connection) -> Iterator[Any]:
    PROCESS.get().call()
    with AsJournalError("home"):
        yield _Rows(world, rows)


class WorldQueue(Queue):
    """The queue of a machine."""

    def __init__(self, machine: Machine) -> None:
        super().__init__(Path("/dev/null"), machine.world, machine.moment)  # type: ignore[arg-type]
        self._machine = machine

    def _open(self) -> Any:
        return _opened(self._machine.world, self._machine.queue_rows)

    def waiting_lock(self) -> Any:
        return WaitingLock(self._machine)


class WorldBook(RoutineBook):
    """The routines of a machine."""

    def __init__(self, machine: Machine) -> None:
        super().__init__(Path("/dev/null"))
        self._machine = machine

    def _open(self) -> Any:
        return _opened(self._machine.world, self._machine.book_rows)


@dataclass
class WaitingLock:
    machine: Machine

    def take(self) -> None:
        PROCESS.get().call()
        if self.is_held():
            raise LockTaken(None, elsewhere=False)
        self.machine.waiter = PROCESS.get()

    def release(self) -> None:
        if self.machine.waiter is PROCESS.get():
            self.machine.waiter = None

    def is_held(self) -> bool:
        return self.machine.waiter is not None and not self.machine.waiter.dead


@dataclass(eq=False)
class WorldBatch:
    """A batch with its journal. `pieces` are left to carry. `noted`: whose name is in the lock."""

    world: World
    name: str
    nodes: tuple[str, ...]
    pieces: int
    state: BatchState = BatchState.QUEUED
    word: Said | None = None
    damaged: bool = False
    forgotten: bool = False
    locked: Process | None = None
    noted: Holder | None = None
    runs: int = 0
    recorded: bool = False
    said_at: float = 0.0

    def lock(self, *, take_over: bool = False) -> None:
        process = PROCESS.get()
        process.call()
        if self.locked is not None and not self.locked.dead:
            raise BatchInUse(self.name, "another")
        if self.noted is not None and not self.noted.is_of(Path("/home")) and not take_over:
            raise BatchInUse(self.name, str(self.noted), elsewhere=True)
        self.locked, self.noted = process, process.holder

    def unlock(self) -> None:
        if self.locked is PROCESS.get() and not self.locked.dead:
            self.locked = self.noted = None

    def is_carried(self) -> bool:
        # A lock is seen by processes of its own machine; so is a name.
        return self.locked is not None and not self.locked.dead and self.locked.machine is PROCESS.get().machine

    def journal(self) -> WorldBatch:
        PROCESS.get().call()
        if self.damaged:
            raise JournalError(self.name, "damaged", damaged=True)
        return self

    def close(self) -> None:
        pass

    # -- the journal ---------------------------------------------------------------------------------------

    @property
    def fault(self) -> None:
        return None

    detail = ""

    def standing(self) -> WorldBatch:
        return self

    def progress(self) -> str:
        return str(self.pieces)

    def size_left(self) -> int:
        return self.pieces

    def open_steps(self, after: object, most: int) -> list[int]:
        return [1] * min(self.pieces, most)

    def settle(self, state: BatchState, *more: object) -> None:
        process = PROCESS.get()
        process.call()
        if self.locked is not process:
            raise Broken(f"{self.name}: its journal is written without its lock")
        if self.world.home_fails or self.damaged:
            raise JournalError(self.name, "no space left")
        assert batch_may_move(self.state, state), f"a batch may not go from {self.state} to {state}"
        self.state = state


@dataclass(eq=False)
class WorldRun:
    """A run of a batch: a piece every few seconds."""

    batch: WorldBatch
    hear: Callable[[Any], None]
    stopped: bool = False

    def stop(self) -> None:
        self.stopped = True

    async def run(self) -> CannotReach | None:
        batch, world, process = self.batch, self.batch.world, PROCESS.get()
        if batch.word is not None:
            raise Broken(f"{batch.name} is begun, though a person has said: {batch.word}")
        if batch.runs:
            raise Broken(f"{batch.name} is carried by two")
        batch.runs += 1
        try:
            batch.settle(BatchState.MOVING)
            for node in batch.nodes:
                if node in world.away:
                    batch.settle(BatchState.INTERRUPTED)
                    return CannotReach(node, "connect", "no route")
                if node in world.closed:
                    batch.settle(BatchState.NEEDS_LOGIN)
                    return CannotReach(node, "login", "a code", passing=False)
            self.hear(ConnectionOpened(False))
            while batch.pieces:
                await asyncio.sleep(5.0)
                process.call()
                if batch.word is not None and world.now - batch.said_at > 30:
                    raise Broken(f"{batch.name} goes on, though a person has said: {batch.word}")
                if self.stopped or any(node in world.away for node in batch.nodes):
                    batch.settle(BatchState.INTERRUPTED)
                    return CannotReach(batch.nodes[0], "connect", "lost")
                if world.home_fails:
                    raise JournalError(batch.name, "no space left")
                batch.pieces -= 1
            batch.settle(BatchState.FINISHED)
            if world.dies_at_the_end:
                world.dies_at_the_end = False
                world.kill(process)
            process.call()
            batch.recorded = True
            return None
        finally:
            if not process.dead:
                batch.runs -= 1


@dataclass
class Trouble:
    """What has been told of something: trouble and its end take turns."""

    open: bool = False
    notices: int = 0


class World:
    """Two machines, one home."""

    def __init__(self) -> None:
        self.selector = _Clock()
        self.loop = asyncio.SelectorEventLoop(self.selector)
        self.loop.time = lambda: self.selector.now  # type: ignore[method-assign]
        self.loop.set_exception_handler(lambda loop, context: self._unheard(context))
        self.defects: list[str] = []
        self.home_fails = False
        self.dies_at_the_end = False
        self.away: set[str] = set()
        self.closed: set[str] = set()
        self.sources_away: set[str] = set()
        self.slow: dict[str, float] = {}
        self.batches: dict[str, WorldBatch] = {}
        self.machines = [Machine(self, number, f"host{number}") for number in range(2)]
        self.processes: list[Process] = []
        self.told: dict[str, Trouble] = {}
        self.ran: dict[str, float] = {}
        self.planning: Counter[str] = Counter()
        self.unread_notices: Counter[str] = Counter()
        self.damages: Counter[str] = Counter()
        self.own_notices = 0

    @property
    def now(self) -> float:
        return self.selector.now

    def _unheard(self, context: dict[str, Any]) -> None:
        error = context.get("exception")
        if error is not None and not isinstance(error, Killed):
            self.defects.append(repr(error))

    # -- what the queue asks of `Batches` ------------------------------------------------------------------

    def holds(self, name: str) -> bool:
        return name in self.batches and not self.batches[name].forgotten

    def get(self, name: str) -> WorldBatch:
        if not self.holds(name):
            raise NoSuchBatch(name)
        return self.batches[name]

    # -- processes -----------------------------------------------------------------------------------------

    def process(self, machine: Machine) -> Process:
        found = Process(machine, len(self.processes) + 1, machine.boot)
        self.processes.append(found)
        return found

    def is_alive(self, holder: Holder) -> bool:
        found = self.processes[holder.pid - 1]
        return not found.dead and found.holder == holder and found.machine is PROCESS.get().machine

    def kill(self, process: Process) -> None:
        process.dead = True
        for batch in self.batches.values():
            if batch.locked is process:
                batch.locked = None  # its name stays
                batch.runs = 0
        for name in [name for name in self.planning if name.startswith(f"{process.pid} ")]:
            del self.planning[name]
        if process.task is not None:
            process.task.cancel()

    def start_worker(self, machine: Machine, *, whatever: bool = False) -> Process:
        if self.home_fails and not whatever:
            raise JournalError("workers.log", "no space left")
        process = self.process(machine)

        async def work() -> None:
            PROCESS.set(process)
            listener = _Listener(self)
            book = WorldBook(machine)
            runner = RoutineRunner(book, _planner(self, machine), self.ended, listener, machine.moment, self.changed)
            carrying = WorldCarrying()
            try:
                await Worker(WorldQueue(machine), carrying, listener, lambda: self.start_worker(machine), runner).run()  # type: ignore[arg-type]
            except (Killed, asyncio.CancelledError):
                pass
            except (Exception, Broken) as error:  # noqa: BLE001
                self.defects.append(repr(error))
            finally:
                self.kill(process)

        process.task = self.loop.create_task(work())
        return process

    def workers(self, machine: Machine) -> list[Process]:
        return [each for each in self.processes if each.machine is machine and each.task is not None and not each.dead]

    @contextlib.contextmanager
    def command(self, machine: Machine) -> Iterator[Process]:
        """A person's command on a machine."""
        process, before = self.process(machine), PROCESS.get(None)
        token = PROCESS.set(process)
        try:
            yield process
        except JournalError:
            pass  # it says so, and nothing is done
        finally:
            self.kill(process)
            PROCESS.reset(token)
            assert PROCESS.get(None) is before

    # -- routines ------------------------------------------------------------------------------------------

    def ended(self, batch: str) -> Ended | None:
        found = self.batches.get(batch)
        if found is None or found.forgotten:
            return Ended(0, 0, "forgotten")
        if found.state is BatchState.FINISHED:
            return Ended(1, 1)
        if found.state in (BatchState.HELD, BatchState.CANCELLED, BatchState.NEEDS_LOGIN):
            return Ended(0, 0, f"batch is {found.state.value}")
        return None

    def changed(self, name: str, sources: tuple[str, ...]) -> bool | None:
        return None if name in self.sources_away else False


def _planner(world: World, machine: Machine) -> Callable[[Routine], Any]:
    async def plan(routine: Routine) -> Planned:
        process = PROCESS.get()
        process.call()
        mark = f"{process.pid} {routine.name}"
        if any(each.endswith(f" {routine.name}") for each in world.planning):
            raise Broken(f"{routine.name} is planned by two")
        world.planning[mark] = 1
        try:
            await asyncio.sleep(world.slow.get(routine.name, 3.0))
            process.call()
            world.ran[routine.name] = world.now
            if routine.name in world.sources_away:
                return Planned(failure="the source is not there")
            return Planned()
        finally:
            world.planning.pop(mark, None)

    return plan


@dataclass
class WorldCarrying:
    def limits(self) -> QueueLimits:
        PROCESS.get().call()
        return QueueLimits(2, lambda node: 1)

    async def make_run(self, taken: Any, journal: WorldBatch, hear: Callable[[Any], None]) -> WorldRun:
        return WorldRun(journal, hear)

    def record(self, journal: WorldBatch) -> None:
        PROCESS.get().call()
        journal.recorded = True


@dataclass
class _Listener:
    world: World

    def begins(self, batch: WorldBatch) -> None:
        pass

    def ended(self, batch: WorldBatch, journal: WorldBatch, problem: object, routine: str, *, queued: bool) -> None:
        pass

    def failed(self, batch: WorldBatch, error: Exception) -> None:
        pass

    def unread(self, batch: WorldBatch, error: Exception) -> None:
        self.world.unread_notices[batch.name] += 1

    def own_trouble(self, error: Exception) -> None:
        self.world.own_notices += 1

    def node_trouble(self, batch: object, node: str, waiting: int, problem: object, *, login: bool) -> None:
        pass

    def node_well(self, batch: object, node: str) -> None:
        pass

    def routine_trouble(self, routine: Routine, why: str) -> None:
        if "not there" not in why and "no space" not in why and "in a row" not in why:
            raise Broken(f"a notice of trouble that is none: {routine.name}: {why}")
        self._turn(routine.name, trouble=True)

    def routine_well(self, routine: Routine) -> None:
        self._turn(routine.name, trouble=False)

    def _turn(self, name: str, *, trouble: bool) -> None:
        told = self.world.told.setdefault(name, Trouble())
        if told.open == trouble:
            raise Broken(f"told twice of {name}")
        told.open = trouble
        told.notices += 1


def patch_process(patch: pytest.MonkeyPatch) -> None:
    """Have the program ask the world who it is, what a person has said, and for nothing else of this machine."""
    patch.setattr(Holder, "this_process", classmethod(lambda cls: PROCESS.get().holder))
    patch.setattr(Holder, "is_alive", property(lambda holder: PROCESS.get().machine.world.is_alive(holder)))
    patch.setattr("yatagan.batches.locks.boot_id", lambda: PROCESS.get().boot)
    patch.setattr("yatagan.batches.locks.machine_id", lambda: f"machine-{PROCESS.get().machine.number}")
    patch.setattr("yatagan.batches.locks.machine_name", lambda: PROCESS.get().machine.name)
    patch.setattr("yatagan.batches.locks.on_network", lambda directory: False)
    patch.setattr(queue_module, "said", lambda batch: batch.word)
    patch.setattr(queue_module, "is_made", lambda file: True)
    patch.setattr(routines, "is_made", lambda file: True)
    patch.setattr(worker, "said", lambda batch: batch.word)
    patch.setattr(worker, "until_said", _until_said)
    patch.setattr(worker, "RunLog", _NoLog)
    patch.setattr(worker, "_LOOK", LOOK)
    patch.setattr("yatagan.background.routine_decisions.LOOK", LOOK)
    patch.setattr("yatagan.background.routine_decisions._CHANGES", LOOK)


async def _until_said(batch: WorldBatch) -> Said:
    while batch.word is None:  # noqa: ASYNC110
        await asyncio.sleep(2.0)
    return batch.word


class _NoLog:
    def __init__(self, batch: object) -> None:
        pass

    def write(self, event: str, **more: object) -> None:
        PROCESS.get().call()
