"""The reboot drill: worker and file server die at one moment, with what the node's disk had not written down."""

from __future__ import annotations

import contextlib
import os
import random
import signal
import subprocess
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import pytest

from conftest import SSHD, Far, OpenSsh, Practice, Program, snapshot, start_sshd, wait_for
from processes import descendants

#: How often each is done here; `make soak` does the rest.
DRILLS = [0, *(pytest.param(number, marks=pytest.mark.soak) for number in range(1, 20))]


def plant(program: Program, rng: random.Random) -> Path:
    """A tree with small files, some that take a while, and one that will replace another."""
    fen = program.directory / "fen"
    for name, size in (
        *((f"plot-{number % 3}/{number}.csv", rng.randrange(1, 3000)) for number in range(24)),
        ("raw-1.bin", 3_000_000),
        ("raw-2.bin", 1_500_000),
        ("notes.txt", 4000),
    ):
        (fen / name).parent.mkdir(parents=True, exist_ok=True)
        (fen / name).write_bytes(rng.randbytes(size))
    (fen / "newest").symlink_to("raw-2.bin")
    return fen


def drill(program: Program, far: Far, number: int, crash: Callable[[], None]) -> None:
    """Stage in the background, let all of it die, go on, and look at what there is."""
    rng = random.Random(number)
    fen = plant(program, rng)
    old = far.root / "in" / "fen" / "notes.txt"
    old.parent.mkdir(parents=True)
    old.write_text("what was there before")
    os.utime(old, (1_500_000_000, 1_500_000_000))
    batch = program.json("stage", "fen", f"{far.name}:in", "--background")["batch"]
    time.sleep(rng.uniform(0.0, 2.2))
    holder = program.json("batch", "show", batch["batch"])["carrier"]
    if holder is not None:
        with contextlib.suppress(ProcessLookupError):
            os.kill(holder["process"], signal.SIGKILL)
    crash()
    there = right_files(fen, far.root / "in" / "fen")
    program("batch", "resume", "--all", "--quiet")
    found = program.json("batch", "show", batch["batch"])
    assert found["good"], found
    assert snapshot(far.root / "in" / "fen") == snapshot(fen)
    assert not list(far.root.rglob("*.part"))
    kept = far.root / "in" / ".yatagan-kept" / batch["batch"] / "fen" / "notes.txt"
    assert kept.read_text() == "what was there before"
    # What had its name, and still has it after the crash, is not carried again.
    again = [path for path, inode in there.items() if os.stat(path).st_ino != inode]
    assert not again, again
    assert program.json("ledger", "check")["good"]
    records = [each for each in program.json("ledger", "show")["records"] if each.get("batch") == batch["batch"]]
    assert len(records) == 1 and records[0]["counts"]["files"] == 27


def right_files(source: Path, there: Path) -> dict[Path, int]:
    """The files that are right at the destination already, and their inodes."""
    found = {}
    for path in source.rglob("*"):
        final = there / path.relative_to(source)
        if path.is_file() and not path.is_symlink() and final.is_file() and final.read_bytes() == path.read_bytes():
            found[final] = final.stat().st_ino
    return found


@pytest.mark.parametrize("commands", ["no", "yes"], ids=["files only", "with commands"])
@pytest.mark.parametrize("number", DRILLS)
def test_the_power_goes(number: int, commands: str, program: Program, practice: Practice) -> None:
    far = practice.far()
    program.know(far)
    wrong = {"max_rate": "3MB", "no_commands": "yes" if commands == "no" else "no"}
    practice.wrong("heron", **wrong)

    def crash() -> None:
        practice.wrong("heron", **wrong, power_cut=str(number + 1), refuse_for="300ms")
        time.sleep(0.3)

    drill(program, far, number, crash)


@pytest.mark.server
@pytest.mark.parametrize("number", DRILLS)
def test_the_server_is_killed(number: int, program: Program, openssh: OpenSsh, tmp_path: Path) -> None:
    (tmp_path / "far").mkdir()
    server, port = start_sshd(openssh.base)
    far = replace(openssh, port=port).far(tmp_path / "far")
    program.know(far)
    program("node", "change", far.name, "--max-rate", "3MB/s")
    servers = [server]

    def crash() -> None:
        for process in [*descendants(server.pid), server.pid]:
            with contextlib.suppress(ProcessLookupError):
                os.kill(process, signal.SIGKILL)
        server.wait()
        config = openssh.base / f"sshd-{port}.conf"
        log = openssh.base / f"sshd-{port}-again.log"
        servers.append(subprocess.Popen([SSHD, "-D", "-f", str(config), "-E", str(log)], start_new_session=True))
        wait_for(lambda: log.exists() and "Server listening" in log.read_text())

    try:
        drill(program, far, number, crash)
    finally:
        servers[-1].terminate()
        servers[-1].wait(10)
