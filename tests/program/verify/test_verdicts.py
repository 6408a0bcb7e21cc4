"""What commands come to: older files that do not replace newer ones, and words and statuses that follow from counts."""

from __future__ import annotations

import hashlib
import os
import re
import signal
import time
from pathlib import Path

import pytest

from conftest import Far, Practice, Program, part_file, wait_for
from terminal import Terminal

DAY = 86_400


def write(file: Path, data: str, days_ago: float) -> None:
    file.parent.mkdir(parents=True, exist_ok=True)
    file.write_text(data)
    os.utime(file, (time.time() - days_ago * DAY,) * 2)


def test_an_older_file_does_not_replace_a_newer_one(program: Program, far: Far) -> None:
    write(program.directory / "fen" / "a.csv", "mine, of three days ago", 3)
    write(program.directory / "fen" / "b.csv", "mine, newer", 1)
    write(far.root / "fen" / "a.csv", "a colleague has mended this", 0.5)
    write(far.root / "fen" / "b.csv", "older", 5)
    done = program("stage", "fen", f"{far.name}:", expect=1)
    assert done.stdout.index("1 file stays as it is: newer at the destination") < done.stdout.index("carry")
    assert "fen/a.csv" in done.stdout and "1 file left as it was there" in done.stdout
    assert "1 file; what was there is kept in" in done.stdout.replace("\n            ", " ")
    assert (far.root / "fen" / "a.csv").read_text() == "a colleague has mended this"
    assert (far.root / "fen" / "b.csv").read_text() == "mine, newer"
    batch = program.json("batch", "show")
    assert (batch["newer_there"], batch["replaced"], batch["good"]) == (1, 1, False)
    again = program("stage", "fen", f"{far.name}:", "--if-newer-there", "leave", expect=1)
    assert "Nothing moved: 1 file is newer there." in again.stdout
    plan = program.json("stage", "fen", f"{far.name}:", "--plan-only", expect=1)["plan"]
    assert (plan["newer_there"], plan["replace"], plan["files"]) == (1, 0, 0)
    program("stage", "fen", f"{far.name}:", "--if-newer-there", "replace")
    assert (far.root / "fen" / "a.csv").read_text() == "mine, of three days ago"
    (kept,) = (far.root / ".yatagan-kept").glob("*/fen/a.csv")
    assert kept.read_text() == "a colleague has mended this"


def test_what_was_changed_there_since_it_was_staged(program: Program, far: Far) -> None:
    """Though the source is newer by now: both sides have been worked on."""
    write(program.directory / "fen" / "a.csv", "first", 5)
    program("stage", "fen", f"{far.name}:")
    write(far.root / "fen" / "a.csv", "changed there", 3)
    write(program.directory / "fen" / "a.csv", "changed here, later", 1)
    done = program("stage", "fen", f"{far.name}:", expect=1)
    assert "changed there since" in done.stdout
    assert (far.root / "fen" / "a.csv").read_text() == "changed there"
    program("stage", "fen", f"{far.name}:", "--if-newer-there", "replace")
    write(program.directory / "fen" / "a.csv", "and once more", 0.5)
    program("stage", "fen", f"{far.name}:")
    assert (far.root / "fen" / "a.csv").read_text() == "and once more"


def test_one_is_asked(program: Program, practice: Practice) -> None:
    far = practice.far()
    program.know(far)
    write(program.directory / "a.csv", "mine", 3)
    write(far.root / "a.csv", "newer", 1)
    no = Terminal(program, "stage", "a.csv", "heron:")
    no.expect("Replace 1 newer file there?")
    no.type("n")
    assert no.end() == 1 and (far.root / "a.csv").read_text() == "newer"
    yes = Terminal(program, "stage", "a.csv", "heron:")
    yes.expect("Replace 1 newer file there?")
    yes.type("y")
    assert yes.end() == 0 and (far.root / "a.csv").read_text() == "mine"


def test_nothing_to_move_is_said_only_where_it_is_so(program: Program) -> None:
    write(program.directory / "fen" / "a", "a", 1)
    (program.directory / "dest" / "fen" / "a").mkdir(parents=True)
    done = program("stage", "fen", "dest", expect=1)
    assert "there already" not in done.stdout and "a directory has the name there" in done.stdout
    (program.directory / "dest" / "fen" / "a").rmdir()
    program("stage", "fen", "dest")
    assert "everything is there already" in program("stage", "fen", "dest").stdout
    os.mkfifo(program.directory / "fen" / "pipe")
    assert "there already" not in program("stage", "fen", "dest", "--skip", "a").stdout


def test_what_is_safe_is_said_after_ctrl_c(program: Program, oak: Far) -> None:
    (program.directory / "big").write_bytes(os.urandom(30_000_000))
    running = program.start("stage", "big", "oak:", "--max-rate", "8MB/s")
    wait_for(lambda: part_file(oak.root, 12_000_000) is not None)
    running.send_signal(signal.SIGINT)
    said = running.communicate(timeout=30)[0]
    assert running.returncode == 4
    assert "MB of that is there already" in said and "Nothing is lost" in said
    batch = program.json("batch", "show")
    assert batch["safe_bytes"] > 1_000_000 and batch["steps"][0]["state"] == "waiting"
    listed = program("list", "oak:").stdout
    assert "empty" not in listed and "1 unfinished file" in listed and batch["batch"] in listed
    found = program.json("list", "oak:")
    (unfinished,) = found["unfinished"]
    assert unfinished["batch"] == batch["batch"] and unfinished["size_bytes"] > 1_000_000
    program("batch", "resume")
    assert "unfinished" not in program("list", "oak:").stdout


def test_a_batch_whose_process_is_stopped(program: Program, oak: Far) -> None:
    (program.directory / "big").write_bytes(os.urandom(30_000_000))
    running = program.start("stage", "big", "oak:", "--max-rate", "4MB/s")
    try:
        wait_for(lambda: any(oak.root.glob("*.part")))
        assert "moving" in program("batch", "list").stdout
        running.send_signal(signal.SIGSTOP)
        wait_for(lambda: f"its process {running.pid} is stopped" in program("batch", "show").stdout, 5)
        assert "stopped" in program("batch", "list").stdout
    finally:
        running.kill()
        running.communicate()
    assert "interrupted" in program("batch", "list").stdout


@pytest.mark.parametrize("count", [1, 14])
def test_a_batch_that_failed_says_so_everywhere(count: int, program: Program) -> None:
    for number in range(count):
        write(program.directory / "fen" / f"{number}", "x", 1)
        (program.directory / "dest" / "fen" / f"{number}").mkdir(parents=True)
    write(program.directory / "fen" / "good", "x", 1)
    done = program("stage", "fen", "dest", expect=1)
    assert f"{count} step{'s' * (count > 1)} failed" in done.stdout
    assert re.search(rf"{count} failed +{100 // (count + 1)} %", program("batch", "list").stdout)
    batch = program.json("batch", "list")["batches"][0]
    assert (batch["failed_files"], batch["in_place"], batch["files"]) == (count, 1, count + 1)
    shown = program("batch", "show").stdout
    if count > 10:
        assert f"and {count - 10} more: yatagan batch show {batch['batch']} --failed" in shown
    every = program("batch", "show", "--failed").stdout
    assert every.count("failed  ") == count and "resume the batch" in every


LISTS = [
    (b"", 2, "it names no file"),
    (b"# nothing but a comment\n\n", 2, "it names no file"),
    (b"%(a)s  a\n%(b)s  a\n", 1, "two digests"),
    (b"%(a)s  ./a\n%(b)s  sub//b\n", 0, ""),
    (b"%(a)s  a\n%(b)s  sub/./b\n", 0, ""),
    (b"%(a)s  a\n%(a)s  a\n", 0, ""),
    (b"%(a)s  " + b"x" * 20_000 + b"\n", 2, "longer than any line"),
]


@pytest.mark.parametrize(("lines", "status", "said"), LISTS, ids=range(len(LISTS)))
def test_lists_that_the_standard_command_does_not_call_good(
    lines: bytes, status: int, said: str, program: Program
) -> None:
    write(program.directory / "fen" / "a", "a", 1)
    write(program.directory / "fen" / "sub" / "b", "b", 1)
    digests = {name.encode(): hashlib.sha256(name.encode()).hexdigest().encode() for name in ("a", "b")}
    (program.directory / "SHA256SUMS").write_bytes(lines % digests)
    done = program("verify", "fen", "--against", "SHA256SUMS", expect=status)
    assert said in done.stdout + done.stderr


def test_a_list_of_a_gigabyte_is_not_read(program: Program) -> None:
    write(program.directory / "fen" / "a", "a", 1)
    with open(program.directory / "list", "wb") as stream:
        stream.truncate(1 << 30)
    assert "too large" in program("verify", "fen", "--against", "list", expect=2).stderr


def test_a_disk_is_not_filled_to_the_last_byte(program: Program, practice: Practice) -> None:
    far = practice.far()
    program.know(far)
    (program.directory / "big").write_bytes(bytes(3_000_000))
    practice.wrong("heron", full_after="2MB")
    done = program("stage", "big", "heron:", expect=5)
    assert "not enough free space on heron" in done.stderr and "--no-space-check" in done.stderr
    assert not list(far.root.iterdir())
    practice.wrong("heron", full_after="100MB")
    assert "that a stage leaves free" in program("stage", "big", "heron:", expect=5).stderr
    program("config", "set", "disk.reserve", "10MB")
    program("stage", "big", "heron:")


def test_a_tree_without_files_is_nothing_to_verify(program: Program) -> None:
    """Its list names none, and that is no error."""
    (program.directory / "bare" / "below").mkdir(parents=True)
    program("checksums", "bare")
    said = program("verify", "bare").stdout
    assert "nothing to verify" in said and "bare against its SHA256SUMS:" in said
    assert "/bare/SHA256SUMS: nothing to verify" in program("verify", "bare", "--against", "bare/SHA256SUMS").stdout
    (program.directory / "bare" / "below").rmdir()
    assert program.json("verify", "bare", expect=1)["counts"]["missing"] == 1


def test_what_was_compared_is_counted_by_either_measure(program: Program) -> None:
    write(program.directory / "fen" / "a", "abc", 1)
    write(program.directory / "fen" / "b", "defgh", 1)
    program("checksums", "fen")
    for by in ("digest", "size-and-time"):
        verdict = program.json("verify", "fen", "--by", by)
        assert (verdict["files"], verdict["size_bytes"]) == (2, 8), by
        record = program.json("ledger", "show")["records"][0]
        assert (record["counts"]["files"], record["size_bytes"]) == (2, 8), by
        assert sum(record["evidence"].values()) == 2
