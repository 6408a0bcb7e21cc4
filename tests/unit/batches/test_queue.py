"""The queue: its order and limits whatever happens to its workers."""

from __future__ import annotations

import contextlib
import json
import random
import threading
from collections.abc import Iterator
from dataclasses import asdict, replace
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from yatagan.batches.activity import Activities
from yatagan.batches.batch_store import Batch, Batches
from yatagan.batches.journal_data import Header
from yatagan.batches.locks import Holder, Lock, LockTaken
from yatagan.batches.queue import Queue, Taken
from yatagan.batches.queueing import ENDS_WITHOUT_PROGRESS, OnTaking, QueueLimits, WaitsFor
from yatagan.batches.states import CARRIED, ENDED, BatchState, StepState
from yatagan.batches.steps import Change, Prove, Step, StepKind
from yatagan.errors import NoLocks
from yatagan.stores.interface import Facts, Kind


class Worker:
    """A worker that only takes batches. It dies on demand: its locks go, and its name stays in the queue."""

    def __init__(self, queue: Queue, limits: QueueLimits, number: int) -> None:
        self.queue = queue
        self.limits = limits
        self.mark = replace(Holder.this_process(), pid=1_000_000 + number)  # no process has this number
        self.taken: Taken | None = None

    def take(self) -> Taken | None:
        with pytest.MonkeyPatch.context() as patch:
            patch.setattr(Holder, "this_process", classmethod(lambda cls: self.mark))
            self.taken = self.queue.take(self.limits)
        return self.taken

    def die(self) -> None:
        if self.taken is not None:
            self.taken.batch.unlock()
        self.taken = None


@contextlib.contextmanager
def waiting(directory: Path, nodes: list[list[str]]) -> Iterator[tuple[Queue, Batches, list[str]]]:
    """A queue with a batch of one step for each list of nodes."""
    batches = Batches(directory / "batches")
    queue = Queue(directory / "queue" / "here.db", batches)
    names = []
    for over in nodes:
        step = Step(1, 1_000_000, StepKind.FILE, b"/s/a", b"/d/a", b"a", Facts(Kind.FILE, 5, 0, 0o644))
        batch = batches.accept(Header("", 0, ("stage",), "", "heron", b"/d", Prove.AUTO), [step])
        queue.add(batch.name, over, 0o022)
        batch.unlock()
        names.append(batch.name)
    yield queue, batches, names


NODES = ("heron", "bittern", "dunlin")


@settings(max_examples=12)
@given(
    over=st.lists(st.lists(st.sampled_from(NODES), min_size=1, max_size=2, unique=True), min_size=1, max_size=5),
    at_once=st.integers(1, 3),
    each=st.integers(1, 2),
    seed=st.integers(0, 2**32),
)
def test_order_and_limits_hold_whatever_happens(
    over: list[list[str]], at_once: int, each: int, seed: int, tmp_path_factory: pytest.TempPathFactory
) -> None:
    rng = random.Random(seed)
    with waiting(tmp_path_factory.mktemp("queue"), over) as (queue, _, names):
        nodes = dict(zip(names, over, strict=True))
        limits = QueueLimits(at_once, lambda node: each)
        workers = [Worker(queue, limits, number) for number in range(4)]
        begun: list[str] = []
        for _ in range(60):
            worker = rng.choice(workers)
            running = [other.taken.entry.batch for other in workers if other.taken is not None]
            if worker.taken is None:
                taken = worker.take()
                free = [
                    entry.batch
                    for entry in queue.entries()
                    if entry.batch not in running and all(_over(running, nodes, node) < each for node in entry.nodes)
                ]
                if taken is None:
                    assert len(running) >= at_once or not free
                    continue
                begun.append(taken.entry.batch)
                assert taken.entry.batch not in running and len(running) < at_once
                assert taken.entry.batch == free[0], "the first that may"
                if taken.todo is OnTaking.CARRY:
                    _progress(taken.batch)
                else:
                    queue.remove(taken.entry.batch)
                    worker.die()
            elif rng.random() < 0.4:
                worker.die()
            else:
                batch = worker.taken.batch
                queue.remove(batch.name)
                worker.die()
        assert set(begun) >= set(names) - {entry.batch for entry in queue.entries()}


def _over(running: list[str], nodes: dict[str, list[str]], node: str) -> int:
    return sum(node in nodes[batch] for batch in running)


def _progress(batch: Batch) -> None:
    with contextlib.closing(batch.journal()) as journal:
        journal.apply([Change(1, state=StepState.MOVING)])


def test_three_ends_without_progress(tmp_path: Path) -> None:
    with waiting(tmp_path, [["heron"]]) as (queue, _, (name,)):
        worker = Worker(queue, QueueLimits(1, lambda node: 1), 1)
        for _ in range(ENDS_WITHOUT_PROGRESS):
            taken = worker.take()
            assert taken is not None and taken.todo is OnTaking.CARRY
            worker.die()
        taken = worker.take()
        assert taken is not None and taken.todo is OnTaking.GIVE_UP
        queue.remove(name)
        worker.die()
        queue.add(name, ["heron"], 0o022)  # a person says that it goes on
        for end in range(6):
            taken = worker.take()
            assert taken is not None and taken.todo is OnTaking.CARRY
            with contextlib.closing(taken.batch.journal()) as journal:
                durable = f"0-{end + 1}"
                journal.apply([Change(1, state=StepState.MOVING if not end else None, durable=durable)])
            worker.die()


def test_what_waits_is_not_taken(tmp_path: Path) -> None:
    with waiting(tmp_path, [["heron"], ["bittern"], ["dunlin"]]) as (queue, batches, names):
        queue.wait(names[0], WaitsFor.LOGIN)
        queue.wait(names[1], WaitsFor.CONNECTION, 3600)
        worker = Worker(queue, QueueLimits(3, lambda node: 1), 1)
        taken = worker.take()
        assert taken is not None and taken.entry.batch == names[2]
        assert not queue.has_more(worker.limits) and 0 < (queue.next_look() or 0) <= 3600
        assert queue.let_in("bittern") == 0 and queue.let_in("heron") == 1
        other = Worker(queue, worker.limits, 2)
        taken = other.take()
        assert taken is not None and taken.entry.batch == names[0]
        queue.add(names[1], ["bittern"], 0o022)  # as a person's resume does
        assert [entry.failures for entry in queue.entries()] == [0, 0, 0] and queue.has_more(worker.limits)
        with contextlib.closing(batches.get(names[1]).journal()) as journal:
            assert journal.standing().state is BatchState.QUEUED


@pytest.mark.parametrize("state", BatchState)
def test_what_nothing_carries(state: BatchState, tmp_path: Path) -> None:
    """Its journal was written last by a process that may have died a moment later, before it could change the queue."""
    with waiting(tmp_path, [["heron"]]) as (queue, batches, [name]):
        batch = batches.find(name)
        queued = Activities(queue).of(batch, state)
        queue.remove(name)
        alone = Activities(queue).of(batch, state)
    assert not queued.is_carried and not alone.is_carried and alone.entry is None
    if state in CARRIED or state is BatchState.INTERRUPTED:
        assert (queued.state, alone.state) == (BatchState.QUEUED, BatchState.INTERRUPTED)
    else:
        assert queued.state is alone.state is state
    assert (queued.entry is None) == (state in ENDED)


def test_looking_keeps_nobody_from_a_lock(tmp_path: Path) -> None:
    """Where a process that was killed has left its name, every look tries the lock itself."""
    lock, over = Lock(tmp_path / "lock"), threading.Event()
    dead = json.dumps(asdict(replace(Holder.this_process(), pid=1_000_000)))

    def look() -> None:
        while not over.is_set():
            Lock(lock.file).is_held()

    lookers = [threading.Thread(target=look) for _ in range(3)]
    lock.file.touch()
    for looker in lookers:
        looker.start()
    try:
        for _ in range(300):
            lock.file.write_text(dead)
            lock.take()
            lock.release()
    finally:
        over.set()
        for looker in lookers:
            looker.join()


def test_locks_say_who_holds_them(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    lock, same = Lock(tmp_path / "lock"), Lock(tmp_path / "lock")
    lock.take()
    with pytest.raises(LockTaken) as taken:
        same.take()
    assert taken.value.holder == Holder.this_process() and taken.value.holder.is_alive and same.is_held()
    for other in (
        replace(Holder.this_process(), boot="another"),
        replace(Holder.this_process(), started=1),  # the number was given out again
        replace(Holder.this_process(), pid=2**22 + 1),
    ):
        assert not other.is_alive
    lock.release()
    assert same.holder() is None and not same.is_held()
    (tmp_path / "lock").write_text('{"host": "another", "boot": "b", "pid": 7, "started": 9}')
    with pytest.raises(LockTaken) as taken:
        lock.take()
    assert taken.value.elsewhere and str(taken.value.holder) == "process 7 on another"
    lock.take(over=True)
    lock.release()
    # This machine under the name that it had before it was started again; but copies of it may share a disk.
    monkeypatch.setattr("yatagan.batches.locks.machine_id", lambda: "this")
    renamed = replace(Holder.this_process(), host="another")
    assert renamed.is_alive
    (tmp_path / "lock").write_text(json.dumps(asdict(replace(renamed, boot="b"))))
    with monkeypatch.context() as shared:
        shared.setattr("yatagan.batches.locks.on_network", lambda directory: True)
        with pytest.raises(LockTaken):
            lock.take()
    lock.take()
    lock.release()

    def no_locks(*args: object) -> None:
        raise OSError(37, "No locks available")

    monkeypatch.setattr("fcntl.flock", no_locks)
    with pytest.raises(NoLocks):
        lock.take()


def test_many_may_make_or_bring_up_a_queue_at_once(tmp_path: Path) -> None:
    """Processes that begin together open it for the first time, or as an earlier version has left it."""
    import multiprocessing

    context = multiprocessing.get_context("fork")
    for number in range(8):
        file = tmp_path / f"{number}" / "here.db"
        with context.Pool(4) as pool:
            assert pool.map(_open_queue, [file] * 4) == [[]] * 4


def _open_queue(file: Path) -> list[object]:
    return list(Queue(file, Batches(file.parent / "batches")).entries())
