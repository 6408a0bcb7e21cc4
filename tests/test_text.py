"""Text for people: commands that can be pasted, lines that break where they may, numbers that hold still."""

from __future__ import annotations

import json
import subprocess

import click
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import Practice, Program, part_file, wait_for
from yatagan.batches.batch_store import Batches
from yatagan.cli.terminal import text
from yatagan.errors import NoSuchBatch
from yatagan.near_names import nearest
from yatagan.places import parse_place

NAMES = st.lists(
    st.one_of(
        st.binary(min_size=1, max_size=12),
        st.text(alphabet=" '\"\\$`!*?[](){}<>|&;#~=äöü\n\t\x1b\u202e-:@", min_size=1, max_size=12).map(str.encode),
    ).map(lambda name: name.replace(b"\0", b"").replace(b"/", b"") or b"x"),
    min_size=1,
    max_size=20,
)


@settings(max_examples=40, deadline=None)
@given(names=NAMES)
def test_what_is_quoted_can_be_pasted_into_a_shell(names: list[bytes]) -> None:
    script = "printf '%s\\0' " + " ".join(text.quoted(name) for name in names)
    assert "\x1b" not in script and "\n" not in script and script.isprintable()
    done = subprocess.run(["bash", "-c", script.encode("utf-8", "surrogateescape")], capture_output=True, check=True)
    assert done.stdout.split(b"\0")[:-1] == names


@given(name=st.text(alphabet="ab-:@./ ä", min_size=1, max_size=8), node=st.sampled_from(["", "heron"]))
def test_a_place_that_is_printed_is_read_as_the_same_place(name: str, node: str) -> None:
    place = parse_place(f"{node}:{name}" if node else f"./{name}")
    typed = text.quoted(place)
    if "'" not in typed:
        again = parse_place(typed)
        assert (again.node, again.path.removeprefix(b"./") or b".") == (
            place.node,
            place.path.removeprefix(b"./") or b".",
        )
        assert not typed.startswith("-")


@given(words=st.lists(st.text(alphabet="abc", min_size=1, max_size=9), max_size=30), room=st.integers(12, 60))
def test_a_command_in_a_text_stays_in_one_piece(words: list[str], room: int) -> None:
    pasted = text.command("batch", "resume", "261127-k7qd", *words)
    lines: list[str] = []
    for before in ("", "Go on with: ", " ".join(["so"] * 20) + ": "):
        lines = text._wrap(before + pasted, room)
        assert any(pasted in line for line in lines)
        assert " ".join(lines).replace("  ", " ") == (before + pasted).replace("  ", " ")
        assert all(len(line) <= room for line in lines if "yatagan" not in line and " " in line)


@given(whole=st.integers(0, 10**18), share=st.floats(0, 1))
def test_bytes_of_bytes_hold_still(whole: int, share: float) -> None:
    shown = text.size_of(int(whole * share), whole)
    assert len(shown) == len(text.size_of(0, whole)) == len(text.size_of(whole, whole))
    assert shown.endswith(f" of {text.size(whole)}")


def test_columns_that_are_coloured_stay_in_line(capsys: pytest.CaptureFixture[str]) -> None:
    with click.Context(click.Command("any"), color=True):
        text.table(("a", "b"), [(text.tinted("good", text.Tone.GOOD), "1"), ("not good", "2")])
    lines = click.unstyle(capsys.readouterr().out).splitlines()
    assert [line.index(line.split()[-1]) for line in lines] == [10, 10, 10]


@pytest.mark.parametrize(
    ("typed", "known", "meant"),
    [
        ("hern", ["heron", "bittern"], "heron"),
        ("HERON", ["heron"], "heron"),
        ("heron", ["heron"], ""),
        ("zzz", ["heron"], ""),
        ("stgae", ["stage", "list"], "stage"),
        ("x", [], ""),
    ],
)
def test_the_nearest_name(typed: str, known: list[str], meant: str) -> None:
    assert nearest(typed, known) == meant


def test_any_part_of_a_batch_that_no_other_has(program: Program) -> None:
    names = []
    for number in range(3):
        (program.directory / "a").write_text("a" * number)
        names.append(program.json("stage", "a", f"there{number}")["batch"]["batch"])
    batches = Batches(program.home / "batches")
    for name in names:
        for part in {name, name[-4:], name[-4:].upper(), name[3:]}:
            others = [other for other in names if part.lower() in other and other != name]
            if not others:
                assert batches.find(part).name == name
    for shared, candidates in ((names[0][:3], 3), ("", 0), ("zzzz", 0)):
        with pytest.raises(NoSuchBatch) as error:
            batches.find(shared)
        assert len(error.value.candidates) == candidates and len(error.value.known) == 3


def test_a_node_that_does_not_answer_is_said(program: Program, practice: Practice) -> None:
    far = practice.far()
    program.know(far)
    (program.directory / "big").write_bytes(bytes(range(256)) * 40_000)
    running = program.start("stage", "big", "heron:", "--json-lines", "--max-rate", "2MB/s")
    wait_for(lambda: part_file(far.root, 500_000) is not None)
    practice.wrong("heron", delay="9s")
    assert running.stdout is not None
    said = (json.loads(line) for line in running.stdout)
    quiet = next(event for event in said if event["event"] == "no-answer")
    assert quiet["node"] == "heron" and quiet["quiet_seconds"] >= 5
    slow = next(event for event in said if event["event"] == "progress")
    assert slow["rate_bytes_per_second"] == 0 and slow["left_seconds"] is None
    practice.wrong("heron")
    assert next(event for event in said if event["event"] == "no-answer" and not event["quiet_seconds"])
    assert list(said)[-1]["batch"]["good"] and running.wait(60) == 0
