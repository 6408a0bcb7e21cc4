"""What was replaced: kept, listed, brought back and removed; and batches that are given up or forgotten."""

from __future__ import annotations

import os
import signal
import stat
import time
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import Far, Practice, Program, moment, part_file, wait_for
from terminal import Terminal

MONTH = 30 * 86400


def versions(program: Program, far: Far, *texts: str) -> list[str]:
    """Stage `fen/sub/Moor äö.txt` and `fen/b` with each of these texts. Returns the batches."""
    names = []
    for at, text in enumerate(texts):
        for name in ("sub/Moor äö.txt", "b"):
            file = program.directory / "fen" / name
            file.parent.mkdir(parents=True, exist_ok=True)
            file.write_text(text)
            os.utime(file, (time.time() - 3600 + 60 * at,) * 2)
        done = program.json("stage", "fen", f"{far.name}:campaign", "--if-newer-there", "replace")
        names.append(done["batch"]["batch"])
    return names


def mode(path: Path) -> int:
    return stat.S_IMODE(path.stat().st_mode)


def test_kept_files_are_found_brought_back_and_removed(program: Program, far: Far) -> None:
    _, second, third = versions(program, far, "first", "the second", "and the third")
    file = far.root / "campaign" / "fen" / "sub" / "Moor äö.txt"
    place = f"{far.name}:campaign/fen/sub/Moor äö.txt"

    found = program.json("kept", "list", place)["kept"]
    assert {(each["batch"], each["size_bytes"]) for each in found} == {(second, 5), (third, 10)}
    assert all(time.time() - 600 < moment(each["replaced_at"]) <= time.time() for each in found), "not the file's time"
    for where in (f"{far.name}:campaign", f"{far.name}:", f"{far.name}:campaign/fen"):
        assert len(program.json("kept", "list", where)["kept"]) == 4
    shown = program("kept", "list", f"{far.name}:campaign").stdout
    assert "4 kept files" in shown and "of 2 batches" in shown and "Moor äö.txt" in shown
    assert "see: yatagan kept list" in program("list", f"{far.name}:campaign").stdout

    said = program("kept", "restore", place).stdout
    assert file.read_text() == "the second" and "kept in turn" in said
    program("kept", "restore", place, "--batch", second[-4:])
    assert file.read_text() == "first"
    assert {each["size_bytes"] for each in program.json("kept", "list", place)["kept"]} == {13, 10}

    os.unlink(file)
    done = program.json("kept", "restore", place)
    assert file.read_text() in ("the second", "and the third") and "kept_in_turn" not in done["restored"][0]
    assert "add --yes" in program("kept", "restore", f"{far.name}:campaign", expect=5).stderr
    assert len(program.json("kept", "restore", f"{far.name}:campaign", "--yes")["restored"]) == 2

    assert program.json("kept", "remove", f"{far.name}:", "--older-than", "1h", "--yes")["removed"] == 0
    assert "add --yes" in program("kept", "remove", f"{far.name}:", expect=5).stderr
    asked = Terminal(program, "kept", "remove", f"{far.name}:campaign")
    asked.expect("for good?")
    asked.type("y")
    assert asked.end() == 0
    assert program.json("kept", "list", f"{far.name}:")["kept"] == []
    assert not (far.root / "campaign" / ".yatagan-kept").exists()
    assert "nothing like that is kept" in program("kept", "restore", place, expect=2).stderr


def test_the_age_is_that_of_the_replacement(program: Program, far: Far) -> None:
    versions(program, far, "first", "second")
    kept = next((far.root / "campaign" / ".yatagan-kept").iterdir())
    os.utime(kept / "fen", (time.time() - MONTH,) * 2)
    old = program.json("kept", "list", f"{far.name}:campaign", "--older-than", "10d")["kept"]
    assert [Path(each["path"]).name for each in old] == ["b"]
    assert program.json("kept", "remove", f"{far.name}:campaign", "--older-than", "10d", "--yes")["removed"] == 1
    assert (kept / "fen" / "sub").exists() and not (kept / "fen" / "b").exists()


def test_a_directory_in_the_way_and_a_link_above(program: Program, far: Far) -> None:
    versions(program, far, "first", "second")
    sub, b = far.root / "campaign" / "fen" / "sub", far.root / "campaign" / "fen" / "b"
    b.unlink()
    b.mkdir()
    sub.rename(far.root / "elsewhere")
    sub.symlink_to("../../elsewhere")
    done = program.json("kept", "restore", f"{far.name}:campaign", "--yes", expect=1)
    assert {each["reason"] for each in done["failed"]} <= {"kind-in-the-way", "is-link", "exists", "not-a-directory"}
    assert len(done["failed"]) == 2 and (far.root / "elsewhere" / "Moor äö.txt").read_text() == "second"
    assert len(program.json("kept", "list", f"{far.name}:campaign")["kept"]) == 2, "nothing is lost"


@pytest.mark.parametrize("by", ["stage", "bundle unpack", "checksums"])
def test_kept_directories_have_the_modes_of_those_that_they_come_from(program: Program, far: Far, by: str) -> None:
    if by == "stage":
        versions(program, far, "first")
        top, paths = far.root / "campaign", {"": 0o2770, "fen": 0o750, "fen/sub": 0o700}
    else:
        (program.directory / "fen" / "sub").mkdir(parents=True)
        (program.directory / "fen" / "sub" / "a").write_text("first")
        top, paths = program.directory, {"": 0o750}
        if by == "bundle unpack":
            program("bundle", "make", "fen")
            (program.directory / "fen" / "sub" / "a").write_text("second")
            paths = {"": 0o750, "fen": 0o770, "fen/sub": 0o711}
    for path, bits in paths.items():
        (top / path).chmod(bits)
    match by:
        case "stage":
            versions(program, far, "second")
        case "bundle unpack":
            program("bundle", "unpack", "fen.tar.zst", "--if-there", "replace")
        case "checksums":
            for _ in range(2):
                program("checksums", ".")
    (kept,) = (top / ".yatagan-kept").iterdir()
    assert mode(kept.parent) & 0o777 == mode(kept) & 0o777 == paths[""] & 0o777
    for path, bits in paths.items():
        assert mode(kept / path) & 0o777 == bits & 0o777, path


def test_a_batch_that_moves_is_stopped_and_given_up(program: Program, practice: Practice) -> None:
    far = practice.far()
    program.know(far)
    practice.wrong("heron", max_rate="2MB/s")
    (program.directory / "big").write_bytes(os.urandom(20_000_000))
    for opened in (False, True):
        if opened:
            program("node", "open", "heron")
        running = program.start("stage", "big", "heron:campaign")
        wait_for(lambda: part_file(far.root / "campaign", 100_000, "*.part") is not None)
        said = program("batch", "cancel", program.json("batch", "list")["batches"][0]["batch"][-4:]).stdout
        assert "is cancelled" in said and "1 unfinished file removed" in said
        assert running.wait(60) == 4
        assert not list((far.root / "campaign").glob(".yatagan-*"))
        assert program.json("batch", "list")["batches"][0]["state"] == "cancelled"


def test_batches_that_have_ended_are_forgotten(program: Program, far: Far) -> None:
    first, second = versions(program, far, "first", "second")
    ledger = program.json("ledger", "show")["records"]
    assert "name batches, or an age" in program("batch", "remove", expect=2).stderr
    assert program.json("batch", "remove", "--older-than", "1d")["removed"] == []
    assert program.json("batch", "remove", first[-4:])["removed"] == [first]
    assert [each["batch"] for each in program.json("batch", "list")["batches"]] == [second]
    assert program.json("ledger", "show")["records"] == ledger, "the record stays"
    assert program.json("kept", "list", f"{far.name}:")["kept"], "and so do files"


def test_a_batch_with_unfinished_files_is_not_forgotten(
    program: Program, far: Far, interrupted: Callable[[Program, Far], str]
) -> None:
    batch = interrupted(program, far)
    said = program("batch", "remove", batch, expect=5).stderr
    assert "give it up: yatagan batch cancel" in said
    program("batch", "cancel", batch)
    assert program.json("batch", "remove", batch)["removed"] == [batch]
    assert program.json("batch", "list")["batches"] == []


@pytest.fixture
def interrupted() -> Callable[[Program, Far], str]:
    """Makes a batch that was killed in the middle of a file."""

    def make(program: Program, far: Far) -> str:
        (program.directory / "big").write_bytes(os.urandom(30_000_000))
        running = program.start("stage", "big", f"{far.name}:x", "--max-rate", "5MB/s")
        wait_for(lambda: part_file(far.root / "x", 1_000_000, "*.part") is not None)
        running.send_signal(signal.SIGKILL)
        running.wait()
        return str(program.json("batch", "list")["batches"][0]["batch"])

    return make


@pytest.mark.parametrize("what", ["remove", "kept remove", "kept restore"])
def test_ctrl_c_ends_a_question_at_once(program: Program, practice: Practice, what: str) -> None:
    far = practice.far()
    program.know(far)
    versions(program, far, "first", "second")
    asked = Terminal(program, *what.split(), f"{far.name}:campaign", "--json")
    asked.expect("[y/N]")
    asked.press("\x03")
    assert asked.end(20) == 4 and '"kind": "stopped"' in asked.seen
    assert (far.root / "campaign" / "fen" / "b").read_text() == "second"
    assert len(program.json("kept", "list", f"{far.name}:campaign")["kept"]) == 2
