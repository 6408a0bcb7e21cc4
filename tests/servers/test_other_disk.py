"""A server whose commands and file transfer see different disks: nothing unproven passes for proven."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest

from conftest import ALL_NEEDED, Far, OpenSsh, Program, start_sshd

pytestmark = pytest.mark.server


def can_unshare() -> bool:
    return os.geteuid() == 0 and subprocess.run(["unshare", "-m", "true"], capture_output=True).returncode == 0


@dataclass
class Split:
    """What file transfer sees under the start directory, and what commands see under the same name."""

    files: Path
    commands: Path
    together: Path

    def put_together(self) -> None:
        """From now on both see the same."""
        self.together.touch()

    def take_apart(self) -> None:
        self.together.unlink()


@pytest.fixture
def split(program: Program, openssh: OpenSsh, tmp_path: Path) -> Iterator[Split]:
    if not can_unshare():
        assert not ALL_NEEDED, "here this test must run"
        pytest.skip("needs root, and mount namespaces")
    base, start, other = tmp_path / "server", tmp_path / "start", tmp_path / "other"
    for directory in (base, start, other):
        directory.mkdir()
    os.utime(other, (1_000_000_000, 1_000_000_000))  # else both may be of one second
    together = tmp_path / "together"
    wrapper = base / "files"
    wrapper.write_text(
        f"#!/bin/sh\n[ -e {together} ] && exec /usr/lib/openssh/sftp-server\n"
        f"exec unshare -m sh -c 'mount --bind {other} {start} && exec /usr/lib/openssh/sftp-server'\n"
    )
    wrapper.chmod(0o755)
    child, port = start_sshd(base, sftp=str(wrapper))
    program(*OpenSsh(base, port, openssh.user).far(start).add)
    for number in range(5):
        (program.directory / "fen").mkdir(exist_ok=True)
        (program.directory / "fen" / f"{number}.csv").write_bytes(os.urandom(3000))
    yield Split(other, start, together)
    child.send_signal(signal.SIGTERM)
    child.wait(10)


def test_the_plan_says_so_before_anything_moves(program: Program, split: Split) -> None:
    (split.commands / "fen").mkdir()
    plan = program("stage", "fen", "oak:", "--plan-only").stdout
    assert "different disks" in plan and "--prove read-back" in plan and "(on-node)" not in plan
    done = program("stage", "fen", "oak:", "--prove", "on-node", expect=2)
    assert "different disks" in done.stderr and "no such file" not in done.stderr
    program("stage", "fen", "oak:", "--prove", "read-back")
    assert len(os.listdir(split.files / "fen")) == 5 and not os.listdir(split.commands / "fen")
    assert program.json("batch", "show")["evidence"] == {"read-back": 5}


def test_a_promise_that_cannot_be_kept_stops_the_batch(program: Program, split: Split) -> None:
    """The disks part between the plan and the batch's end: nothing gets a final name without the promised proof."""
    split.put_together()
    (program.directory / "big").write_bytes(os.urandom(6_000_000))
    running = program.start("stage", "big", "fen", "oak:", "--max-rate", "2MB/s", "--pack", "never")
    while not any(split.commands.glob("*.part")):
        assert running.poll() is None
    running.send_signal(signal.SIGINT)
    assert running.wait(30) == 4
    shutil.copytree(split.commands, split.files, dirs_exist_ok=True)
    split.take_apart()
    done = program("batch", "resume", expect=None)
    assert done.returncode in (1, 5), done
    assert "sent)" not in done.stdout and not (split.files / "big").exists()
    if done.returncode == 1:
        assert "--prove read-back" in done.stdout and "different disks" in done.stdout


def test_the_disks_part_while_nobody_looks(program: Program, split: Split) -> None:
    """As above, but the destination has no inode to be told apart by: it is made by the batch."""
    split.put_together()
    plan = program.start("stage", "fen", "oak:new/deeper", "--max-rate", "10kB/s", "--pack", "never")
    while not (split.commands / "new" / "deeper" / "fen").exists():
        assert plan.poll() is None
    plan.send_signal(signal.SIGKILL)
    plan.wait(30)
    shutil.copytree(split.commands / "new", split.files / "new")
    split.take_apart()
    done = program("batch", "resume", expect=None)
    assert done.returncode in (1, 5) and "sent)" not in done.stdout, done
    if done.returncode == 1:
        program("batch", "resume", "--prove", "read-back")
        assert len(os.listdir(split.files / "new" / "deeper" / "fen")) >= 5


def test_what_commands_do_not_see_is_not_missing(program: Program, split: Split) -> None:
    program("stage", "fen", "oak:", "--prove", "read-back")
    program("checksums", "fen")
    program("verify", "oak:fen", "--against", "fen/SHA256SUMS")
    program("stage", "fen", "oak:", "--by", "digest", "--plan-only")


@pytest.fixture
def shut(oak: Far) -> Iterator[Path]:
    """A directory of the node in which nothing can be made, by root neither."""
    found = oak.root / "shut"
    (found / "open").mkdir(parents=True)
    attribute = ["chattr", "+i", str(found)] if os.geteuid() == 0 else ["chmod", "555", str(found)]
    if subprocess.run(attribute, capture_output=True).returncode:
        pytest.skip("the disk of this machine's temporary files cannot shut a directory")
    yield found
    subprocess.run([attribute[0], "-i" if attribute[0] == "chattr" else "755", str(found)], check=True)


def test_where_nothing_can_be_written_is_no_other_disk(program: Program, oak: Far, shut: Path) -> None:
    for name in ("fen/a", "fen/b", "open/c"):
        (program.directory / name).parent.mkdir(exist_ok=True)
        (program.directory / name).write_text(name)
    said = program("stage", "fen", "oak:shut", expect=1).stdout
    assert "permission denied: nothing can be written in" in said and "different disks" not in said
    assert "and with that" in said and said.count("permission denied") == 1
    # What is below may be open, and is proven by the node all the same.
    done = program.json("stage", "open", "oak:shut")["batch"]
    assert done["evidence"] == {"on-node": 1} and (shut / "open" / "c").read_text() == "open/c"
