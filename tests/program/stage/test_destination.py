"""Destinations that are swapped, moved away or closed while a batch runs: nothing lands elsewhere, and it is said."""

from __future__ import annotations

import ctypes
import os
import signal
import subprocess
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest

from conftest import Far, OpenSsh, Practice, Program, start_sshd, wait_for
from terminal import Terminal

FILES = 60


@pytest.fixture
def fen(program: Program) -> Path:
    """Small files in two directories, enough to take a moment on a slow line."""
    root = program.directory / "fen"
    for name in ("a", "b"):
        (root / name).mkdir(parents=True)
        for number in range(FILES):
            file = root / name / f"{number}.csv"
            file.write_bytes(os.urandom(20_000))
            os.utime(file, ns=(1_600_000_000 * 10**9, 1_600_000_000 * 10**9))
    return root


def swap(directory: Path, victim: Path) -> None:
    """Exchange a directory and a link in one step: in between, the name would be gone, which is another story."""
    moved = directory.with_name("moved")
    moved.symlink_to(victim)
    exchange = 2  # RENAME_EXCHANGE of renameat2(2)
    done = ctypes.CDLL(None, use_errno=True).renameat2(-100, bytes(directory), -100, bytes(moved), exchange)
    assert done == 0, os.strerror(ctypes.get_errno())


def finish(running: subprocess.Popen[str]) -> tuple[int, str]:
    out, err = running.communicate(timeout=60)
    assert "Traceback" not in err
    return running.returncode, out + err


def there(directory: Path) -> int:
    return sum(file.suffix == ".csv" for file in directory.rglob("*") if not file.is_symlink())


@pytest.mark.parametrize("more", [["--pack", "never"], ["--max-rate", "1MB/s"]])
def test_a_directory_of_this_machine_becomes_a_link(
    more: list[str], program: Program, practice: Practice, fen: Path, tmp_path: Path
) -> None:
    far = practice.far()
    program.know(far)
    os.rename(fen, far.root / "fen")
    practice.wrong("heron", max_rate="1MB")
    victim, dest = tmp_path / "victim", program.directory / "dest"
    victim.mkdir()
    running = program.start("stage", "heron:fen", "dest", "--json", *more)
    wait_for(lambda: (dest / "fen" / "a").exists() and len(os.listdir(dest / "fen" / "a")) > 1)
    swap(dest / "fen" / "a", victim)
    status, said = finish(running)
    assert status == 1 and not os.listdir(victim), said
    (batch,) = program.json("batch", "list")["batches"]
    assert there(dest / "fen" / "b") == FILES
    assert 0 < batch["failed"] <= FILES + 1  # the directory itself is one
    assert FILES <= batch["in_place"] <= FILES + there(dest / "fen" / "moved")
    shown = program("batch", "show").stdout
    assert shown.count("a symbolic link is in the way") == 1 and "below such directories" in shown


@contextmanager
def files_only(openssh: OpenSsh, base: Path) -> Iterator[OpenSsh]:
    """A server that allows no commands."""
    base.mkdir()
    child, port = start_sshd(base, "ForceCommand internal-sftp\n", sftp="internal-sftp")
    try:
        yield OpenSsh(base, port, openssh.user)
    finally:
        child.send_signal(signal.SIGTERM)
        child.wait(10)


Upload = Callable[..., subprocess.Popen[str]]


@pytest.fixture(params=["helper", "one by one", "files only"])
def upload(request: pytest.FixtureRequest, program: Program, openssh: OpenSsh, tmp_path: Path) -> Iterator[Upload]:
    """Stages fen to a real server slowly, to `far/top` below the test's directory."""
    (tmp_path / "far" / "top").mkdir(parents=True)
    way: dict[str, Any] = {"helper": ("auto", "auto"), "one by one": ("never", "auto"), "files only": ("never", "none")}
    pack, prove = way[request.param]
    server = files_only(openssh, tmp_path / "server") if request.param == "files only" else None
    found = server.__enter__() if server is not None else openssh
    program.know(found.far(tmp_path / "far"))

    def begin(*more: str) -> subprocess.Popen[str]:
        words = ("fen", "oak:top", "--pack", pack, "--prove", prove, "--max-rate", "1MB/s")
        return program.start("stage", *words, *more)

    yield begin
    if server is not None:
        server.__exit__(None, None, None)


@pytest.mark.server
@pytest.mark.parametrize("which", ["fen/a", "."])
def test_a_directory_of_a_node_becomes_a_link(
    which: str, upload: Upload, program: Program, fen: Path, tmp_path: Path
) -> None:
    victim, top = tmp_path / "victim", tmp_path / "far" / "top"
    (victim / "fen").mkdir(parents=True)
    for name in ("a", "b"):
        (victim / "fen" / name).mkdir()
    running = upload()
    wait_for(lambda: (top / "fen" / "a").exists() and len(os.listdir(top / "fen" / "a")) > 3)
    swapped = Path(os.path.normpath(top / which))
    swap(swapped, victim)
    status, said = finish(running)
    assert status in (1, 4, 5), said
    # A file that was under way just then may have a part file there; none has a name.
    assert there(victim) == 0, said
    batch = program.json("batch", "list")["batches"][0]
    assert batch["in_place"] <= there(top) + there(top.with_name("moved")) + there(top / "fen" / "moved")
    if which == ".":
        assert "the destination is another directory than the batch was planned for" in said
        again = program("batch", "resume", expect=5)
        assert "another directory than" in again.stdout and there(victim) == 0
        swapped.unlink()
        os.rename(swapped.with_name("moved"), swapped)
        program("batch", "resume")
        assert there(top) == 2 * FILES


@pytest.mark.server
def test_another_directory_of_the_name_is_not_written_to(oak: Far, program: Program, fen: Path) -> None:
    """Not a link, but a directory that somebody else has made meanwhile."""
    (oak.root / "top").mkdir()
    running = program.start("stage", "fen", "oak:top", "--max-rate", "1MB/s")
    wait_for(lambda: (oak.root / "top" / "fen").exists())
    running.send_signal(signal.SIGINT)
    assert finish(running)[0] == 4
    os.rename(oak.root / "top", oak.root / "moved")
    (oak.root / "top").mkdir()
    assert "another directory than" in program("batch", "resume", expect=5).stdout
    assert not os.listdir(oak.root / "top")


@pytest.mark.server
def test_a_destination_that_is_gone(oak: Far, program: Program, fen: Path) -> None:
    running = program.start("stage", "fen", "oak:top", "--pack", "never", "--max-rate", "1MB/s")
    wait_for(lambda: there(oak.root / "top") > 10)
    os.rename(oak.root / "top", oak.root / "moved")
    status, said = finish(running)
    assert "was there" in said and "in place" not in said and "need not be sent again" not in said
    assert status == 4 and "it is gone" in said and "--make-again" in said and "the source is gone" not in said
    again = program("batch", "resume", "--no-questions", expect=4)
    assert "it is gone" in again.stdout and not (oak.root / "top").exists()
    # Put back: it goes on.
    os.rename(oak.root / "moved", oak.root / "top")
    running = program.start("batch", "resume")
    wait_for(lambda: there(oak.root / "top") > 20)
    os.rename(oak.root / "top" / "fen" / "a", oak.root / "moved")
    status, said = finish(running)
    assert status in (0, 4), said
    # Or all of it again.
    program("batch", "resume", "--make-again", expect=None)
    assert there(oak.root / "top") == 2 * FILES
    assert program.json("batch", "show")["good"]


@pytest.mark.server
def test_one_is_asked_about_a_destination_that_is_gone(oak: Far, program: Program, fen: Path) -> None:
    program("stage", "fen", "oak:top")
    (fen / "a" / "0.csv").write_bytes(b"changed")
    program("batch", "resume")
    os.rename(oak.root / "top", oak.root / "moved")
    terminal = Terminal(program, "batch", "resume", "--make-again")
    assert terminal.end() == 0 and there(oak.root / "top") == 2 * FILES
