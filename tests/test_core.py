"""The core without sockets: places, lists, extents, comparing, text, nodes, names by template."""

from __future__ import annotations

import asyncio
import contextlib
import itertools
import json
import os
import random
import subprocess
from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from yatagan.batches.batch_store import Batches
from yatagan.batches.journal_data import Header
from yatagan.batches.states import BatchState
from yatagan.batches.steps import Prove
from yatagan.cli.terminal import text
from yatagan.config.nodes import Node, NodeBook, Role
from yatagan.config.units import parse_duration, parse_size
from yatagan.digests.any_lists import own_list
from yatagan.digests.checksum_lists import Listed, format_line
from yatagan.errors import BadConfig, BadList, BadPlace
from yatagan.places import Place, name_fields, name_from, parse_place
from yatagan.planning.name_template import Template
from yatagan.stores.in_flight import InFlight
from yatagan.stores.interface import Facts, Kind
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
    assert own_list(data, "list") == [Listed(name, DIGEST) for name in names]


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
        own_list(line + b"\n", "list")


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
    ("typed", "seconds"),
    [("90s", 90), ("10m", 600), ("15min", 900), ("2 min", 120), ("1.5h", 5400), ("2d", 172800), ("20ms", 0.02)],
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


def test_few_of_many_batches_are_opened(tmp_path: Path) -> None:
    """What is finished is known without its journal; and a mark is never there for one that goes on again."""
    batches = Batches(tmp_path)
    names = []
    for number in range(4):
        batch = batches.accept(Header("", 0, ("stage",), "", "heron", b"/d", Prove.AUTO), [])
        batch.unlock()
        names.append(batch.name)
        with contextlib.closing(batch.journal()) as journal:
            if number < 3:
                journal.settle(BatchState.MOVING)
                journal.settle(BatchState.FINISHED)
            if number == 1:
                journal.settle(BatchState.QUEUED)
    assert [batch.name for batch in batches] == names
    assert [batch.name for batch, _ in batches.opened(finished=False)] == [names[3], names[1]]
    for mark in tmp_path.rglob("accepted"):
        mark.unlink()
    for mark in tmp_path.rglob("finished"):
        mark.unlink()
    assert [batch.name for batch in batches] == names, "as before there were marks"
    assert len(list(batches.opened(finished=False))) == 4
