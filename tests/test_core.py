"""The core without sockets: places, lists, extents, states, the runner, the journal, text, the ledger."""

from __future__ import annotations

import asyncio
import itertools
import json
import os
import random
import subprocess
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from types import SimpleNamespace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import states_page
from yatagan.batches.group_commit import GroupCommit
from yatagan.batches.journal import Journal
from yatagan.batches.journal_data import Header
from yatagan.batches.states import SETTLED, STEP_MOVES, BatchState, StepState
from yatagan.batches.steps import FILES_PHASE, Change, Modes, Prove, Step, StepKind, Times
from yatagan.cli import text
from yatagan.config.nodes import Node, NodeBook, Role
from yatagan.config.units import parse_duration, parse_size
from yatagan.digests.checksum_lists import Listed, format_line, parse_list
from yatagan.engine import scheduler as r
from yatagan.engine.bulk_finish import BulkFinisher
from yatagan.engine.retry import RetryPolicy
from yatagan.engine.session import Session
from yatagan.errors import BadConfig, BadList, BadPlace, Fault, JournalError, StoreError
from yatagan.ledger.records import Ledger, RecordKind
from yatagan.places import Place, name_fields, name_from, parse_place
from yatagan.planning.name_template import Template
from yatagan.stores.in_flight import InFlight
from yatagan.stores.interface import Extracted, Facts, Kind
from yatagan.stores.local import LocalStore
from yatagan.transfer.extents import Extents
from yatagan.trees.compare import Verdict, compare
from yatagan.trees.entries import Entries
from yatagan.trees.scan import Tree

NAME = st.binary(min_size=1, max_size=40).filter(lambda name: b"\0" not in name and b"/" not in name)
LEGAL = NAME.filter(lambda name: name not in (b".", b".."))
DIGEST = "0123456789abcdef" * 4


# -- places and lists --------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("typed", "place"),
    [
        ("fen", Place("", b"fen")),
        ("fen/", Place("", b"fen")),
        ("/", Place("", b"/")),
        ("./a:b", Place("", b"./a:b")),
        ("heron:", Place("heron", b"")),
        ("heron:/", Place("heron", b"/")),
        ("heron:a:b", Place("heron", b"a:b")),
        ("heron:fen//", Place("heron", b"fen")),
        ("a/b:c", Place("", b"a/b:c")),
    ],
)
def test_places(typed: str, place: Place) -> None:
    assert parse_place(typed) == place


@pytest.mark.parametrize("typed", ["", "a b:c", "1node:x", "a\0b"])
def test_places_that_are_none(typed: str) -> None:
    with pytest.raises(BadPlace):
        parse_place(typed)


@given(NAME)
def test_names_pass_through_json(name: bytes) -> None:
    assert name_from(json.loads(json.dumps(name_fields(name)))) == name


@given(st.lists(LEGAL, unique=True, min_size=1))
def test_a_list_reads_back(names: list[bytes]) -> None:
    data = b"".join(format_line(name, DIGEST) for name in names)
    assert parse_list(data) == [Listed(name, DIGEST) for name in names]


@settings(max_examples=40, deadline=None)
@given(names=st.lists(LEGAL, min_size=1, max_size=8, unique=True))
def test_the_standard_command_reads_our_lists(names: list[bytes], tmp_path_factory: pytest.TempPathFactory) -> None:
    directory = os.fsencode(tmp_path_factory.mktemp("list"))
    empty = "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855"
    for name in names:
        with open(os.path.join(directory, name), "wb"):
            pass
    data = b"".join(format_line(name, empty) for name in names)
    done = subprocess.run(
        ["sha256sum", "--strict", "--quiet", "-c", "/dev/stdin"], cwd=directory, input=data, check=False
    )
    assert done.returncode == 0


@pytest.mark.parametrize(
    "line",
    [
        b"nonsense",
        b"abcd  short",
        DIGEST.encode() + b"  ../up",
        DIGEST.encode() + b"  /root",
        b"\\" + DIGEST.encode() + b"  bad\\escape",
        DIGEST.encode() + b"  a/../../b",
    ],
)
def test_lists_that_cannot_be_trusted(line: bytes) -> None:
    with pytest.raises(BadList):
        parse_list(line + b"\n")


# -- extents and the budget --------------------------------------------------------------------------------


@given(st.lists(st.tuples(st.integers(0, 60), st.integers(0, 20))), st.integers(0, 80), st.integers(0, 20))
def test_extents_are_a_set_of_bytes(pieces: list[tuple[int, int]], start: int, length: int) -> None:
    extents, model = Extents(), set()
    for begin, size in pieces:
        extents.add(begin, begin + size)
        model |= set(range(begin, begin + size))
    assert {byte for a, b in extents for byte in range(a, b)} == model
    ranges = list(extents)
    assert all(a < b for a, b in ranges) and all(x[1] < y[0] for x, y in itertools.pairwise(ranges))
    assert extents.covers(start, start + length) == (set(range(start, start + length)) <= model)
    assert extents.total == len(model) and Extents.decode(extents.encode()) == extents
    assert extents.prefix == next(at for at in range(200) if at not in model)


@given(st.lists(st.integers(1, 30), min_size=1, max_size=30), st.integers(0, 2**32))
def test_no_more_is_on_the_way_than_may_be_and_nobody_starves(sizes: list[int], seed: int) -> None:
    rng = random.Random(seed)
    room, held, most = InFlight(40), 0, 0

    async def work(size: int) -> None:
        nonlocal held, most
        await room.take(size)
        held += size
        most = max(most, held)
        for _ in range(rng.randint(0, 3)):
            await asyncio.sleep(0)
        held -= size
        room.give(size)

    async def everybody() -> None:
        await asyncio.gather(*(work(size) for size in sizes))

    asyncio.run(everybody())
    assert held == 0 and most <= 40


# -- states, runner, journal -------------------------------------------------------------------------------


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


@pytest.mark.parametrize(
    ("typed", "size"),
    [
        ("4096", 4096),
        ("500kB", 500_000),
        ("2.5 GB", 2_500_000_000),
        ("20MB/s", 20_000_000),
        ("1K", 1000),
        ("", None),
        ("many", None),
        ("-5", None),
        ("infM", None),
        ("1e3", None),
        ("20MBB", None),
    ],
)
def test_sizes_as_people_write_them(typed: str, size: int | None) -> None:
    if size is None:
        with pytest.raises(ValueError, match="is no size"):
            parse_size(typed)
    else:
        assert parse_size(typed) == size


def test_the_journal_refuses_a_move_that_is_none_and_keeps_nothing_of_it() -> None:
    book = journal()
    with pytest.raises(AssertionError):
        book.apply([Change(1, state=StepState.MOVING), Change(2, state=StepState.PROVEN)])
    assert book.step(1).state is StepState.WAITING
    book.apply([Change(1, state=StepState.MOVING, durable="0-4", sent=4), Change(1, sent=3)])
    assert book.step(1).durable == "0-4" and book.step(1).sent == 7


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
    ).map(lambda values: Change(**values)),
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
    tickets = [r.Ticket(number, number // 5, rng.randrange(100)) for number in range(1, rng.randint(1, 20))]
    limits = r.Limits(
        steps_at_once=rng.randint(1, 6), bytes_at_once=150, fetch=rng.randint(2, 9), retry=RetryPolicy(patience=100)
    )
    machine = r.Scheduler(limits, rng.random)
    now, working, ended, settled = 0.0, {}, set(), None
    todo: list[r.Event] = [r.Begun()]
    for _ in range(3000):
        if settled is not None:
            break
        if not todo:
            todo.append(random_event(rng, machine, working, ended, now))
        for command in machine.handle(todo.pop(0)):
            match command:
                case r.Connect(wait):
                    now += wait
                    lucky = rng.random() < 0.8
                    todo.append(r.Connected() if lucky else r.ConnectFailed(now, passing=True, person=False))
                case r.FetchSteps(after, limit):
                    rest = [ticket for ticket in tickets if (ticket.phase, ticket.number) > after]
                    todo.append(r.StepsFetched(tuple(rest[:limit]), last=len(rest) < limit))
                case r.StartStep(number):
                    assert number not in ended
                    working[number] = next(ticket for ticket in tickets if ticket.number == number)
                    assert len({ticket.phase for ticket in working.values()}) == 1, "one phase at a time"
                    assert len(working) <= limits.steps_at_once
                case r.FailStep(number):
                    todo.append(r.StepEnded(number))
                    working.pop(number, None)
                    ended.add(number)
                case r.EndRun():
                    settled = command
        now += rng.random()
    assert settled is not None, "it never ended"
    if settled.state is BatchState.FINISHED:
        assert ended == {ticket.number for ticket in tickets}


def random_event(
    rng: random.Random, machine: r.Scheduler, working: dict[int, r.Ticket], ended: set[int], now: float
) -> r.Event:
    if not working:
        return r.StopRequested(None)
    number = rng.choice(sorted(working))
    if machine.state is r.RunState.RUNNING and rng.random() > 0.1:
        if rng.random() < 0.8:
            working.pop(number)
            ended.add(number)
            return r.StepEnded(number)
        return r.StepReturned(number, Fault.SOURCE_CHANGED, moved=False, now=now)
    working.pop(number)
    return r.StepReturned(number, Fault.CONNECTION_LOST, moved=rng.random() < 0.3, now=now)


# -- comparing ---------------------------------------------------------------------------------------------


#: Names as a tree has them, some of which are in directories.
paths = st.lists(st.sampled_from([b"a", b"a-", b"ab", b"b", b"\x01", b"\xff"]), max_size=4).map(b"/".join)
facts = st.builds(
    Facts,
    st.sampled_from(Kind),
    st.integers(0),
    st.integers(),
    st.integers(0, 0o7777),
    st.integers(),
    st.integers(0),
)


@given(st.dictionaries(paths, st.one_of(facts, facts.map(lambda each: replace(each, changed_ns=None, inode=None)))))
def test_entries_are_a_dictionary_with_an_order(given_: dict[bytes, Facts]) -> None:
    entries = Entries(given_)
    assert dict(entries.items()) == given_ and len(entries) == len(given_)
    assert all(path in entries and entries.get(path) == found for path, found in given_.items())
    for kind in Kind:
        assert list(entries.of_kind(kind)) == [path for path, found in given_.items() if found.kind is kind]
    assert entries.get(b"c") is None and b"c" not in entries
    assert entries.in_order() == sorted(given_, key=lambda path: path.split(b"/"))
    for path in list(given_):
        del entries[path]
    assert not entries


def test_comparing_by_facts() -> None:
    second = 10**9
    old, new = Facts(Kind.FILE, 5, 7 * second + 3, 0o644, 7 * second, 1), Facts(Kind.FILE, 5, 7 * second, 0o600)
    top = Facts(Kind.DIRECTORY, 0, 0, 0o755)
    here = Tree(b"/a", Entries({b"": top, b"same": old, b"gone": old, b"size": old, b"kind": old}))
    there = Tree(
        b"/b",
        Entries(
            {
                b"": Facts(Kind.DIRECTORY, 0, 1, 0o700),
                b"same": new,
                b"size": Facts(Kind.FILE, 6, 7 * second, 0),
                b"kind": Facts(Kind.DIRECTORY, 0, 0, 0o755),
            }
        ),
    )

    def verdicts(step_ns: int, fresh: int | None) -> dict[bytes, Verdict]:
        return {found.path: found.verdict for found in compare(here, there, step_ns=step_ns, fresh_since_ns=fresh)}

    coarse = verdicts(second, None)
    assert coarse == {
        b"": Verdict.SAME,
        b"same": Verdict.SAME,
        b"gone": Verdict.NEW,
        b"size": Verdict.DIFFERENT,
        b"kind": Verdict.IN_THE_WAY,
    }
    assert verdicts(1, None)[b"same"] is Verdict.DIFFERENT
    assert verdicts(second, 6 * second)[b"same"] is Verdict.UNDECIDED


# -- text --------------------------------------------------------------------------------------------------


@given(st.one_of(st.binary(), st.text(), st.text(st.characters(categories=["Cc", "Cf", "Zl", "Zp"]))))
def test_what_is_shown_is_harmless(name: bytes | str) -> None:
    shown = text.show(name)
    assert "\x1b" not in shown and "\n" not in shown and all(char.isprintable() for char in shown)
    shown.encode("utf-8")


@given(st.integers(0, 10**20))
def test_sizes_have_three_digits(count: int) -> None:
    number = text.size(count).split(" ")[0]
    assert len(number.replace(".", "")) <= 3


@pytest.mark.parametrize(
    ("typed", "seconds"), [("90s", 90), ("10m", 600), ("1.5h", 5400), ("2d", 172800), ("20ms", 0.02)]
)
def test_durations(typed: str, seconds: float) -> None:
    assert parse_duration(typed) == seconds


# -- nodes and the ledger ----------------------------------------------------------------------------------


def test_the_node_file_keeps_its_comments_and_is_checked(tmp_path: Path) -> None:
    file = tmp_path / "nodes.toml"
    file.write_text('# our cluster\n[node.dunlin]\naddress = "login.fen.example" # the front door\nrole = "login"\n')
    book = NodeBook(file)
    book.put(Node("heron", "transfer.fen.example", port=2222, user="mara"))
    book.remove("heron")
    book.put(Node("heron", "transfer.fen.example", port=2222))
    assert "# our cluster" in file.read_text() and "# the front door" in file.read_text()
    again = NodeBook(file)
    assert [node.name for node in again] == ["dunlin", "heron"]
    assert again.get("dunlin").role is Role.LOGIN and again.get("heron").port == 2222
    for wrong in ("[node.x]\n", "[node.x]\naddress=1", '[node.x]\naddress="a"\nprot=1', "[node", '[node]\nx="y"'):
        file.write_text(wrong)
        with pytest.raises(BadConfig):
            NodeBook(file)


def test_a_process_may_keep_several_ledgers_in_one_second(tmp_path: Path) -> None:
    """As a keeper does whose batches end at the same time."""
    several = [Ledger(tmp_path) for _ in range(3)]
    for turn in range(6):
        several[turn % 3].append(f"batch-{turn}", RecordKind.STAGED, {"turn": turn}, [(b"fen/a", "00" * 32)])
    records = list(Ledger(tmp_path).records())
    assert len(records) == 6 and all(record.fits for record in records)
    assert len({record.file for record in records}) == 3
    assert [path.name for path in (tmp_path / "lists").iterdir() if path.name.startswith(".")] == []


def test_nobody_quietly_rewrites_the_ledger(tmp_path: Path) -> None:
    first, second = Ledger(tmp_path), Ledger(tmp_path)
    first.append("a", RecordKind.STAGED, {"files": 1}, [(b"x", DIGEST)])
    second._file = tmp_path / "other-process.jsonl"
    second.append("b", RecordKind.VERIFIED, {"files": 2})
    first.append("c", RecordKind.LISTED, {"files": 3})
    records = list(Ledger(tmp_path).records())
    assert {record.id for record in records} == {"a", "b", "c"} and all(record.fits for record in records)
    (listed,) = [record.body["list"] for record in records if record.id == "a"]
    assert (tmp_path / "lists" / listed).read_text() == f"{DIGEST}  x\n"
    for file in tmp_path.glob("*.jsonl"):
        original = file.read_bytes()
        file.write_bytes(original.replace(b'"files":', b'"files":9', 1))
        if original.count(b"\n") > 1 or file.name.startswith("other"):
            assert not all(record.fits for record in Ledger(tmp_path).records())
        file.write_bytes(original + b'{"half a li')
        assert all(record.fits for record in Ledger(tmp_path).records()), "a torn last line was never a record"
        file.write_bytes(original)
    (tmp_path / "other-process.jsonl").unlink()
    assert Ledger(tmp_path).missing() == ["other-process.jsonl"], "a file that is gone is missed"


@pytest.fixture
def ledger(tmp_path: Path) -> Path:
    """Two writers: a1, b1, a2, b2, a3 in this order. a3 is the newest of all, which nothing vouches for yet."""
    first, second = Ledger(tmp_path), Ledger(tmp_path)
    first._file, second._file = tmp_path / "a.jsonl", tmp_path / "b.jsonl"
    for writer, name in ((first, "a1"), (second, "b1"), (first, "a2"), (second, "b2"), (first, "a3")):
        writer.append(name, RecordKind.STAGED, {"files": 1}, [(name.encode(), DIGEST)])
    assert problems(tmp_path) == {}
    return tmp_path


def problems(directory: Path) -> dict[str, str]:
    return {record.id: record.problem for record in Ledger(directory).records() if record.problem}


@pytest.mark.parametrize(("name", "seen"), [("a1", True), ("a2", True), ("a3", False), ("b1", True), ("b2", True)])
def test_the_record_that_was_changed_is_named_and_no_other(ledger: Path, name: str, seen: bool) -> None:
    file = ledger / f"{name[0]}.jsonl"
    lines = file.read_bytes().split(b"\n")
    at = int(name[1]) - 1
    lines[at] = lines[at].replace(b'"files":1', b'"files":7')
    file.write_bytes(b"\n".join(lines))
    found = problems(ledger)
    assert set(found) == ({name} if seen else set()) and all("changed" in problem for problem in found.values())


def test_the_newest_record_of_a_file_that_is_gone_is_missed(ledger: Path) -> None:
    file = ledger / "b.jsonl"
    file.write_bytes(file.read_bytes().split(b"\n")[0] + b"\n")
    found = problems(ledger)
    assert set(found) <= {"b1"} and "removed" in found["b1"]


def test_lists_are_checked_and_a_fifo_does_not_hang(ledger: Path) -> None:
    lists = {record.id: ledger / "lists" / record.body["list"] for record in Ledger(ledger).records()}
    lists["a1"].write_text("other\n")
    lists["b1"].unlink()
    os.mkfifo(ledger / "pipe.jsonl")
    assert problems(ledger) == {"a1": "its checksum list was changed", "b1": "its checksum list is missing"}


def test_heads_of_other_files_are_named_when_they_have_moved(tmp_path: Path) -> None:
    """A record does not grow with the number of files."""
    for number in range(40):
        Ledger(tmp_path).append(f"{number}", RecordKind.STAGED, {})
    last = Ledger(tmp_path)
    last.append("x", RecordKind.STAGED, {})
    last.append("y", RecordKind.STAGED, {})
    sizes = [len(line) for file in tmp_path.glob("*.jsonl") for line in file.read_bytes().splitlines()]
    assert max(sizes) < 600 and problems(tmp_path) == {}


# -- names by template -------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("template", "names"),
    [
        ("{name}", [b"flux.csv", b"fen.tar.gz", b".rc", b"d\xff"]),
        ("{stem}-2026{suffix}", [b"flux-2026.csv", b"fen-2026.tar.gz", b".rc-2026", b"d\xff-2026"]),
        ("{parent}_{number:03}{suffix}", [b"07_001.csv", b"runs_002.tar.gz", b"_003", b"x_004"]),
        ("{{{number}}}", [b"{1}", b"{2}", b"{3}", b"{4}"]),
    ],
)
def test_names_by_template(template: str, names: list[bytes]) -> None:
    sources = [(b"runs/07/flux.csv", b"flux.csv"), (b"runs/fen.tar.gz", b"fen.tar.gz"), (b".rc", b".rc")]
    assert Template(template).names([*sources, (b"x/d\xff/", b"d\xff")]) == names


@pytest.mark.parametrize(
    "template", ["{0}", "{}", "{name", "name}", "{name!r}", "{name:5}", "{number:x}", "{name.upper}"]
)
def test_templates_that_are_none(template: str) -> None:
    with pytest.raises(ValueError, match=r"."):
        Template(template)


@given(st.text(max_size=300), st.binary(min_size=1, max_size=255))
def test_a_template_never_gives_a_path(template: str, name: bytes) -> None:
    try:
        [made] = Template(template).names([(b"a/" + name, name)])
    except ValueError:
        return
    assert made not in (b"", b".", b"..") and b"/" not in made and len(made) <= 255


# -- many small files finished together --------------------------------------------------------------------


def test_no_file_waits_for_ever_to_be_finished() -> None:
    """Files come at every moment, also in that in which the last messages have just been answered."""

    class Machine:
        async def finish(self, files: list[object]) -> list[Extracted]:
            await asyncio.sleep(0)
            return [Extracted() for _ in files]

    async def go() -> None:
        destination = SimpleNamespace(machine=Machine(), traits=SimpleNamespace(here=False))
        session = Session(1, "b", b"/", Prove.AUTO, Modes.KEEP, Times.KEEP, None, destination, True)  # type: ignore[arg-type]
        finisher = BulkFinisher(SimpleNamespace(session=session, destination=session.destination))  # type: ignore[arg-type]
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
    written = Path(__file__).parents[1] / "docs" / "reference" / "states.md"
    assert written.read_text() == states_page.page(), "python tests/states_page.py > docs/reference/states.md"


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
    journal, asked = Journal.in_memory(header, steps), []
    journal._sql.set_trace_callback(asked.append)
    ask(journal)
    journal._sql.set_trace_callback(None)
    (query,) = asked
    for *_, found in journal._sql.execute(f"EXPLAIN QUERY PLAN {query}"):
        assert found.startswith("SEARCH"), f"{query}: {found}"
