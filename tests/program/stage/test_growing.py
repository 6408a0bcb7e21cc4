"""Files that only grow, such as a logger's: carried as far as they are, and what was carried is not sent again."""

from __future__ import annotations

import os
import random
from pathlib import Path

import pytest

from conftest import Far, Practice, Program, meanwhile, wait_for

KIB = 1 << 10
RNG = random.Random(19)


def added(log: Path) -> None:
    with log.open("ab") as file:
        file.write(RNG.randbytes(5 * KIB))


def header_rewritten(log: Path) -> None:
    with log.open("r+b") as file:
        file.write(b"a new header")
    added(log)


def rotated(log: Path) -> None:
    log.unlink()
    log.write_bytes(RNG.randbytes(700 * KIB))


def cut(log: Path) -> None:
    os.truncate(log, 300 * KIB)


def touched(log: Path) -> None:
    os.utime(log)


#: What happens to a logger's file: the bytes that are sent then, and whether what was there is kept.
HAPPENS = [
    (added, 5 * KIB, False),
    (touched, 0, False),
    (header_rewritten, None, True),
    (added, 5 * KIB, False),
    (rotated, None, True),
    (cut, None, True),
]


def kept(top: Path) -> list[bytes]:
    return [file.read_bytes() for file in (top / ".yatagan-kept").rglob("*.csv")]


@pytest.mark.parametrize("way", ["up", "down"])
def test_only_what_came_since_is_sent(program: Program, oak: Far, way: str) -> None:
    far = oak
    near = program.directory / "raw"
    near.mkdir()
    source, top, words = (
        (near, far.root, ("raw", f"{far.name}:"))
        if way == "up"
        else (far.root / "raw", program.directory, (f"{far.name}:raw", "."))
    )
    source.mkdir(exist_ok=True)
    log, there = source / "logger.csv", top / "raw" / "logger.csv"
    log.write_bytes(RNG.randbytes(900 * KIB))
    (source / "site.txt").write_text("bog")
    stage = ("stage", *words, "--growing", "*.csv")
    program(*stage)
    was_kept = 0
    for happens, sent, is_kept in HAPPENS:
        before = there.read_bytes()
        happens(log)
        batch = program.json(*stage)["batch"]
        assert batch["good"] and there.read_bytes() == log.read_bytes()
        assert batch["sent_bytes"] == (log.stat().st_size if sent is None else sent), happens.__name__
        was_kept += is_kept
        found = kept(top)
        assert len(found) == was_kept and (not is_kept or before in found), happens.__name__
        assert batch["replaced"] == is_kept
    assert "Nothing to move" in program(*stage).stdout


def test_a_plan_says_what_will_be_sent_of_them(program: Program, oak: Far) -> None:
    log = program.directory / "logger.csv"
    log.write_bytes(RNG.randbytes(200 * KIB))
    stage = ("stage", "logger.csv", "oak:in", "--growing", "logger.csv")
    assert "growing  1 file, 205 kB, as far as now" in program(*stage).stdout
    added(log)
    said = program(*stage, "--plan-only").stdout
    assert "1 file, 210 kB, as far as now; only the last 5.12 kB are sent" in said and "replace" not in said
    plan = program.json(*stage, "--plan-only")["plan"]
    assert (plan["growing"], plan["growing_bytes"], plan["growing_there_bytes"]) == (1, 205 * KIB, 200 * KIB)
    unproven = " ".join(program(*stage, "--plan-only", "--prove", "none").stdout.split())
    assert "without a proof all of it is sent, and what was there is kept" in unproven
    header_rewritten(log)
    assert "logger.csv: it does not begin as it did, so all of it is sent" in program(*stage).stderr


def logs(log: Path) -> None:
    """What a logger does every few milliseconds."""
    with log.open("ab", buffering=0) as file:
        file.write(b"12.5,0.81\n" * 20)


@pytest.mark.parametrize("way", ["up", "down"])
def test_one_that_never_holds_still_arrives(program: Program, practice: Practice, way: str) -> None:
    far = practice.far()
    program.know(far)
    practice.wrong("heron", max_rate="2MB/s")
    up = way == "up"
    log, there = far.root / "logger.csv", program.directory / "in" / "logger.csv"
    if up:
        log, there = program.directory / "logger.csv", far.root / "in" / "logger.csv"
    there.parent.mkdir()
    log.write_bytes(RNG.randbytes(2_000_000))
    stage = ("stage", "logger.csv", "heron:in") if up else ("stage", "heron:logger.csv", "in")
    with meanwhile(lambda: logs(log)):
        plain = program.json(*stage, "--unchanged-for", "1m", "--no-questions")
        assert plain["batch"] is None and len(plain["plan"]["still_written"]) == 1
        size = log.stat().st_size
        for evidence in ("on-node" if up else "on-arrival", "on-node", "on-node"):
            batch = program.json(*stage, "--unchanged-for", "1m", "--growing", "*.csv")["batch"]
            assert batch["good"] and list(batch["evidence"]) == [evidence]
            held, grown = there.read_bytes(), log.read_bytes()
            assert grown.startswith(held) and size <= len(held) < len(grown)
            size = len(held)
    assert not kept(there.parent)


def test_a_bundle_has_no_room_for_them(program: Program) -> None:
    (program.directory / "raw").mkdir()
    (program.directory / "raw" / "logger.csv").write_text("1\n")
    refused = program("stage", "raw", "out", "--growing", "*.csv", "--store", "bundle", expect=2).stderr
    assert "--growing and --store bundle exclude each other" in refused
    program("stage", "raw", "out", "--store", "bundle")
    (program.directory / "raw" / "logger.csv").write_text("1\n2\n")
    refused = program("stage", "raw", "out", "--growing", "*.csv", expect=5).stderr
    assert "raw.tar.zst: a growing file would go into it" in refused


def test_a_routine_takes_them_as_they_are(program: Program, practice: Practice) -> None:
    far = practice.far()
    program.know(far)
    raw = program.directory / "raw"
    raw.mkdir()
    for name in ("logger.csv", "site.txt"):
        (raw / name).write_text("1\n")
    options = ("--every", "1d", "--unchanged-for", "1h", "--growing", "*.csv")
    program("routine", "add", "logger", "raw", "heron:in", *options)
    wait_for(lambda: any(run["outcome"] == "moved" for run in program.json("routine", "show", "logger")["runs"]))
    assert [entry.name for entry in (far.root / "in" / "raw").iterdir()] == ["logger.csv"]
    program("routine", "remove", "logger")
