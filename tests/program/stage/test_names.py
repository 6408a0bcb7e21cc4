"""Names that the disk at the destination cannot hold, or cannot tell apart."""

from __future__ import annotations

import os
import time
from pathlib import Path

import pytest

from conftest import Practice, Program, snapshot
from yatagan.trees.name_clashes import folded


@pytest.fixture
def heron(program: Program, practice: Practice) -> Path:
    """The start directory of a node whose disk ignores case and takes no colon."""
    far = practice.far()
    program.know(far)
    practice.wrong("heron", foreign_names="yes")
    return far.root


def fill(root: Path, *names: str) -> None:
    for name in names:
        path = root / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(f"this is {name}")
        os.utime(path, (time.time() - 3600,) * 2)


def test_the_plan_names_what_would_be_one(program: Program, heron: Path) -> None:
    fen = program.directory / "fen"
    fill(fen, "DIRa/x.csv", "DIRa/y.csv", "dirA/x.csv", "dirA/z.csv", "Notes", "notes", "other")
    fill(heron, "Campaign/old")
    done = program("stage", "fen", "heron:Campaign", expect=1)
    said = " ".join(done.stdout.split())
    assert "would be one name: dirA and DIRa, notes and Notes, and 2 entries below such directories" in said, said
    assert "the disk there ignores case, and DIRa has the name" in said and "and with that 2 entries below" in said
    there = {path: entry[-1] for path, entry in snapshot(heron / "Campaign").items() if entry[0] == "file"}
    assert there == {
        b"old": b"this is Campaign/old",
        **{
            f"fen/{name}".encode(): f"this is {name}".encode()
            for name in ("DIRa/x.csv", "DIRa/y.csv", "Notes", "other")
        },
    }
    again = program("stage", "fen", "heron:Campaign", expect=1).stdout
    assert "Nothing moved: 4 names clash with another on the disk there, which ignores case." in again


def test_what_is_there_has_the_name(program: Program, heron: Path) -> None:
    fill(program.directory, "fen/A.csv", "fen/b.csv")
    fill(heron, "fen/a.csv")
    plan = program.json("stage", "fen", "heron:", "--plan-only", expect=1)["plan"]
    assert (plan["name_clashes"], plan["files"]) == (1, 1)
    program("stage", "fen", "heron:", expect=1)
    assert sorted(os.listdir(heron / "fen")) == ["a.csv", "b.csv"]
    (program.directory / "fen").rename(program.directory / "FEN")
    refused = program("stage", "FEN", "heron:", expect=1).stdout
    assert "FEN and fen" in refused and "Nothing moved" in refused
    assert sorted(os.listdir(heron)) == ["fen"]


def test_where_nothing_shows_it_before(program: Program, heron: Path) -> None:
    """Nothing there has a letter in its name: the clash is seen when it happens."""
    fen = program.directory / "1"
    fill(fen, "dirA/x", "DIRa/y", "Notes", "notes")
    (fen / "LINK").symlink_to("Notes")
    (fen / "link").symlink_to("elsewhere")
    done = program("stage", "1", "heron:2", expect=1)
    assert "name clash" not in done.stdout
    assert done.stdout.count("the disk there ignores case, and") == 3
    there = snapshot(heron / "2" / "1")
    assert len(there) == 4 and not [path for path in there if b".part" in path], there
    assert len({folded(path) for path in there}) == 4


def test_a_name_that_the_disk_does_not_take(program: Program, heron: Path) -> None:
    fen = program.directory / "fen"
    fill(fen, "a:b", "good", "d:e/f")
    (fen / "l:k").symlink_to("good")
    for _ in range(2):
        done = program("stage", "fen", "heron:", expect=1)
        assert done.stdout.count("the disk there does not allow this name") == 3
        assert "no such file" not in done.stdout
        assert sorted(os.listdir(heron / "fen")) == ["good"]
    program("stage", "fen", "heron:whole", "--store", "bundle")
    program("stage", "heron:whole/fen", "back")
    assert snapshot(program.directory / "back" / "fen") == snapshot(fen)


def test_a_check_up_says_which_names_a_disk_takes(program: Program, heron: Path, practice: Practice) -> None:
    said = " ".join(program("node", "check", "heron").stdout.split())
    assert "upper and lower case are the same; none with :" in said
    practice.wrong("heron")
    said = " ".join(program("node", "check", "heron").stdout.split())
    assert "upper and lower case differ" in said and "none with" not in said
