"""Routines: when they are due, whatever the clock does, and what a thousand runs leave behind."""

from __future__ import annotations

import json
import os
import shutil
import signal
import time
from pathlib import Path
from typing import Any

import pytest

from conftest import Practice, Program, first_run, wait_for
from routine_times import START
from yatagan.background.routines import Routine, RoutineBook
from yatagan.background.schedules import Every
from yatagan.batches.batch_store import Batches
from yatagan.batches.queue import Queue
from yatagan.config.home import Home
from yatagan.operations.stage_request import StageRequest
from yatagan.places import Place


def test_a_routine_for_real(program: Program, practice: Practice) -> None:
    """A worker runs it when it is due; it moves what is new, and says once that it is broken, once that it is well."""
    far = practice.far()
    program.know(far)
    told = program.directory / "told"
    program("config", "set", "notice.command", f"cat >> {told}; echo >> {told}")
    fen = program.directory / "fen"
    fen.mkdir()
    (fen / "a.csv").write_text("1\n")
    os.utime(fen / "a.csv", (1_500_000_000, 1_500_000_000))
    time.sleep(1.1)  # or the first run leaves it to the next
    said = program("routine", "add", "fen", "fen", "heron:in", "--every", "10s", "--unchanged-for", "1s").stdout
    assert "Routine fen runs every 10s" in said and "yatagan stage fen heron:in" in said

    def runs() -> list[dict[str, Any]]:
        return list(program.json("routine", "show", "fen")["runs"])

    wait_for(lambda: any(run["outcome"] == "moved" for run in runs()))
    assert (far.root / "in" / "fen" / "a.csv").read_text() == "1\n" and runs()[0]["files"] == 1
    (fen / "b.csv").write_text("2\n")
    practice.wrong("heron", refuse_for="60s")
    wait_for(lambda: any(run["outcome"] == "failed" for run in runs()))
    assert "trouble" in program("routine", "show", "fen").stdout
    practice.wrong("heron")
    wait_for(lambda: (far.root / "in" / "fen" / "b.csv").exists() and runs()[-1]["outcome"] != "running")
    program("routine", "hold", "fen")
    wait_for(lambda: runs()[-1]["outcome"] != "running")
    assert "held" in program("routine", "list").stdout
    heard = [json.loads(line)["notice"] for line in told.read_text().splitlines() if line]
    assert heard == ["routine-trouble", "routine-well"]
    assert program.json("routine", "run", "fen")["outcome"] == "nothing new"
    records = program.json("ledger", "show")["records"]
    assert len(records) == 2  # of the runs that moved something
    program("routine", "remove", "fen")
    assert "no routine is called 'fen'" in program("routine", "show", "fen", expect=2).stderr


def test_what_cannot_be_a_routine(program: Program) -> None:
    (program.directory / "fen").mkdir()
    for words, why in (
        (("fen", "fen", "there"), "say when"),
        (("fen", "fen", "there", "--every", "3s"), "too often"),
        (("fen", "fen", "there", "--at", "26:00"), "no time of day"),
        (("fen", "fen", "there", "--every", "1h", "--at", "02:30"), "say when"),
        (("a b", "fen", "there", "--every", "1h"), "cannot be a routine's name"),
        (("fen", "fen", "there", "--every", "1h", "--backwards"), "backwards"),
        (("fen", "fen", "there", "--every", "1h", "--plan-only"), "see: yatagan stage --help"),
    ):
        assert why in program("routine", "add", *words, expect=2).stderr, words
    assert "There is no routine." in program("routine", "list").stdout


def test_on_a_change(program: Program, practice: Practice) -> None:
    """What has changed is followed by events, and waits until it has settled; on a node there are looks."""
    far = practice.far()
    program.know(far)
    fen = program.directory / "fen"
    fen.mkdir()
    said = program("routine", "add", "flux", "fen", "heron:in", "--on-change", "--unchanged-for", "1s").stdout
    assert "runs on change" in said and "look every" not in said
    looks = program("routine", "add", "back", "heron:in", "back", "--on-change").stdout
    assert "a source is on a node, so there is a look every 1m" in looks
    program("routine", "remove", "back")
    wait_for(lambda: bool(program.json("routine", "show", "flux")["runs"]))
    (fen / "a.csv").write_text("1\n")
    wait_for(lambda: (far.root / "in" / "fen" / "a.csv").exists())
    (fen / "b.csv").write_text("2\n")
    wait_for(lambda: (far.root / "in" / "fen" / "b.csv").exists())
    program("routine", "remove", "flux")


def test_a_routine_in_a_directory_of_any_name(program: Program) -> None:
    place = Path(os.fsdecode(os.fsencode(program.directory) + b"/f\xffn"))
    (place / "fen").mkdir(parents=True)
    (place / "fen" / "a").write_text("1")
    there = Program(program.home, place)
    there("routine", "add", "fen", "fen", "there", "--every", "1h", "--unchanged-for", "0s")
    wait_for(lambda: program.json("routine", "show", "fen")["runs"][-1:] != [])
    wait_for(lambda: program.json("routine", "show", "fen")["runs"][-1]["outcome"] != "running")
    assert (place / "there" / "fen" / "a").exists()
    assert "f\\xffn" in program("routine", "show", "fen").stdout
    program("routine", "remove", "fen")


def test_without_a_worker_nothing_is_called_active(program: Program) -> None:
    """A worker that was killed is missed by whoever looks, and another one started."""
    (program.directory / "fen").mkdir()
    program("routine", "add", "fen", "fen", "there", "--at", "02:30", "--unchanged-for", "0s")
    first_run(program, "fen")
    (file,) = (program.home / "queue").glob("*.db")
    lock = Queue(file, Batches(program.home / "batches")).waiting_lock()

    def waits() -> bool:
        holder = lock.holder()
        return holder is not None and holder.is_alive

    wait_for(waits)
    holder = lock.holder()
    assert holder is not None
    os.kill(holder.pid, signal.SIGKILL)
    wait_for(lambda: not waits())
    said = " ".join(program("routine", "show", "fen").stdout.split())
    assert "no worker runs; the last one did just now; one is started now" in said
    wait_for(waits)
    assert "no worker" not in program("routine", "show", "fen").stdout
    program("routine", "remove", "fen")


def test_a_verify_by_itself(program: Program, practice: Practice) -> None:
    heron = practice.far("heron")
    program.know(heron)
    fen = heron.root / "fen"
    fen.mkdir()
    (fen / "a").write_text("1")
    then = (fen / "a").stat().st_mtime_ns
    program("checksums", "heron:fen")
    added = program.json("routine", "add", "check", "--command", "verify", "heron:fen", "--at", "02:30")
    assert (added["command"], added["words"]) == ("verify", ["heron:fen"])
    assert first_run(program, "check")["outcome"] == "good"
    (fen / "a").write_text("2")
    for _ in range(2):
        run = program.json("routine", "run", "check", expect=1)
        assert (run["outcome"], run["detail"], run["files"]) == ("not good", "1 different", 1)
    assert "trouble" in program("routine", "list").stdout
    (fen / "a").write_text("1")
    os.utime(fen / "a", ns=(then, then))
    assert program.json("routine", "run", "check")["outcome"] == "good"
    assert program.json("routine", "show", "check")["trouble"] is None
    shown = " ".join(program("routine", "show", "check").stdout.split())
    assert "does verify heron:fen" in shown and "good" in shown
    program("routine", "remove", "check")


@pytest.mark.parametrize("command", ["compare", "checksums"])
def test_other_commands_by_themselves(command: str, program: Program) -> None:
    (program.directory / "fen").mkdir()
    (program.directory / "fen" / "a").write_text("1")
    shutil.copytree(program.directory / "fen", program.directory / "copy")
    words = ("fen", "copy", "--by", "digest") if command == "compare" else ("fen",)
    program("routine", "add", "look", "--command", command, *words, "--every", "1h")
    assert first_run(program, "look")["outcome"] == "good"
    if command == "compare":
        (program.directory / "copy" / "a").write_text("2")
        assert program.json("routine", "run", "look", expect=1)["detail"] == "1 entry not the same"
    else:
        assert (program.directory / "fen" / "SHA256SUMS").exists()
    program("routine", "remove", "look")


def test_what_an_earlier_version_has_kept_as_words(program: Program) -> None:
    (program.directory / "fen").mkdir()
    (program.directory / "fen" / "a").write_text("1")
    book = RoutineBook.of(Home(program.home, program.home, program.home / ".ssh", program.home))
    words, here = ("fen", "there", "--unchanged-for", "0s"), str(program.directory)
    book.put(Routine("fen", words, here, Every(3600.0), 0.0, START, held=True, due=START, sources=("",)))
    assert program.json("routine", "show", "fen")["words"] == list(words)
    (kept,) = book.all()
    assert kept.request == StageRequest((Place("", b"fen"),), Place("", b"there"))
    program("routine", "run", "fen")
    wait_for(lambda: program.json("routine", "show", "fen")["runs"][-1]["outcome"] == "moved")
    batch = program.json("routine", "show", "fen")["runs"][-1]["batch"]
    assert program.json("batch", "show", batch)["command"] == ["yatagan", "stage", *words], "as it was typed"
    assert (program.directory / "there" / "fen" / "a").read_text() == "1"
    program("routine", "remove", "fen")
