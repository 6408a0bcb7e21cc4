"""Part files that somebody else changes, replaces or cuts short: no wrong byte ever gets a final name."""

from __future__ import annotations

import asyncio
import fcntl
import os
import signal
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any, cast

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import Far, Program, part_file, wait_for
from yatagan.portable import placing
from yatagan.portable.directories import facts
from yatagan.stores.local import LocalStore
from yatagan.transfer.checkpoints import Checkpoints

SIZE = 9_000_000
STRANGE = b"strange " * 1000


def replaced(part: Path, aside: Path) -> None:
    """By a file of the same size."""
    aside.write_bytes(os.urandom(part.stat().st_size))
    os.replace(aside, part)


def made_a_link(part: Path, aside: Path) -> None:
    part.unlink()
    part.symlink_to(aside)


def made_a_hard_link(part: Path, aside: Path) -> None:
    part.unlink()
    os.link(aside, part)


def given_a_second_name(part: Path, aside: Path) -> None:
    os.link(part, aside.with_name("second"))


def cut_short(part: Path, aside: Path) -> None:
    os.truncate(part, 0)


def overwritten(part: Path, aside: Path) -> None:
    with open(part, "r+b") as stream:
        stream.write(STRANGE)


def removed(part: Path, aside: Path) -> None:
    part.unlink()


HARM = [replaced, made_a_link, made_a_hard_link, given_a_second_name, cut_short, overwritten, removed]
Harm = Callable[[Path, Path], None]


@pytest.fixture
def aside(tmp_path: Path) -> Path:
    """A stranger's file, with a mode and time of its own."""
    file = tmp_path / "aside"
    file.write_bytes(STRANGE)
    file.chmod(0o640)
    os.utime(file, (1_000_000_000, 1_000_000_000))
    return file


def untouched(aside: Path) -> bool:
    if not aside.exists():
        return True  # it has become the part file
    status = aside.stat()
    return aside.read_bytes() == STRANGE and status.st_mode & 0o777 == 0o640 and status.st_mtime == 1_000_000_000


@pytest.mark.parametrize("harm", HARM, ids=lambda harm: harm.__name__)
def test_while_it_arrives(harm: Harm, program: Program, oak: Far, aside: Path) -> None:
    data = os.urandom(SIZE)
    (oak.root / "big").write_bytes(data)
    (oak.root / "big").chmod(0o604)
    (program.directory / "dest").mkdir()
    running = program.start("stage", "oak:big", "dest", "--max-rate", "8MB/s")
    wait_for(lambda: part_file(program.directory / "dest", SIZE // 9) is not None)
    part = part_file(program.directory / "dest")
    assert part is not None
    harm(part, aside)
    out, err = running.communicate(timeout=60)
    assert "Traceback" not in err
    final = program.directory / "dest" / "big"
    assert running.returncode == 0, (out, err)
    assert final.read_bytes() == data and not final.is_symlink() and final.stat().st_mode & 0o777 == 0o604
    assert final.stat().st_nlink == 1 and untouched(aside)


#: A program of another one's: it opens a file for writing, says so, and writes into it.
WRITER = """
import os, sys
descriptor = os.open(sys.argv[1], os.O_RDWR)
print("open", flush=True)
os.pwrite(descriptor, b"strange " * 100, int(sys.argv[2]))
print("written", flush=True)
"""


def is_waiting(process: subprocess.Popen[bytes]) -> bool:
    """Whether a process has come to its end, or waits in the kernel for a file that it opens."""
    status = Path(f"/proc/{process.pid}/syscall").read_text().split()
    return process.poll() is not None or status[:1] in (["257"], ["2"], ["56"])  # openat, open


@pytest.mark.parametrize("when", range(9))
@pytest.mark.parametrize("lease", ["given", "none"])
def test_a_write_at_any_moment_is_seen(when: int, lease: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Before and after each call to the system that we make while a file arrives, another program writes into it."""
    if lease == "none":
        monkeypatch.setattr(fcntl, "F_SETLEASE", -1)
    part, data = tmp_path / ".yatagan-x-1-1.part", os.urandom(4 * 4096)
    foreign: list[subprocess.Popen[bytes]] = []
    moment = 0

    def let_it_write() -> None:
        nonlocal moment
        if moment == when and part.exists():
            foreign.append(subprocess.Popen([sys.executable, "-c", WRITER, str(part), "100"], stdout=subprocess.PIPE))
            wait_for(lambda: foreign[0].poll() is not None or is_waiting(foreign[0]))
        moment += 1

    plain = os.pwrite

    def pwrite(*given: Any) -> int:
        let_it_write()
        count = plain(*given)
        let_it_write()
        return count

    async def work() -> bool:
        file = await LocalStore(b"/").create_part(os.fsencode(part))
        await file.keep_others_out()
        monkeypatch.setattr(os, "pwrite", pwrite)
        for at in range(0, len(data), 4096):
            await file.write(at, data[at : at + 4096])
        monkeypatch.setattr(os, "pwrite", plain)
        let_it_write()
        untouched = await file.is_untouched(len(data))
        await file.close()
        return untouched

    untouched = asyncio.run(work())
    for each in foreign:
        assert each.wait(60) == 0
    assert untouched is (lease == "given" and not foreign)


@pytest.mark.parametrize("harm", HARM, ids=lambda harm: harm.__name__)
def test_between_two_sessions(harm: Harm, program: Program, oak: Far, aside: Path) -> None:
    data = os.urandom(SIZE)
    (oak.root / "big").write_bytes(data)
    (program.directory / "dest").mkdir()
    running = program.start("stage", "oak:big", "dest", "--max-rate", "10MB/s")
    wait_for(lambda: part_file(program.directory / "dest", SIZE // 2) is not None)
    running.send_signal(signal.SIGINT)
    assert running.wait(30) == 4
    part = part_file(program.directory / "dest")
    assert part is not None
    harm(part, aside)
    program("batch", "resume")
    assert (program.directory / "dest" / "big").read_bytes() == data and untouched(aside)


def test_what_is_still_right_is_not_fetched_again(program: Program, oak: Far) -> None:
    (oak.root / "big").write_bytes(os.urandom(SIZE))
    (program.directory / "dest").mkdir()
    running = program.start("stage", "oak:big", "dest", "--max-rate", "10MB/s")
    wait_for(lambda: part_file(program.directory / "dest", SIZE // 2) is not None)
    running.send_signal(signal.SIGINT)
    assert running.wait(30) == 4
    batch = program.json("batch", "resume")
    assert batch["evidence"] == {"on-arrival": 1} and batch["sent_again_bytes"] < SIZE // 4


@pytest.mark.parametrize("harm", [replaced, made_a_link, made_a_hard_link], ids=lambda harm: harm.__name__)
@pytest.mark.parametrize("prove", ["none", "auto", "read-back"])
def test_on_a_node(prove: str, harm: Harm, program: Program, oak: Far, aside: Path) -> None:
    data = os.urandom(SIZE)
    (program.directory / "big").write_bytes(data)
    running = program.start("stage", "big", "oak:", "--max-rate", "12MB/s", "--prove", prove)
    wait_for(lambda: part_file(oak.root, SIZE // 4) is not None)
    part = part_file(oak.root)
    assert part is not None
    harm(part, aside)
    out, err = running.communicate(timeout=60)
    assert "Traceback" not in err and untouched(aside)
    final = oak.root / "big"
    assert running.returncode == 0, (out, err)
    assert final.read_bytes() == data and not final.is_symlink()


@given(st.lists(st.integers(1, 1 << 40), min_size=1, max_size=400), st.integers(0, 1 << 41))
def test_checkpoints_stay_few_and_keep_the_last(lengths: list[int], upto: int) -> None:
    points = Checkpoints()
    for length in sorted(set(lengths)):
        points.add(length, f"{length:x}", 1 << 40)
    assert points.end == max(lengths) and len(list(points)) <= 260
    assert [length for length, _ in points] == sorted(length for length, _ in points)
    assert list(Checkpoints.decode(points.encode())) == list(points)
    assert points.up_to(upto).end <= upto


def test_what_is_replaced_is_safe_under_its_other_name_first(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """The directory that it is kept in is synced before anything takes its place."""
    done: list[str] = []
    (tmp_path / "kept").mkdir()
    (tmp_path / "f").write_text("old")
    (tmp_path / "part").write_text("new!")
    sync, rename = placing.sync_directory, os.rename
    kept = os.stat(tmp_path / "kept")

    def synced(directory: int) -> None:
        done.append("kept" if os.path.samestat(os.fstat(directory), kept) else "there")
        sync(directory)

    def renamed(*names: Any, **directories: Any) -> None:
        done.append("rename")
        rename(*names, **directories)

    monkeypatch.setattr(placing, "sync_directory", synced)
    monkeypatch.setattr(placing.os, "rename", renamed)
    seen = facts(os.lstat(tmp_path / "f"))
    part, path, other = (os.fsencode(tmp_path / name) for name in ("part", "f", "kept/f"))
    placing.place_by_name(placing.Placing(part, path, 4, None, None, None, cast(Any, seen), other))
    assert done == ["kept", "rename", "there"]
    assert (tmp_path / "f").read_text() == "new!" and (tmp_path / "kept" / "f").read_text() == "old"
