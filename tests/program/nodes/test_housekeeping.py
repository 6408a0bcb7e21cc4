"""Directories made, things renamed and removed, on a node and here; removing asks first."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from conftest import Far, Practice, Program, snapshot
from terminal import Terminal


@pytest.fixture(params=["here", "practice", pytest.param("openssh", marks=pytest.mark.server)])
def place(request: pytest.FixtureRequest, program: Program, tmp_path: Path) -> tuple[str, Path]:
    """How a place begins, and where it is: here, or on a node that is open."""
    if request.param == "here":
        return "", program.directory
    if request.param == "practice":
        far: Far = request.getfixturevalue("practice").far()
    else:
        (tmp_path / "far").mkdir()
        far = request.getfixturevalue("openssh").far(tmp_path / "far")
    program.know(far)
    program("node", "open", far.name)
    return f"{far.name}:", far.root


def make_tree(root: Path) -> None:
    (root / "fen" / "deep" / "empty").mkdir(parents=True)
    for name in ("a", "deep/b", "deep/new\nline"):
        (root / "fen" / name).write_text(name)
    (root / "outside").mkdir()
    (root / "outside" / "keep").write_text("keep")
    (root / "fen" / "way-out").symlink_to(root / "outside")
    os.mkfifo(root / "fen" / "pipe")
    (root / "fen" / ".yatagan-kept").mkdir()
    (root / "fen" / ".yatagan-kept" / "old").write_text("old")


def test_from_making_to_removing(program: Program, place: tuple[str, Path]) -> None:
    at, root = place
    assert "made" in program("mkdir", f"{at}x/y/z").stdout and (root / "x/y/z").is_dir()
    assert "there already" in program("mkdir", f"{at}x/y/z/").stdout
    make_tree(root)
    assert "exists already" in program("mkdir", f"{at}fen/a", expect=1).stderr
    assert "not a directory" in program("mkdir", f"{at}fen/a/b", expect=1).stderr

    assert "is fen-2025 now" in program("rename", f"{at}fen", "fen-2025").stdout
    assert "exists already" in program("rename", f"{at}outside", "fen-2025", expect=1).stderr
    program("rename", f"{at}fen-2025/a", "b")
    assert "exists already" in program("rename", f"{at}fen-2025/b", "deep", expect=1).stderr
    assert (root / "fen-2025/b").read_text() == "a"
    assert "one name, not a path" in program("rename", f"{at}fen-2025/b", "../b", expect=2).stderr
    assert "no such file" in program("rename", f"{at}fen-2025/nothing", "c", expect=2).stderr

    before = snapshot(root / "outside")
    assert "--yes" in program("remove", f"{at}fen-2025", expect=5).stderr
    assert (root / "fen-2025/b").exists()
    gone = program("remove", f"{at}fen-2025", f"{at}x/y", "--yes").stdout
    assert "4 files, 4 directories, 1 link, 1 other thing" in gone and "removed 12 of 12" in gone
    assert sorted(os.listdir(root)) == ["outside", "x"] and snapshot(root / "outside") == before
    assert "no such file" in program("remove", f"{at}fen-2025", "--yes", expect=2).stderr


def test_what_is_refused(program: Program, place: tuple[str, Path]) -> None:
    at, root = place
    make_tree(root)
    for path in (
        "/",
        ".",
        "",
        "..",
        "/" + str(root).split("/")[1],
        str(root),
        "fen/..",
        "~" if at else str(program.home),
    ):
        if at or path:
            refused = program("remove", f"{at}{path}", "--yes", expect=5).stderr
            assert "root of everything" in refused or "a home" in refused, path
    assert (root / "fen" / "a").exists()


def test_the_question(program: Program, practice: Practice) -> None:
    far = practice.far()
    program.know(far)
    make_tree(far.root)
    (far.root / "outside" / "keep").unlink()
    for answer, left in (("", True), ("n", True), ("y", False)):
        terminal = Terminal(program, "remove", "heron:fen")
        terminal.expect("4 files, 4 directories")
        terminal.expect("Remove this for good? [y/N]")
        terminal.type(answer)
        assert terminal.end() == 0
        assert (far.root / "fen").exists() is left
