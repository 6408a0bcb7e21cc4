"""Killed, stopped, cut off, hung, full: and then gone on with. On real processes and real servers."""

from __future__ import annotations

import json
import os
import re
import resource
import signal
import subprocess
import sys
from pathlib import Path

import pytest

from conftest import Far, Practice, Program, snapshot, wait_for
from part_names import part_sizes
from processes import file_servers, login_server, runs

MOMENTS = [
    *(f"apply-before:{number}" for number in (1, 2, 4, 7, 12)),
    *(f"apply-after:{number}" for number in (1, 3, 5, 8, 15, 21)),
    "token:1",
    "bytes:1000000",
    "bytes:5000000",
    "placed:1",
    "placed:4",
    "placed:9",
    "kept:1",
    "ledger-before:1",
    "ledger-after:1",
]


def make_tree(root: Path) -> None:
    root.mkdir()
    (root / "big").write_bytes(os.urandom(6_000_000))
    # Directories within directories are made one after the other: many commits of the journal to die at.
    (root / "sub" / "a" / "b" / "c" / "d" / "e").mkdir(parents=True)
    (root / "sub" / "a" / "b" / "c" / "d" / "e" / "deep.csv").write_bytes(b"deep")
    for number in range(12):
        (root / "sub" / f"{number}.csv").write_bytes(os.urandom(1000 * number))
    (root / "latest").symlink_to("sub/11.csv")


def assert_all_there(program: Program, far: Far, name: str = "fen") -> None:
    there = snapshot(far.root)
    assert not [path for path in there if b".part" in path], "part files are left"
    assert snapshot(far.root / name) == snapshot(program.directory / name)


@pytest.fixture(scope="module")
def old_tree(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A tree for all that only read it: one that is made anew is too new to be believed for two seconds."""
    root = tmp_path_factory.mktemp("old") / "fen"
    make_tree(root)
    return root


@pytest.mark.server
@pytest.mark.parametrize("moment", MOMENTS)
def test_kill_and_resume(program: Program, oak: Far, old_tree: Path, moment: str) -> None:
    (oak.root / "fen").mkdir()
    (oak.root / "fen" / "big").write_text("an older one")
    os.utime(oak.root / "fen" / "big", (1_000_000_000, 1_000_000_000))
    program.dies_at(moment, "stage", str(old_tree), "oak:")
    batch = program.json("batch", "resume")
    assert batch["good"] and batch["in_place"] == 14
    assert not list(oak.root.rglob("*.part")), "part files are left"
    assert snapshot(oak.root / "fen") == snapshot(old_tree)
    kept = oak.root / ".yatagan-kept" / batch["batch"] / "fen" / "big"
    assert kept.read_text() == "an older one"
    assert [record["outcome"] for record in program.json("ledger", "show")["records"]] == ["good"]
    assert program.json("ledger", "check")["good"]


@pytest.mark.parametrize("moment", ["bytes:3000000", "placed:3"])
def test_kill_twice_on_a_practice_node(program: Program, practice: Practice, moment: str) -> None:
    far = practice.far()
    program.know(far)
    make_tree(program.directory / "fen")
    program.dies_at(moment, "stage", "fen", "heron:")
    program.dies_at("apply-after:3", "batch", "resume")
    assert program.json("batch", "resume")["good"]
    assert_all_there(program, far)


def test_little_is_sent_again(program: Program, practice: Practice) -> None:
    """Killed at 9 of 12 MB on a slow line: what was synced is neither sent nor trusted blindly."""
    far = practice.far()
    program.know(far)
    (program.directory / "big").write_bytes(os.urandom(12_000_000))
    practice.wrong("heron", max_rate="3MB")
    program.dies_at("bytes:9000000", "stage", "big", "heron:")
    practice.wrong("heron")
    shown = program("batch", "show").stdout
    assert re.search(r"\d+ [kM]B of 12.0 MB safe on disk|\d\.\d+ MB of 12.0 MB safe on disk", shown), shown
    batch = program.json("batch", "resume")
    assert batch["good"] and batch["sent_again_bytes"] < 6_000_000
    assert (far.root / "big").read_bytes() == (program.directory / "big").read_bytes()


def test_a_cut_line_is_retried_by_itself(program: Program, practice: Practice) -> None:
    far = practice.far()
    program.know(far)
    make_tree(program.directory / "fen")
    practice.wrong("heron", cut_after="2MB", refuse_for="1500ms")
    done = program("stage", "fen", "heron:")
    assert "trying again in" in done.stderr and "the connection is back" in done.stderr
    assert_all_there(program, far)


def test_a_login_node_that_ends_what_lasts_too_long(program: Program, practice: Practice) -> None:
    heron, dunlin = practice.far(), practice.far("dunlin")
    program.know(heron)
    program.know(dunlin)
    (program.directory / "big").write_bytes(os.urandom(6_000_000))
    practice.wrong("dunlin", kill_after="3s", max_rate="2MB")
    done = program("stage", "big", "dunlin:")
    assert "the connection was lost" in done.stderr and "the connection is back" in done.stderr
    # One cluster, one disk.
    assert "Nothing to move" in program("stage", "big", "heron:").stdout
    assert (heron.root / "big").read_bytes() == (program.directory / "big").read_bytes()


def test_a_line_that_stays_away_interrupts_and_resumes(program: Program, practice: Practice) -> None:
    far = practice.far()
    program.know(far)
    (program.home / "settings.toml").write_text('[connection]\npatience = "1s"\n')
    make_tree(program.directory / "fen")
    practice.wrong("heron", cut_after="2MB", refuse_for="60s")
    done = program("stage", "fen", "heron:", expect=4)
    assert "batch resume" in done.stdout
    assert program.json("batch", "show")["state"] == "interrupted"
    practice.wrong("heron")
    assert program.json("batch", "resume")["good"]
    assert_all_there(program, far)


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM])
def test_a_stop_that_comes_after_the_verdict_changes_nothing(number: int, program: Program) -> None:
    """The process is at its end: it has said all, and its status stays."""
    late = f"atexit.register(os.kill, os.getpid(), {number})"
    done = subprocess.run(
        [
            sys.executable,
            "-c",
            f"import atexit, os; from yatagan.cli.main import main; {late}; main(['list', 'nothing'])",
        ],
        cwd=program.directory,
        env=program.environment(),
        capture_output=True,
        text=True,
    )
    assert done.returncode == program("list", "nothing", expect=None).returncode > 0
    assert "Traceback" not in done.stderr


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM])
def test_a_stop_that_comes_after_the_answer_makes_no_second_one(number: int, program: Program) -> None:
    """The answer is out, and what is left is to close what was open."""
    (program.directory / "a").write_text("a")
    script = f"""
import os
from yatagan.cli.terminal import terminal
from yatagan.cli.main import main

said = terminal.say_json

def say_json(*answer, **form):
    said(*answer, **form)
    os.kill(os.getpid(), {number})

terminal.say_json = say_json
main(["stage", "a", "there", "--json"])
"""
    done = subprocess.run(
        [sys.executable, "-c", script],
        cwd=program.directory,
        env=program.environment(),
        capture_output=True,
        text=True,
    )
    assert (done.returncode, done.stderr) == (4, "")
    assert json.loads(done.stdout)["batch"]["good"]


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM])
def test_ctrl_c_stops_cleanly_and_at_once(program: Program, practice: Practice, number: int) -> None:
    far = practice.far()
    program.know(far)
    (program.directory / "big").write_bytes(os.urandom(8_000_000))
    practice.wrong("heron", max_rate="2MB")
    child = program.start("stage", "big", "heron:")
    wait_for(lambda: max(part_sizes(far.root), default=0) > 1_000_000)
    child.send_signal(number)
    out, err = child.communicate(timeout=60)
    assert child.returncode == 4 and "batch resume" in out and "Traceback" not in err
    practice.wrong("heron")
    batch = program.json("batch", "resume")
    assert batch["good"] and batch["sent_again_bytes"] < 4_000_000
    assert (far.root / "big").read_bytes() == (program.directory / "big").read_bytes()


def test_a_full_disk_holds_the_batch_until_there_is_room(program: Program, practice: Practice) -> None:
    far = practice.far()
    program.know(far)
    make_tree(program.directory / "fen")
    practice.wrong("heron", full_after="2MB")
    done = program("stage", "fen", "heron:", "--no-space-check", expect=4)
    assert "is held: no space" in done.stdout and "not enough" in done.stdout
    assert re.search(r"no space left on the disk: [0-9.]+ MB are still to come, and [0-9.]+ k?B were free", done.stdout)
    assert "held" in program("batch", "list").stdout
    assert program.json("batch", "show")["state"] == "held"
    practice.wrong("heron")
    assert program.json("batch", "resume")["good"]
    assert_all_there(program, far)


def test_a_stop_does_not_wait_for_a_proof(program: Program, practice: Practice) -> None:
    """Reading the file back would take minutes."""
    far = practice.far()
    program.know(far)
    (program.directory / "big").write_bytes(os.urandom(3_000_000))
    practice.wrong("heron", max_rate="3MB")
    child = program.start("stage", "big", "heron:", "--prove", "read-back")

    def proving() -> bool:
        found = program("batch", "show", "--json", expect=None).stdout
        return '"arrived"' in found

    wait_for(proving)
    practice.wrong("heron", max_rate="10kB")
    child.send_signal(signal.SIGTERM)
    out, err = child.communicate(timeout=30)
    assert child.returncode == 4 and "stopping" in err and "is interrupted" in out
    practice.wrong("heron")
    assert program.json("batch", "resume")["evidence"] == {"read-back": 1}


def test_a_full_disk_of_our_own_interrupts_and_resumes(program: Program, practice: Practice) -> None:
    """The journal cannot grow any more: nothing goes on unjournalled, and nothing is lost."""
    far = practice.far()
    program.know(far)
    (program.directory / "fen").mkdir()
    for number in range(600):
        (program.directory / "fen" / f"{number}.csv").write_bytes(b"%d" % number)
    small = 400_000
    command = "stage", "fen", "heron:", "--pack", "never"
    done = program(*command, expect=4, preexec_fn=lambda: resource.setrlimit(resource.RLIMIT_FSIZE, (small, small)))
    assert "journal.db cannot be written" in done.stderr and "batch resume" in done.stderr
    arrived = len(list((far.root / "fen").glob("*.csv")))
    assert 0 < arrived < 600, "the limit was meant to be met half-way"
    assert program.json("batch", "resume")["in_place"] == 600
    assert_all_there(program, far)


@pytest.mark.server
def test_a_hung_server_that_wakes_up_spoils_nothing(program: Program, oak: Far) -> None:
    """The file server is stopped in mid-write and its line dropped; the batch goes on in a new session; it wakes."""
    big = program.directory / "big"
    big.write_bytes(os.urandom(150_000_000))
    child = program.start("stage", "big", "oak:")
    wait_for(lambda: max(part_sizes(oak.root), default=0) > 20_000_000)
    hung = file_servers(oak.root)
    assert hung
    for pid in hung:
        os.kill(pid, signal.SIGSTOP)
    try:
        for pid in hung:
            os.kill(login_server(pid), signal.SIGKILL)
        out, err = child.communicate(timeout=110)
        assert child.returncode == 0, out + err
        assert "the connection was lost" in err
        assert big.read_bytes() == (oak.root / "big").read_bytes()
    finally:
        for pid in hung:
            os.kill(pid, signal.SIGCONT)
    wait_for(lambda: not any(runs(pid) for pid in hung))
    assert big.read_bytes() == (oak.root / "big").read_bytes()
    assert not list(oak.root.glob(".yatagan-*.part"))


@pytest.mark.server
def test_two_machines_stage_the_same_name_at_once(program: Program, oak: Far, tmp_path: Path) -> None:
    """Both planned before either arrived: one whole file, and the other is told why not."""
    (tmp_path / "home2").mkdir()
    (tmp_path / "near2").mkdir()
    other = Program(tmp_path / "home2", tmp_path / "near2")
    other(*oak.add)
    contents = {program: os.urandom(60_000_000), other: os.urandom(60_000_000)}
    for who, data in contents.items():
        (who.directory / "same").write_bytes(data)

    def parts() -> int:
        return sum(size > 0 for size in part_sizes(oak.root))

    first = program.start("stage", "same", f"{oak.name}:", "--json")
    wait_for(lambda: parts() == 1)
    first.send_signal(signal.SIGSTOP)  # in mid-file, until the second has planned too
    second = other.start("stage", "same", f"{oak.name}:", "--json")
    wait_for(lambda: parts() == 2)
    first.send_signal(signal.SIGCONT)
    ended = {
        who: (*child.communicate(timeout=100), child.returncode) for who, child in ((program, first), (other, second))
    }
    landed = (oak.root / "same").read_bytes()
    assert landed in contents.values()
    for who, (out, err, status) in ended.items():
        if contents[who] == landed:
            assert status == 0, out + err
        else:
            assert status == 1, out + err
            assert who.json("batch", "show")["steps"][0]["reason"] == "appeared"
    assert not list(oak.root.glob(".yatagan-*.part"))


def test_a_source_that_grows_never_lands_as_a_mixture(program: Program, practice: Practice) -> None:
    far = practice.far()
    program.know(far)
    growing = program.directory / "growing.log"
    growing.write_bytes(b"a" * 3_000_000)
    os.utime(growing, (1_600_000_000, 1_600_000_000))
    practice.wrong("heron", max_rate="3MB")
    child = program.start("stage", "growing.log", "heron:")
    wait_for(lambda: max(part_sizes(far.root), default=0) > 600_000)
    growing.write_bytes(b"b" * 3_500_000)
    practice.wrong("heron")
    child.communicate(timeout=60)
    landed = (far.root / "growing.log").read_bytes()
    assert landed == b"b" * 3_500_000


@pytest.mark.parametrize("now", ["directory", "link"])
def test_a_file_that_is_something_else_by_now(program: Program, practice: Practice, now: str) -> None:
    far = practice.far()
    program.know(far)
    fen = program.directory / "fen"
    fen.mkdir()
    (fen / "a-big").write_bytes(os.urandom(6_000_000))
    (fen / "b-other").write_bytes(os.urandom(5_000_000))
    practice.wrong("heron", max_rate="2MB")
    child = program.start("stage", "fen", "heron:")
    wait_for(lambda: max(part_sizes(far.root / "fen"), default=0) > 300_000)
    child.send_signal(signal.SIGINT)
    child.communicate(timeout=60)
    practice.wrong("heron")
    (fen / "b-other").unlink()
    if now == "directory":
        (fen / "b-other").mkdir()
    else:
        (fen / "b-other").symlink_to("a-big")
    done = program("batch", "resume", expect=1)
    assert f"it was a file when it was planned, and is a {now} now" in done.stderr
    assert "stage again: the plan will say" in done.stdout and "nothing writes" not in done.stdout
    assert (far.root / "fen" / "a-big").read_bytes() == (fen / "a-big").read_bytes()
    assert not (far.root / "fen" / "b-other").exists()


def test_what_appears_after_the_plan_is_not_destroyed(program: Program, practice: Practice) -> None:
    far = practice.far()
    program.know(far)
    (program.directory / "notes").write_bytes(os.urandom(3_000_000))
    practice.wrong("heron", max_rate="2MB")
    child = program.start("stage", "notes", "heron:")
    wait_for(lambda: max(part_sizes(far.root), default=0) > 300_000)
    (far.root / "notes").write_text("a colleague's")
    out, _ = child.communicate(timeout=60)
    assert child.returncode == 1 and "taken the name since the plan" in out
    assert (far.root / "notes").read_text() == "a colleague's"
    assert not list(far.root.glob(".yatagan-*.part"))


def test_a_batch_is_carried_by_one_process(program: Program, practice: Practice) -> None:
    far = practice.far()
    program.know(far)
    (program.directory / "big").write_bytes(os.urandom(4_000_000))
    practice.wrong("heron", max_rate="1MB")
    child = program.start("stage", "big", "heron:")
    wait_for(lambda: bool(list(far.root.glob(".yatagan-*.part"))))
    assert "is being carried" in program("batch", "resume", expect=5).stderr
    assert "moving now" in program("batch", "show").stdout
    child.send_signal(signal.SIGINT)
    child.communicate(timeout=60)


def test_half_a_file_is_never_taken_for_a_whole_one(program: Program, far: Far) -> None:
    """A file of the right name, cut short by something else: it is replaced, and kept."""
    (program.directory / "f").write_bytes(b"x" * 5000)
    (far.root / "f").write_bytes(b"x" * 2000)
    os.utime(far.root / "f", (1_700_000_000, 1_700_000_000))  # else it would be newer
    done = program.json("stage", "f", f"{far.name}:")
    assert done["plan"]["replace"] == 1 and (far.root / "f").stat().st_size == 5000
