"""Text for people: commands that can be pasted, lines that break where they may, numbers that hold still."""

from __future__ import annotations

import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import Practice, Program, part_file, wait_for
from yatagan.batches.batch_store import Batches
from yatagan.cli.terminal import text
from yatagan.errors import NoSuchBatch
from yatagan.places import parse_place


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
