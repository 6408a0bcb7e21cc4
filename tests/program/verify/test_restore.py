"""`yatagan restore`: what was lost comes back as it is on record, from whichever copy still is; other work stays."""

from __future__ import annotations

import os
import random
import shutil
from pathlib import Path

import conftest
from conftest import Far, Practice, Program
from projects import declare

FILES = 60
PROJECT = """\
[project]
name = "fen-flux"
ledger = "records"

[dataset.chambers]
use = "input"
here = "chambers"
there = "{node}:fen/chambers"
"""


def survey(root: Path) -> None:
    for number in range(FILES):
        file = root / f"plot-{number % 6}" / f"{number:03}.csv"
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_text(f"{number},1958.2\n" * (number + 1))
        os.utime(file, ns=(1_600_000_000_000_000_000, 1_600_000_000_123_456_789 + number * 10**9))
    (root / "empty").mkdir()
    (root / "newest").symlink_to("plot-0/000.csv")


def snapshot(root: Path) -> dict[bytes, tuple[object, ...]]:
    """What is there, but for the times of directories: those that exist keep what they have."""
    return {path: facts[:2] if facts[0] == "directory" else facts for path, facts in conftest.snapshot(root).items()}


def damage(file: Path) -> None:
    """Other contents, with the same size and time, as a bad disk leaves them."""
    status = file.stat()
    data = bytearray(file.read_bytes())
    data[len(data) // 2] ^= 1
    file.chmod(0o644)
    file.write_bytes(data)
    os.utime(file, ns=(status.st_atime_ns, status.st_mtime_ns))


def lose(root: Path, seed: int = 1) -> tuple[list[Path], list[Path]]:
    """Delete half of the files, damage a tenth of the rest, and work on three of those. Returns damaged, worked on."""
    chance = random.Random(seed)
    files = sorted(root.rglob("*.csv"))
    chance.shuffle(files)
    for file in files[: FILES // 2]:
        file.unlink()
    rest = files[FILES // 2 :]
    damaged, worked = rest[: len(rest) // 10], rest[-3:]
    for file in damaged:
        damage(file)
    worked[0].write_text("newer work\n")
    worked[1].write_text("older work\n")
    os.utime(worked[1], (1_500_000_000, 1_500_000_000))
    damage(worked[2])
    os.utime(worked[2])  # by somebody: nothing that a disk does
    shutil.rmtree(root / "plot-5")
    (root / "empty").rmdir()
    (root / "newest").unlink()
    return [file for file in damaged if file.exists()], [file for file in worked if file.exists()]


def test_a_dataset_comes_back(program: Program, oak: Far) -> None:
    declare(program, "oak", PROJECT)
    root = program.directory / "chambers"
    survey(root)
    program("stage", "--dataset", "chambers")
    before = snapshot(root)
    damaged, worked = lose(root)
    work = {os.fsencode(file.relative_to(root)): snapshot(file.parent)[os.fsencode(file.name)] for file in worked}
    lost = snapshot(root)
    plan = program.json("restore", "--dataset", "chambers", "--plan-only")
    assert snapshot(root) == lost, "nothing is done"
    (found,) = plan["restored"]
    assert {each["path"] for each in found["lost"] if each["damaged"]} == {
        str(file.relative_to(root)) for file in damaged
    }
    assert {each["path"] for each in found["left"]} == {os.fsdecode(path) for path in work}
    assert all(each["found"] for each in found["lost"])
    done = program.json("restore", "--dataset", "chambers")
    assert done["restored"][0]["batches"][0]["batch"]["state"] == "finished"
    assert snapshot(root) == {**before, **work}
    record = program.json("ledger", "show")["records"][0]
    assert (record["kind"], record["dataset"], record["outcome"]) == ("restored", "chambers", "good")
    # What was damaged is kept, and to do it again finds nothing.
    assert len(program.json("kept", "list", "chambers")["kept"]) == len(damaged)
    again = program("restore", "--dataset", "chambers").stdout
    assert "nothing is lost" in again and again.count("left as it is") == 2
    program("verify", "--dataset", "chambers", "--side", "here", expect=1)


def test_from_a_stored_bundle_and_a_place_below(program: Program, oak: Far) -> None:
    root = program.directory / "fen"
    survey(root)
    program("stage", "fen", "oak:vault", "--store", "bundle")
    before = snapshot(root)
    lose(root, 2)
    shutil.rmtree(root / "plot-1", ignore_errors=True)
    program("restore", "fen/plot-1")
    assert set(snapshot(root / "plot-1")) == {path.partition(b"/")[2] for path in before if path.startswith(b"plot-1/")}
    program("restore", "fen", "--only", "plot-2")
    assert not (root / "plot-5").exists()
    # All of it, elsewhere: from the nearest copies, which are here as far as they are sound.
    answer = program.json("restore", "fen", "--into", "recovered")["restored"][0]
    assert snapshot(program.directory / "recovered" / "fen") == before
    assert [each["node"] for each in answer["sources"]] == ["", "oak"]
    # And by its batch.
    batch = program.json("batch", "list")["batches"][-1]["batch"]
    answer = program.json("restore", "--batch", batch, "--into", "again")["restored"][0]
    assert snapshot(program.directory / "again" / "fen") == before
    # A bundle that is damaged gives nothing that would pass for what was lost.
    for file in root.rglob("*.csv"):
        file.unlink()
    bundle = oak.root / "vault" / "fen.tar.zst"
    data = bytearray(bundle.read_bytes())
    data[len(data) // 2] ^= 255
    bundle.write_bytes(data)
    shutil.rmtree(program.directory / "recovered")
    shutil.rmtree(program.directory / "again")
    program("restore", "fen", expect=1)
    for path, facts in snapshot(root).items():
        assert facts == before[path] or facts[0] == "directory", path


def test_the_next_copy_with_the_same_digest_is_taken(program: Program, oak: Far, practice: Practice) -> None:
    program.know(practice.far())
    declare(program, "oak", PROJECT)
    root = program.directory / "chambers"
    survey(root)
    program("stage", "chambers", "heron:archive")
    program("stage", "--dataset", "chambers")
    before = snapshot(root)
    lost = sorted((root / "plot-3").iterdir())[:3]
    for file in lost:
        file.unlink()
    # One copy is damaged on oak, another is kept there, replaced by something newer; a third is nowhere else.
    first, second, third = (oak.root / "fen" / "chambers" / "plot-3" / file.name for file in lost)
    damage(first)
    kept = oak.root / "fen" / ".yatagan-kept" / "261101-abcd" / "chambers" / "plot-3"
    kept.mkdir(parents=True)
    second.rename(kept / second.name)
    second.write_text("something newer\n")
    third.unlink()
    (practice.site.home("heron") / "archive" / "chambers" / "plot-3" / third.name).unlink()
    (practice.site.home("heron") / "archive" / "chambers" / "plot-3" / second.name).unlink()
    answer = program.json("restore", "--dataset", "chambers", expect=1)["restored"][0]
    assert {(each["copy"].rpartition("/")[2], each["path"].rpartition("/")[2]) for each in answer["bad_copies"]} == {
        ("chambers", first.name),
        ("chambers", second.name),
    }
    assert [(each["node"], each["kept"]) for each in answer["sources"]] == [("oak", True)]
    assert {each["path"]: each["found"] for each in answer["lost"]} == {
        f"plot-3/{first.name}": False,
        f"plot-3/{second.name}": True,
        f"plot-3/{third.name}": False,
    }
    now = snapshot(root)
    assert now[b"plot-3/" + second.name.encode()] == before[b"plot-3/" + second.name.encode()]
    assert b"plot-3/" + first.name.encode() not in now, "the damaged copy is not passed off as what was lost"
    # As a place it is known that it went to heron, too.
    answer = program.json("restore", "chambers", expect=1)["restored"][0]
    assert {each["node"] for each in answer["sources"]} == {"heron"}
    assert (root / "plot-3" / first.name).exists() and not (root / "plot-3" / third.name).exists()


def test_an_earlier_version_is_offered_and_never_taken_by_itself(
    program: Program, oak: Far, practice: Practice
) -> None:
    program.know(practice.far())
    root = program.directory / "chambers"
    survey(root)
    program("stage", "chambers", "heron:archive")
    (root / "plot-0" / "000.csv").write_text("version two\n")
    os.utime(root / "plot-0" / "000.csv", (1_700_000_000, 1_700_000_000))
    program("stage", "chambers", "oak:")
    (root / "plot-0" / "000.csv").unlink()
    (oak.root / "chambers" / "plot-0" / "000.csv").unlink()
    told = program("restore", "chambers", expect=1)
    assert "only an earlier version is left" in told.stderr and not (root / "plot-0" / "000.csv").exists()
    (offer,) = program.json("restore", "chambers", expect=1)["restored"][0]["earlier_versions"]
    assert (offer["path"], offer["node"]) == ("plot-0/000.csv", "heron")


def test_what_cannot_be_restored_is_said(program: Program, oak: Far) -> None:
    assert "nothing is on record of it" in program("restore", "fen", expect=2).stderr
    assert "brings back what was lost on this machine" in program("restore", "oak:fen", expect=2).stderr
    survey(program.directory / "fen")
    program("stage", "fen", "oak:")
    shutil.rmtree(program.directory / "fen")
    (program.directory / "fen").write_text("somebody's file\n")
    answer = program.json("restore", "fen", expect=0)["restored"][0]
    assert {each["reason"] for each in answer["left"]} == {"something else has its name"} and not answer["lost"]
    (program.directory / "fen").unlink()
    program("node", "change", "oak", "--port", "1")
    told = program("restore", "fen", expect=1)
    assert "not asked" in told.stdout and "none as on record is left" in told.stdout
