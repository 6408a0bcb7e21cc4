"""The same stage again: after an interruption, in a second terminal, otherwise; and what nobody will finish."""

from __future__ import annotations

import contextlib
import os
import random
import shutil
import signal
import sqlite3
import time
from pathlib import Path
from typing import Any

import pytest

from conftest import Far, Practice, Program, part_file, snapshot, wait_for
from part_names import part_sizes
from terminal import Terminal
from yatagan.batches.batch_store import Batches

SLOW = ("--max-rate", "2MB/s")


#: Large enough to be interrupted within.
BIG = 14_000_000


def make_fen(program: Program) -> Path:
    fen = program.directory / "fen"
    (fen / "plots").mkdir(parents=True)
    (fen / "z-big").write_bytes(os.urandom(BIG))
    (fen / "plots" / "a.csv").write_text("1,2\n")
    (fen / "plots").chmod(0o750)
    for path in (fen / "z-big", fen / "plots" / "a.csv", fen / "plots", fen):
        os.utime(path, (time.time() - 3600,) * 2)
    return fen


def interrupt(program: Program, far: Far, *words: str) -> dict[str, Any]:
    """Stage, and Ctrl-C in the middle of the big file, some of which has been synced; the batch."""
    running = program.start("stage", "fen", f"{far.name}:", *SLOW, *words)
    small = far.root / "fen" / "plots" / "a.csv"
    wait_for(lambda: small.exists() and program.json("batch", "show")["safe_bytes"] > 1_000_000)
    running.send_signal(signal.SIGINT)
    running.communicate(timeout=30)
    assert running.returncode == 4
    found: dict[str, Any] = program.json("batch", "show")
    assert found["safe_bytes"] > 1_000_000
    return found


def assert_arrived(program: Program, far: Far) -> None:
    assert snapshot(far.root / "fen") == snapshot(program.directory / "fen")
    assert not list(far.root.rglob(".yatagan-*.part"))


def test_it_goes_on_with_the_batch_that_was_interrupted(program: Program, far: Far) -> None:
    make_fen(program)
    batch = interrupt(program, far)
    shown = program("stage", "fen", f"{far.name}:", *SLOW, "--plan-only").stdout
    assert f"batch {batch['batch']}: 1 of 2 files is in place" in shown
    assert f"A stage goes on with batch {batch['batch']}." in shown
    done = program.json("stage", "fen", f"{far.name}:", *SLOW)
    assert done["plan"]["begun"] == {
        "batch": batch["batch"],
        "use": "go on",
        "in_place": 1,
        "safe_bytes": batch["safe_bytes"],
    }
    assert done["batch"]["batch"] == batch["batch"] and done["batch"]["in_place"] == 2
    assert done["batch"]["sent_bytes"] - batch["sent_bytes"] < BIG - batch["safe_bytes"] + 100_000
    assert_arrived(program, far)
    assert len(program.json("batch", "list")["batches"]) == 1


def test_a_second_terminal_is_told_who_carries_it(program: Program, far: Far) -> None:
    make_fen(program)
    running = program.start("stage", "fen", f"{far.name}:", "--max-rate", "1MB/s")
    wait_for(lambda: max(part_sizes(far.root / "fen"), default=0) > 300_000)
    batch = program.json("batch", "show")["batch"]
    said = program("stage", "fen", f"{far.name}:", expect=5)
    assert f"batch {batch} is being carried" in said.stderr and f"yatagan batch show {batch}" in said.stderr
    shown = program("stage", "fen", f"{far.name}:", "--plan-only").stdout
    assert f"A stage is refused while batch {batch} carries this." in shown
    program("stage", "fen/plots", f"{far.name}:elsewhere")  # other ends are nobody else's business
    running.send_signal(signal.SIGINT)
    running.communicate(timeout=30)


OTHERWISE = {
    "other options": (),
    "another proof": ("--prove", "read-back"),
    "other patterns": ("--skip", "*.tmp"),
    "another file": (),
    "a file is gone there": SLOW,
}


@pytest.mark.parametrize("what", OTHERWISE)
def test_a_new_plan_takes_over_what_is_safe(program: Program, oak: Far, what: str) -> None:
    fen = make_fen(program)
    batch = interrupt(program, oak)
    if what == "another file":
        (fen / "new.csv").write_text("3,4\n")
        os.utime(fen / "new.csv", (time.time() - 3600,) * 2)
        os.utime(fen, (time.time() - 3600,) * 2)
    if what == "a file is gone there":
        (oak.root / "fen" / "plots" / "a.csv").unlink()
    plan = program("stage", "fen", "oak:", *OTHERWISE[what], "--plan-only").stdout
    assert f"A stage takes over what is there of batch {batch['batch']}, and cancels it." in plan
    assert program.json("batch", "show", batch["batch"])["state"] == "interrupted"
    done = program.json("stage", "fen", "oak:", *OTHERWISE[what])
    assert done["plan"]["begun"]["use"] == "take over"
    assert done["batch"]["sent_bytes"] < BIG - batch["safe_bytes"] + 100_000
    assert_arrived(program, oak)
    old = program.json("batch", "show", batch["batch"])
    assert old["state"] == "cancelled"
    refused = program("batch", "resume", batch["batch"], expect=5).stderr
    assert f"{done['batch']['batch']} took its place" in refused
    shown = program("batch", "show", batch["batch"]).stdout
    assert f"by batch {done['batch']['batch']}" in shown and "Go on" not in shown and "need not be sent" not in shown


def test_a_source_that_has_changed_is_not_mixed_with_what_was_sent(program: Program, oak: Far) -> None:
    fen = make_fen(program)
    interrupt(program, oak)
    (fen / "z-big").write_bytes(os.urandom(BIG))
    os.utime(fen / "z-big", (time.time() - 1800,) * 2)
    os.utime(fen, (time.time() - 3600,) * 2)
    done = program.json("stage", "fen", "oak:")
    assert done["plan"]["begun"]["use"] == "take over" and done["batch"]["sent_bytes"] >= BIG
    assert_arrived(program, oak)


@pytest.mark.parametrize("moment", ["apply-before:2", "apply-after:5", "bytes:5000000", "placed:1"])
@pytest.mark.parametrize("options", [(), ("--prove", "read-back")], ids=["same", "other"])
def test_after_a_kill(program: Program, oak: Far, moment: str, options: tuple[str, ...]) -> None:
    make_fen(program)
    program.dies_at(moment, "stage", "fen", "oak:")
    program("stage", "fen", "oak:", *options)
    assert_arrived(program, oak)
    states = [batch["state"] for batch in program.json("batch", "list")["batches"]]
    assert states.count("finished") == 1 and set(states) <= {"finished", "cancelled"}


def test_a_kill_between_the_old_batch_and_the_new_one_loses_nothing(program: Program, oak: Far) -> None:
    make_fen(program)
    batch = interrupt(program, oak)
    journal = Batches(program.home / "batches").find(batch["batch"]).journal()
    journal.cancel("261127-none")
    journal.close()
    done = program.json("stage", "fen", "oak:", *SLOW)
    assert done["plan"]["begun"]["use"] == "take over"
    assert done["batch"]["sent_bytes"] < BIG - batch["safe_bytes"] + 100_000
    assert_arrived(program, oak)


def test_a_step_that_failed_leaves_no_part_file(program: Program, practice: Practice) -> None:
    far = practice.far()
    program.know(far)
    fen = make_fen(program)
    practice.wrong("heron", max_rate="4MB")
    running = program.start("stage", "fen", "heron:")
    wait_for(lambda: max(part_sizes(far.root / "fen"), default=0) > 1_000_000)
    (fen / "z-big").rename(fen / "gone")
    practice.wrong("heron")
    assert running.wait(60) == 1
    running.communicate()
    assert not list(far.root.rglob(".yatagan-*.part"))


def test_a_batch_that_is_given_up(program: Program, oak: Far) -> None:
    make_fen(program)
    batch = interrupt(program, oak)
    said = program("batch", "cancel", batch["batch"]).stdout
    assert "is cancelled: 1 file in place, 1 unfinished file removed." in said
    assert not list(oak.root.rglob(".yatagan-*.part")) and (oak.root / "fen" / "plots" / "a.csv").exists()
    assert "cancelled" in program("batch", "list").stdout
    assert "stage again" in program("batch", "resume", expect=5).stderr
    assert "is cancelled" in program("batch", "cancel", batch["batch"], expect=5).stderr
    program("stage", "fen", "oak:")
    assert "is finished" in program("batch", "cancel", program.json("batch", "show")["batch"], expect=5).stderr
    assert_arrived(program, oak)


def test_unfinished_files_and_whose_they_are(program: Program, far: Far) -> None:
    make_fen(program)
    needed = interrupt(program, far)["batch"]
    program("stage", "fen/plots", f"{far.name}:done")
    dead = program.json("batch", "list")["batches"][0]["batch"]
    (far.root / "done" / f".yatagan-{dead}-3-1.part").write_bytes(b"x" * 300)
    strange = far.root / "done" / ".yatagan-261101-abcd-3-1.part"
    strange.write_bytes(b"y" * 500)
    os.utime(strange, (time.time() - 7200,) * 2)
    found = {part["batch"]: part for part in program.json("parts", "list", f"{far.name}:")["parts"]}
    assert {batch: part["prospect"] for batch, part in found.items()} == {
        needed: "needed",
        dead: "dead",
        "261101-abcd": "unknown",
    }
    assert found["261101-abcd"]["owner"] in ("root", str(os.getuid())) and found["261101-abcd"]["size_bytes"] == 500
    shown = program("parts", "list", f"{far.name}:").stdout
    assert "2.0 h" in shown or "2 h" in shown, shown
    assert f"No batch will finish 1 of them, 300 B. Remove these with:\n  yatagan parts remove {far.name}:" in shown
    assert f"yatagan parts list {far.name}:done" in program("list", f"{far.name}:done").stdout
    assert "add --yes" in program("parts", "remove", f"{far.name}:", expect=5).stderr
    asked = Terminal(program, "parts", "remove", f"{far.name}:")
    asked.expect("Remove for good?")
    asked.type("n")
    asked.expect("Nothing was removed.")
    assert asked.end() == 0 and len(program.json("parts", "list", f"{far.name}:")["parts"]) == 3
    done = program("parts", "remove", f"{far.name}:", "--yes").stdout
    assert "removed 1 unfinished file; 2 that others may need stay" in done
    assert strange.exists()
    program("parts", "remove", f"{far.name}:done/{strange.name}", "--yes")
    assert not strange.exists()
    (left,) = program.json("parts", "list", f"{far.name}:")["parts"]
    assert left["batch"] == needed
    refused = program("parts", "remove", f"{far.name}:{Path(left['path']).relative_to(far.root)}", "--yes", expect=5)
    assert f"yatagan batch cancel {needed}" in refused.stderr
    assert "no unfinished files" in program("parts", "list", f"{far.name}:done").stdout


def test_a_check_up_names_what_ended_batches_have_left(program: Program, oak: Far) -> None:
    make_fen(program)
    batch = interrupt(program, oak)
    journal = Batches(program.home / "batches").find(batch["batch"]).journal()
    journal.cancel("")
    journal.close()
    assert f"yatagan parts list oak:{oak.root}" in " ".join(program("node", "check", "oak").stdout.split())
    program("parts", "remove", "oak:", "--yes")
    assert program.json("node", "check", "oak")["left_behind"] == []


@pytest.mark.parametrize("seed", range(4))
def test_what_failed_is_done_once_its_cause_is_mended(seed: int, program: Program, tmp_path: Path) -> None:
    """Whatever made steps fail is mended, then --failed finishes them; before that it fails again, for what is so."""
    rng = random.Random(seed)
    fen, there = program.directory / "fen", tmp_path / "there" / "fen"
    directories = ["", "a", "a/deeper", "b", "c"]
    for name in directories:
        (fen / name).mkdir(parents=True, exist_ok=True)
        for number in range(2):
            (fen / name / f"f{number}").write_text(f"{name} {number}")
        (fen / name).chmod(0o750)
    for path in sorted([fen, *fen.rglob("*")], reverse=True):
        os.utime(path, ns=(1_700_000_000_123_456_789, 1_700_000_000_123_456_789))
    there.mkdir(parents=True)
    harms = []
    for name in rng.sample(["a", "b/f0", "f1", "c", "a/deeper"], 3):
        path = there / name
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            if (fen / name).is_dir():
                path.write_text("in the way")
            else:
                path.mkdir()
        except OSError:  # something is in its way already
            continue
        harms.append(path)
    assert program.json("stage", "fen", str(tmp_path / "there"), expect=1)["batch"]["failed"] >= len(harms)
    first = program("batch", "resume", "--failed", expect=1).stdout
    assert first.count("has the name there") == len(harms), "one cause is one line"
    assert "is not a directory" not in first
    for path in harms:
        shutil.rmtree(path) if path.is_dir() else path.unlink()
    done = program.json("batch", "resume", "--failed")
    assert (done["good"], done["failed"]) == (True, 0)
    assert snapshot(there) == snapshot(fen)
    assert program.json("stage", "fen", str(tmp_path / "there"))["batch"] is None


def test_resume_takes_what_is_left(program: Program, oak: Far) -> None:
    """Without an ID not the newest batch, if that is finished, but the newest that is not."""
    (program.directory / "big").write_bytes(os.urandom(9_000_000))
    (program.directory / "small").write_text("small")
    running = program.start("stage", "big", "oak:", "--max-rate", "3MB/s")
    wait_for(lambda: part_file(oak.root, 1_000_000) is not None)
    running.send_signal(signal.SIGINT)
    assert running.wait(30) == 4
    program("stage", "small", "oak:")
    program("batch", "resume")
    assert (oak.root / "big").stat().st_size == 9_000_000
    assert "is finished already" in program("batch", "resume").stdout


def test_a_stage_that_died_while_it_planned_is_told_of(program: Program, practice: Practice) -> None:
    """Nothing of it is left to go on with: what was typed is named, once."""
    program.know(practice.far())
    (program.directory / "small").write_text("small")
    program("stage", "small", "heron:")
    practice.wrong("heron", delay="2s")
    running = program.start("stage", "small", "heron:other dir")

    def plans() -> bool:
        with contextlib.closing(sqlite3.connect(program.home / "planning.db")) as sql:
            return bool(sql.execute("SELECT * FROM planning").fetchall())

    wait_for(plans)
    running.kill()
    running.wait(10)
    practice.wrong("heron")
    said = program("batch", "resume")
    assert (
        "ended before its plan was accepted" in said.stderr and "yatagan stage small 'heron:other dir'" in said.stderr
    )
    assert "plan was accepted" not in program("batch", "resume").stderr
