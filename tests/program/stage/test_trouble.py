"""What goes wrong with single files or with a destination: named once, and mended later."""

from __future__ import annotations

import itertools
import os
from contextlib import AbstractContextManager
from pathlib import Path

import pytest

from conftest import NO_RIGHTS, Practice, Program, meanwhile, wait_for


def written_all_the_time(file: Path) -> AbstractContextManager[None]:
    """A file that some program never leaves alone."""
    numbers = itertools.count(1)
    return meanwhile(lambda: file.write_bytes(b"%d" % next(numbers) * 400))


@pytest.mark.parametrize("good", [196, pytest.param(996, marks=pytest.mark.soak)])
def test_four_bad_ones(good: int, program: Program, practice: Practice) -> None:
    far = practice.far()
    program.know(far)
    fen = program.directory / "fen"
    fen.mkdir()
    for number in range(good):
        (fen / f"{number:03}.csv").write_bytes(os.urandom(1000))
    bad = {name: fen / name for name in ("closed.csv", "gone.csv", "no:name.csv", "busy.csv")}
    for file in bad.values():
        file.write_bytes(b"x" * 1000)
    bad["closed.csv"].chmod(0)
    practice.wrong("heron", foreign_names="yes", max_rate="600kB")
    with written_all_the_time(bad["busy.csv"]):
        running = program.start("stage", "fen", "heron:", "--prove", "read-back", env=NO_RIGHTS)
        wait_for(lambda: any(far.root.glob("fen/0*.csv")))
        bad["gone.csv"].unlink()
        said, trouble = running.communicate(timeout=120)
    assert running.returncode == 1, said + trouble
    batch = program.json("batch", "show", "--failed")
    why = {step["path"].removeprefix("fen/"): step["reason"] for step in batch["steps"]}
    assert why == {
        "closed.csv": "denied",
        "gone.csv": "missing",
        "no:name.csv": "name-refused",
        "busy.csv": "source-changed",
    }
    assert (batch["in_place"], batch["evidence"], batch["failed"]) == (good, {"read-back": good}, 4)
    for words in (
        "is finished, 4 steps failed",
        "fen/closed.csv: permission denied",
        "fen/gone.csv: the source is gone",
        "fen/no:name.csv: the disk there does not allow this name",
        "fen/busy.csv: the source changed while it was read",
        "wait until nothing writes to it, then resume the batch",
    ):
        assert words in said, said
    assert program("batch", "log").stdout.count("failed: ") == 4
    bad["closed.csv"].chmod(0o644)
    bad["gone.csv"].write_bytes(b"y" * 1000)
    os.utime(bad["gone.csv"], ns=(1, 1_500_000_000_000_000_000))
    practice.wrong("heron")
    done = program.json("batch", "resume", "--failed")
    assert done["good"] and done["in_place"] == good + 4
    assert {file.name: file.read_bytes() for file in (far.root / "fen").iterdir()} == {
        file.name: file.read_bytes() for file in fen.iterdir()
    }


def test_a_destination_that_cannot_be_written_is_one_failure(program: Program) -> None:
    fen = program.directory / "fen"
    fen.mkdir()
    for number in range(300):
        (fen / f"{number}.csv").write_text(f"{number}\n")
    there = program.directory / "there" / "fen"
    there.mkdir(parents=True)
    there.chmod(0o555)
    running = program.start("stage", "fen", "there", env=NO_RIGHTS)
    said = running.communicate(timeout=60)[0]
    assert running.returncode == 1 and "1 step failed, and 299 with that" in said
    assert said.count("permission denied") == 1 and f"nothing can be written in {there}" in said
    there.chmod(0o755)
    assert program.json("batch", "resume")["in_place"] == 300


@pytest.mark.parametrize("number", [1, 3])
def test_an_answer_that_is_lost_at_the_last_moment(number: int, program: Program, practice: Practice) -> None:
    """The file has its name, and nobody was told: it is found there, not sent again, and not called failed."""
    far = practice.far()
    program.know(far)
    practice.wrong("heron", no_commands="yes", cut_at_rename=str(number))
    fen = program.directory / "fen"
    fen.mkdir()
    for name in "abc":
        (fen / name).write_bytes(os.urandom(300_000))
    done = program.json("stage", "fen", "heron:", "--prove", "read-back")["batch"]
    assert done["good"] and done["evidence"] == {"read-back": 3}
    log = program("batch", "log").stdout
    assert "connection was lost" in log and "the connection is back" in log and "failed" not in log
    # What was under way when the connection went may be sent again; what had its name is not.
    assert done["sent_bytes"] <= 900_000 + (3 - number) * 300_000
    assert {file.name: file.read_bytes() for file in (far.root / "fen").iterdir()} == {
        file.name: file.read_bytes() for file in fen.iterdir()
    }
