"""When a line is given up, what a failed step leaves, who writes into a part file, and what is kept once."""

from __future__ import annotations

import asyncio
import os
import stat
import time
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yatagan.batches.events import Event, StepSettled
from yatagan.batches.journal import Journal
from yatagan.batches.journal_data import Header
from yatagan.batches.states import BatchState, StepState
from yatagan.batches.steps import Modes, Prove, Step, StepKind, Times
from yatagan.engine import run_messages as m
from yatagan.engine import scheduler
from yatagan.engine.directories_above import DirectoriesAbove
from yatagan.engine.executor import Conditions, Executor
from yatagan.engine.kept_files import KeptFiles
from yatagan.engine.retry import ConnectionRetries, RetryPolicy
from yatagan.engine.session import Session, StepRefused
from yatagan.errors import StoreError
from yatagan.faults import Fault
from yatagan.planning.planner import make_plan
from yatagan.stores.interface import Placement, Reader, Writer
from yatagan.stores.local import LocalSource, LocalStore
from yatagan.stores.local_file import LocalFile
from yatagan.transfer.transfer import Tuning


@given(patience=st.floats(1, 1000), gaps=st.lists(st.floats(0.1, 400), min_size=1, max_size=12), jitter=st.floats(0, 1))
def test_a_line_is_given_up_once_its_patience_is_over(patience: float, gaps: list[float], jitter: float) -> None:
    retries, now = ConnectionRetries(RetryPolicy(patience), lambda: jitter), 50.0
    for _ in range(2):
        began = now
        assert retries.may_retry(now), "the first failure after progress is never the last"
        for gap in gaps:
            left = patience - (now - began)
            assert not retries.may_retry(now) if left <= 0 else retries.next_wait(now) <= left + 1e-6
            now += gap
        assert retries.may_retry(now) == (now - began < patience)
        retries.progress()


class Source(LocalSource):
    """Opens a store of a kind of its own."""

    def __init__(self, store: LocalStore) -> None:
        super().__init__(b"/")
        self.store = store

    async def open(self) -> LocalStore:
        return self.store


class Unnamed(LocalStore):
    """A disk on which nothing gets its final name."""

    def __init__(self, fault: Fault) -> None:
        super().__init__(b"/")
        self.fault = fault

    async def place(self, part: Writer, wanted: Placement) -> Fault | None:
        await part.close()
        raise StoreError(self.fault, b"fen")


class Hurried:
    """A clock that waits for nothing."""

    def monotonic(self) -> float:
        return time.monotonic()

    async def sleep(self, seconds: float) -> None:
        await asyncio.sleep(0)


async def planned(root: Path, prove: Prove = Prove.AUTO) -> Journal:
    here, top = LocalStore(b"/"), os.fsencode(root / "top")
    os.utime(root / "fen", (1e9, 1e9))  # what is new is waited for
    plan = await make_plan(here, here, [(os.fsencode(root / "fen"), b"fen")], top)
    return Journal.in_memory(Header("261127-fen", 0, ("stage",), "", "", top, prove), plan.steps())


@pytest.mark.parametrize("fault", [Fault.DENIED, Fault.REFUSED], ids=["at once", "after some tries"])
def test_a_step_that_fails_for_good_gives_its_space_back_at_once(tmp_path: Path, fault: Fault) -> None:
    (tmp_path / "fen").write_bytes(b"fen" * 1000)
    left = list[list[str]]()

    def hear(event: Event) -> None:
        if isinstance(event, StepSettled) and event.state is StepState.FAILED:
            assert event.fault is fault
            left.append(os.listdir(tmp_path / "top"))

    async def work() -> None:
        journal = await planned(tmp_path)
        await Executor(journal, LocalSource(b"/"), Source(Unnamed(fault)), hear, Conditions(clock=Hurried())).run()

    asyncio.run(work())
    assert left == [[]]


class Watched(LocalStore):
    """Says whether who wrote into a part file has gone, and notes what is done with that file."""

    def __init__(self, *, gone: bool) -> None:
        super().__init__(b"/")
        self.gone, self.asked, self.written_again, self.copied = gone, False, False, False

    async def writers_gone(self, witness: str) -> bool:
        self.asked = True
        return self.gone

    async def reopen_part(self, path: bytes) -> Writer:
        self.written_again = True
        return await super().reopen_part(path)

    async def copy_part(self, old: bytes, new: bytes, size: int, mode: int = 0o600) -> None:
        self.copied = True
        await super().copy_part(old, new, size, mode)


@pytest.mark.parametrize("gone", [True, False])
def test_a_part_file_that_an_earlier_session_may_write_into_is_copied(
    tmp_path: Path, gone: bool, monkeypatch: pytest.MonkeyPatch
) -> None:
    data = os.urandom(4 << 20)
    (tmp_path / "fen").write_bytes(data)
    conditions, copy = Conditions(tuning=Tuning(sync_bytes=1 << 20), clock=Hurried()), LocalFile.copy_here

    def full(self: LocalFile, source: Reader, offset: int, size: int) -> bool:
        if offset:
            raise StoreError(Fault.NO_SPACE)
        return copy(self, source, offset, size)

    async def work() -> Watched:
        journal, here, store = await planned(tmp_path), LocalSource(b"/"), Watched(gone=gone)
        with monkeypatch.context() as patch:
            patch.setattr(LocalFile, "copy_here", full)
            await Executor(journal, here, here, lambda event: None, conditions).run()
        assert any(step.durable for step in journal.steps())
        await Executor(journal, here, Source(store), lambda event: None, conditions).run()
        return store

    store = asyncio.run(work())
    assert store.asked and (store.written_again, store.copied) == (gone, not gone)
    assert (tmp_path / "top" / "fen").read_bytes() == data


class Refusing(LocalStore):
    """A disk that keeps nothing."""

    async def keep(self, path: bytes, kept: bytes) -> None:
        raise StoreError(Fault.DENIED, kept)


def test_a_link_is_kept_once_and_never_over_another(tmp_path: Path) -> None:
    link, kept = tmp_path / "link", tmp_path / ".yatagan-kept" / "261127-fen" / "link"
    link.symlink_to("a")

    async def keep(store: LocalStore) -> None:
        top = os.fsencode(tmp_path)
        session = Session(1, "261127-fen", top, Prove.AUTO, Modes.KEEP, Times.KEEP, store, store, False)
        found = await store.look(os.fsencode(link))
        assert found is not None
        step = Step(1, 1, StepKind.LINK, b"", os.fsencode(link), b"link", found)
        await KeptFiles(session, DirectoriesAbove(store, top)).keep(step, found)

    store = LocalStore(b"/")
    asyncio.run(keep(store))
    asyncio.run(keep(store))  # an earlier try did it
    assert os.readlink(kept) == "a"
    link.unlink()
    link.symlink_to("elsewhere")
    with pytest.raises(StepRefused) as refused:
        asyncio.run(keep(store))
    assert refused.value.fault is Fault.KEPT_TAKEN and os.readlink(kept) == "a"
    with pytest.raises(StoreError) as denied:
        asyncio.run(keep(Refusing(b"/")))
    assert denied.value.fault is Fault.DENIED


class Line:
    """A run whose line is lost again and again; every step may bring it on, or nothing does."""

    def __init__(self) -> None:
        limits = scheduler.Limits(steps_at_once=2, retry=RetryPolicy(patience=100.0))
        self.now, self.working = 0.0, list[int]()
        self.end: BatchState | None = None
        self._machine = scheduler.Scheduler(limits, lambda: 0.5)
        self._left = [m.Ticket(number, 0, 1) for number in range(1, 200)]
        self.tell(m.Begun())

    def tell(self, event: m.Event) -> None:
        """Tell of an event, and do what is commanded."""
        for command in self._machine.handle(event):
            match command:
                case m.Connect(wait):
                    self.now += wait
                    self.tell(m.Connected())
                case m.FetchSteps(after, limit):
                    rest = tuple(each for each in self._left if (each.phase, each.number) > after)
                    self.tell(m.StepsFetched(rest[:limit], last=len(rest) < limit))
                case m.StartStep(number):
                    self.working.append(number)
                case m.EndRun(state):
                    self.end = state

    def lose(self, step: int | None = None, *, ends: bool = False) -> None:
        """The line goes after a minute. One of two steps at work comes on before, or as the last of both."""
        self.now += 60
        if step == 0 and ends:
            self.tell(m.StepEnded(self.working.pop()))
        at_work, self.working = self.working, []
        for which, number in enumerate(at_work):
            if which == step == 1 and ends:
                self.tell(m.StepEnded(number))
            else:
                moved = which == step and not ends
                self.tell(m.StepReturned(number, Fault.CONNECTION_LOST, moved=moved, now=self.now))


@pytest.mark.parametrize("step", [0, 1])
@pytest.mark.parametrize("ends", [True, False], ids=["ends", "comes on"])
def test_patience_begins_anew_with_every_progress(step: int, ends: bool) -> None:
    line = Line()
    for _ in range(10):
        line.lose()
        line.lose(step, ends=ends)
    assert line.end is None
    line.lose()
    line.lose()
    line.lose()
    assert line.end is BatchState.INTERRUPTED


def test_the_special_bits_of_a_file_stay_and_those_of_a_directory_arrive(tmp_path: Path) -> None:
    """A program that runs as its owner is no such program where it arrives; a directory's group is handed down."""
    source, there = tmp_path / "fen", tmp_path / "top" / "fen"
    for place in (source, there):
        place.mkdir(parents=True)
        (place / "run").write_bytes(b"#!")
        os.utime(place / "run", (1e9, 1e9))
        (place / "run").chmod(0o644)
    (source / "run").chmod(0o4751)
    source.chmod(0o2755)

    async def work() -> None:
        here, top = LocalStore(b"/"), os.fsencode(tmp_path / "top")
        plan = await make_plan(here, here, [(os.fsencode(source), b"fen")], top)
        journal = Journal.in_memory(Header("261127-fen", 0, ("stage",), "", "", top, Prove.AUTO), plan.steps())
        ends = LocalSource(b"/"), LocalSource(b"/")
        await Executor(journal, *ends, lambda event: None, Conditions(clock=Hurried())).run()
        assert not list(journal.steps(StepState.FAILED))

    asyncio.run(work())
    assert stat.S_IMODE((there / "run").stat().st_mode) == 0o751
    assert stat.S_IMODE(there.stat().st_mode) == 0o2755
