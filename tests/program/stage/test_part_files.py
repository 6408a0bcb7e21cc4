"""Part files that somebody else changes, replaces or cuts short: no wrong byte ever gets a final name."""

from __future__ import annotations

import os
import signal
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import Far, Program, part_file, wait_for
from part_names import STRANGE, untouched

SIZE = 9_000_000


@pytest.fixture
def aside(tmp_path: Path) -> Path:
    """A stranger's file, with a mode and time of its own."""
    file = tmp_path / "aside"
    file.write_bytes(STRANGE)
    file.chmod(0o640)
    os.utime(file, (1_000_000_000, 1_000_000_000))
    return file


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
