"""States, scheduler, journal and group commit, without sockets."""

from __future__ import annotations

import asyncio
import os
import random
from collections.abc import Callable
from pathlib import Path
from types import SimpleNamespace
from typing import Any, cast

import pytest
from hypothesis import given
from hypothesis import strategies as st

import proof_page
import states_page
import trying_again_page
from yatagan.batches.batch_store import Batches
from yatagan.batches.counts import outcome_of
from yatagan.batches.group_commit import GroupCommit
from yatagan.batches.journal import Journal
from yatagan.batches.journal_data import Header
from yatagan.batches.log_events import LogNote
from yatagan.batches.states import SETTLED, STEP_MOVES, BatchState, StepState
from yatagan.batches.steps import FILES_PHASE, Change, Modes, Prove, Step, StepKind, Times
from yatagan.cli.words import fault_words
from yatagan.engine import run_messages as m
from yatagan.engine import scheduler as r
from yatagan.engine.retry import STEP_RETRIES, RetryPolicy
from yatagan.engine.run_log import RunLog, log_files, read_events
from yatagan.engine.session import Session
from yatagan.engine.small_file_finisher import SmallFileFinisher
from yatagan.errors import JournalError, StoreError
from yatagan.faults import CONNECTION_FAULTS, KIND_OF_FAULT, STOPPING_FAULTS, Fault, FaultKind
from yatagan.stores.interface import Extracted, Facts, Kind
from yatagan.stores.local import LocalStore


def test_every_state_leads_to_a_settled_one() -> None:
    for state in StepState:
        seen, edge = {state}, {state}
        while edge:
            edge = {after for before in edge for after in STEP_MOVES[before]} - seen
            seen |= edge
        assert seen & SETTLED


def step(number: int, **more: object) -> Step:
    facts = Facts(Kind.FILE, 10, 0, 0o644)
    return Step(number, FILES_PHASE, StepKind.FILE, b"/s", b"/d", b"label", facts, **more)  # type: ignore[arg-type]


def journal(steps: int = 3) -> Journal:
    header = Header("261124-abcd", 0, ("stage",), "", "heron", b"/d", Prove.AUTO)
    return Journal.in_memory(header, [step(number) for number in range(1, steps + 1)])


def test_the_journal_refuses_a_move_that_is_none_and_keeps_nothing_of_it() -> None:
    book = journal()
    with pytest.raises(AssertionError):
        book.apply([Change(1, state=StepState.MOVING), Change(2, state=StepState.PROVEN)])
    assert book.step(1).state is StepState.WAITING
    book.apply([Change(1, state=StepState.MOVING, durable="0-4", sent=4), Change(1, sent=3)])
    assert book.step(1).durable == "0-4" and book.step(1).sent == 7


@pytest.mark.parametrize(
    ("ended", "fault", "reopened"),
    [
        (StepState.FAILED, Fault.DENIED, 1),
        (StepState.FAILED, Fault.UNREADABLE, 0),  # which needs a new plan
        (StepState.LEFT, None, 0),
    ],
)
def test_a_batch_whose_failed_steps_wait_again_is_not_finished(
    ended: StepState, fault: Fault | None, reopened: int
) -> None:
    """Whoever dies before they are tried leaves no batch that calls itself finished, let alone good."""
    book = journal(1)
    book.settle(BatchState.MOVING)
    book.apply([Change(1, state=ended, fault=fault)])
    book.settle(BatchState.FINISHED)
    assert outcome_of(book).good == (ended is StepState.LEFT)
    assert book.reopen_failed() == reopened
    assert (book.standing().state is BatchState.FINISHED) == (not reopened)
    assert outcome_of(book).good == (ended is StepState.LEFT)


CHANGES = st.lists(
    st.fixed_dictionaries(
        {
            "number": st.integers(1, 4),
            "state": st.sampled_from([None, StepState.MOVING, StepState.ARRIVED, StepState.WAITING]),
            "generation": st.sampled_from([None, 1, 2]),
            "durable": st.sampled_from([None, "", "0-4"]),
            "sent": st.sampled_from([None, 3, 5]),
            "fault": st.sampled_from([None, Fault.DENIED]),
            "facts": st.sampled_from([None, Facts(Kind.FILE, 12, 7, 0o600)]),
        }
    ).map(lambda values: Change(**cast(Any, values))),
    max_size=12,
)


@given(CHANGES)
def test_changes_that_are_written_together_come_to_what_they_come_to_one_by_one(changes: list[Change]) -> None:
    together, one_by_one = journal(4), journal(4)
    try:
        for change in changes:
            one_by_one.apply([change])
    except AssertionError:
        with pytest.raises(AssertionError):
            together.apply(changes)
        assert list(together.steps()) == list(journal(4).steps())
    else:
        together.apply(changes)
        assert list(together.steps()) == list(one_by_one.steps())
        assert together.tally() == one_by_one.tally()


def test_very_many_changes_that_are_alike_are_written() -> None:
    book = journal(1234)
    book.apply([Change(number, state=StepState.MOVING, sent=1) for number in range(1, 1235)])
    assert {(each.state, each.sent) for each in book.steps()} == {(StepState.MOVING, 1)}
    with pytest.raises(AssertionError):
        book.apply([Change(number, state=StepState.ARRIVED) for number in (*range(1, 900), 1235)])


@pytest.mark.parametrize("threaded", [False, True])
def test_whoever_waits_for_a_scribe_that_fails_is_told(threaded: bool) -> None:
    async def work() -> None:
        commits = GroupCommit(journal(), threaded=threaded)
        commits.add(Change(1, sent=5))
        await commits.note(Change(1, state=StepState.MOVING))
        wrong = commits.note(Change(2, state=StepState.PROVEN))
        asked = await asyncio.gather(wrong, commits.note(Change(3, state=StepState.MOVING)), return_exceptions=True)
        assert [type(each) for each in asked] == [AssertionError, AssertionError]
        with pytest.raises(AssertionError):
            await commits.finish()

    asyncio.run(work())


def test_what_is_added_is_written_with_what_comes_next() -> None:
    async def work() -> None:
        book = journal()
        commits = GroupCommit(book)
        facts = Facts(Kind.FILE, 12, 7, 0o600)
        for number in (1, 1, 2):
            commits.add(Change(number, sent=4, facts=facts))
        await commits.note(Change(1, state=StepState.MOVING, durable="0-4"))
        assert [each.sent for each in book.steps()] == [8, 0, 0]
        assert book.step(1).facts == facts and book.step(1).durable == "0-4"
        await commits.note()
        assert [each.sent for each in book.steps()] == [8, 4, 0] and book.step(2).facts == facts

    asyncio.run(work())


def test_hashing_ends_when_its_store_is_closed(tmp_path: Path) -> None:
    """Nobody waits for a thread that would read a file for minutes."""
    with (tmp_path / "huge").open("wb") as file:
        file.truncate(1 << 40)

    async def work() -> None:
        store = LocalStore(b"/")
        digest = asyncio.ensure_future(store.machine.digest(os.fsencode(tmp_path / "huge"), "sha256"))
        await asyncio.sleep(0.1)
        await store.close()
        with pytest.raises(StoreError):
            await digest

    asyncio.run(work())


def test_a_damaged_journal_is_told(tmp_path: Path) -> None:
    (tmp_path / "journal.db").write_bytes(b"not a database at all, but long enough to look like one" * 40)
    with pytest.raises(JournalError):
        Journal.open(tmp_path / "journal.db")
    with pytest.raises(JournalError):
        Journal.open(tmp_path / "nothing.db")


@given(st.integers(0, 2**32))
def test_a_run_comes_to_an_end_whatever_happens(seed: int) -> None:
    """Random worlds: steps end, come back, the line goes; a settled batch has every step ended, or says why not."""
    rng = random.Random(seed)
    tickets = [m.Ticket(number, number // 5, rng.randrange(100)) for number in range(1, rng.randint(1, 20))]
    limits = r.Limits(
        steps_at_once=rng.randint(1, 6), bytes_at_once=150, fetch=rng.randint(2, 9), retry=RetryPolicy(patience=100)
    )
    machine = r.Scheduler(limits, rng.random)
    now, settled = 0.0, None
    working: dict[int, Any] = {}
    ended: set[int] = set()
    todo: list[m.Event] = [m.Begun()]
    for _ in range(3000):
        if settled is not None:
            break
        if not todo:
            todo.append(random_event(rng, machine, working, ended, now))
        for command in machine.handle(todo.pop(0)):
            match command:
                case m.Connect(wait):
                    now += wait
                    lucky = rng.random() < 0.8
                    todo.append(m.Connected() if lucky else m.ConnectFailed(now, passing=True))
                case m.FetchSteps(after, limit):
                    rest = [ticket for ticket in tickets if (ticket.phase, ticket.number) > after]
                    todo.append(m.StepsFetched(tuple(rest[:limit]), last=len(rest) < limit))
                case m.StartStep(number):
                    assert number not in ended
                    working[number] = next(ticket for ticket in tickets if ticket.number == number)
                    assert len({ticket.phase for ticket in working.values()}) == 1, "one phase at a time"
                    assert len(working) <= limits.steps_at_once
                case m.FailStep(number):
                    todo.append(m.StepEnded(number))
                    working.pop(number, None)
                    ended.add(number)
                case m.EndRun():
                    settled = command
        now += rng.random()
    assert settled is not None, "it never ended"
    if settled.state is BatchState.FINISHED:
        assert ended == {ticket.number for ticket in tickets}


def random_event(
    rng: random.Random, machine: r.Scheduler, working: dict[int, m.Ticket], ended: set[int], now: float
) -> m.Event:
    if not working:
        return m.StopRequested(None)
    number = rng.choice(sorted(working))
    if machine.state is r.RunState.RUNNING and rng.random() > 0.1:
        if rng.random() < 0.8:
            working.pop(number)
            ended.add(number)
            return m.StepEnded(number)
        fault = rng.choice([fault for fault in Fault if fault not in CONNECTION_FAULTS | STOPPING_FAULTS])
        return m.StepReturned(number, fault, moved=False, now=now)
    working.pop(number)
    return m.StepReturned(number, Fault.CONNECTION_LOST, moved=rng.random() < 0.3, now=now)


def test_no_file_waits_for_ever_to_be_finished() -> None:
    """Files come at every moment, also in that in which the last messages have just been answered."""

    class Machine:
        async def finish(self, files: list[object]) -> list[Extracted]:
            await asyncio.sleep(0)
            return [Extracted() for _ in files]

    async def go() -> None:
        destination = SimpleNamespace(machine=Machine(), traits=SimpleNamespace(here=False))
        session = Session(1, "b", b"/", Prove.AUTO, Modes.KEEP, Times.KEEP, None, destination, True)  # type: ignore[arg-type]
        finisher = SmallFileFinisher(SimpleNamespace(session=session, destination=session.destination))  # type: ignore[arg-type]
        step = Step(1, FILES_PHASE, StepKind.FILE, b"/a", b"/b", b"b", Facts(Kind.FILE, 1, 1, 1), digest="d")

        async def one(times: int) -> None:
            for _ in range(times):
                await finisher.finish(step)

        # Two whole messages, answered at once: whoever was in the first comes again, and nobody of the second.
        await asyncio.gather(*(one(2 if number < 200 else 1) for number in range(400)))

    asyncio.run(asyncio.wait_for(go(), 20))


def test_a_look_at_the_journal_waits_for_no_write(tmp_path: Path) -> None:
    """While a commit is under way, which waits for the disk, whoever looks sees what was so before."""
    step = Step(1, FILES_PHASE, StepKind.FILE, b"/a", b"/d/a", b"a", Facts(Kind.FILE, 8, 0, 0o644))
    header = Header("261127-look", 0, ("stage",), "", "", b"/d", Prove.AUTO)
    journal = Journal.create(tmp_path / "journal.db", header, [step])
    journal._sql.execute("BEGIN IMMEDIATE")
    journal._sql.execute("UPDATE step SET state = 'moving'")
    assert journal.step(1).state is StepState.WAITING
    journal._sql.execute("COMMIT")
    assert journal.step(1).state is StepState.MOVING
    journal.close()


def test_the_page_of_states_is_true() -> None:
    written = Path(__file__).parents[3] / "docs" / "reference" / "states.md"
    assert written.read_text() == states_page.page(), "make pages"


def test_the_page_of_proofs_is_true() -> None:
    written = Path(__file__).parents[3] / "docs" / "reference" / "proof.md"
    assert written.read_text() == proof_page.page(), "make pages"


@pytest.mark.parametrize(
    "ask",
    [
        lambda journal: journal.open_steps((0, 0), 5),
        lambda journal: journal.step(3),
        lambda journal: journal.members(7),
        lambda journal: journal.witness(1),
    ],
)
def test_what_is_asked_for_every_step_uses_an_index(ask: Callable[[Journal], object]) -> None:
    """A journal may hold a million steps."""
    header = Header("261127-look", 0, ("stage",), "", "", b"/d", Prove.AUTO)
    facts = Facts(Kind.FILE, 8, 0, 0o644)
    steps = (Step(number, FILES_PHASE, StepKind.FILE, b"/a", b"/d/a", b"a", facts) for number in range(1, 50))
    journal = Journal.in_memory(header, steps)
    asked: list[str] = []
    journal._sql.set_trace_callback(asked.append)
    ask(journal)
    journal._sql.set_trace_callback(None)
    (query,) = asked
    for *_, found in journal._sql.execute(f"EXPLAIN QUERY PLAN {query}"):
        assert found.startswith("SEARCH"), f"{query}: {found}"


def test_every_fault_has_a_kind_words_and_advice() -> None:
    """And the page that tells of them is the table's."""
    assert set(KIND_OF_FAULT) == set(Fault)
    for fault in set(Fault) - trying_again_page.LEFT_OUT:
        assert fault_words.fault(fault) and fault_words.step_remedy(fault), fault
    retried = {fault for fault in STEP_RETRIES if KIND_OF_FAULT[fault] is FaultKind.PASSES}
    assert retried | CONNECTION_FAULTS == {fault for fault, kind in KIND_OF_FAULT.items() if kind is FaultKind.PASSES}
    assert not set(STEP_RETRIES) & (STOPPING_FAULTS | CONNECTION_FAULTS)
    written = Path(__file__).parents[3] / "docs" / "guide" / "trying-again.md"
    assert written.read_text() == trying_again_page.page(), "make pages"


def test_a_log_is_kept_small_and_loses_no_line_to_a_torn_one(tmp_path: Path) -> None:
    """The newest lines are there, in order, whatever ended the write of any other."""
    batch = Batches(tmp_path).accept(Header("", 0, ("stage",), "", "heron", b"/d", Prove.AUTO), [])
    log, rng, count = RunLog(batch), random.Random(1), 300
    for number in range(count):
        log.write(LogNote(Fault.DENIED, b"%d" % number, "é" * 4000))
        if rng.random() < 0.2:
            with batch.log_file.open("ab") as stream:
                stream.write(rng.choice([b'{"time": "2026', b"\xff\0\n", b'"a string"\n', b"\n"]))
    batch.unlock()
    numbers = [int(event.path) for _, event in read_events(batch) if isinstance(event, LogNote)]
    assert numbers == list(range(numbers[0], count)) and numbers[0] > 0
    sizes = [file.stat().st_size for file in log_files(batch)]
    assert len(sizes) == 4 and all(size < 1.1 * 2**20 for size in sizes)
