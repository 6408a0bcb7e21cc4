"""Modes and times that differ are carried, without contents: here, on a node with commands, and on one for files."""

from __future__ import annotations

import os
import stat
import struct
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import pytest

from conftest import OpenSsh, Program, start_sshd

OLD_NS = 1_700_000_000_123_456_789


@pytest.fixture(params=["here", "commands", pytest.param("files", marks=pytest.mark.server)])
def spot(request: pytest.FixtureRequest, program: Program, tmp_path: Path) -> Iterator[tuple[str, Path]]:
    """A destination as it is typed, and the directory behind it."""
    root = tmp_path / "spot"
    root.mkdir()
    if request.param == "here":
        yield str(root), root
        return
    openssh: OpenSsh = request.getfixturevalue("openssh")
    child = None
    if request.param == "files":
        child, port = start_sshd(openssh.base, "ForceCommand internal-sftp\n", sftp="internal-sftp")
        openssh = replace(openssh, port=port)
    program.know(openssh.far(root))
    yield "oak:", root
    if child is not None:
        child.terminate()
        child.wait(10)


@pytest.fixture
def fen(program: Program) -> Path:
    root = program.directory / "fen"
    (root / "week 1").mkdir(parents=True)
    (root / "closed").mkdir()
    for name in ("a", "b", "week 1/c", "closed/d"):
        (root / name).write_text(name)
    age(root)
    return root


def age(root: Path) -> None:
    for path in sorted([*root.rglob("*"), root], reverse=True):
        os.utime(path, ns=(OLD_NS, OLD_NS), follow_symlinks=False)


def look(root: Path, step_ns: int) -> dict[str, tuple[int, int, bytes]]:
    """Modes and times of everything below a directory, and contents."""
    found = {}
    for path in [root, *root.rglob("*")]:
        status = path.lstat()
        data = path.read_bytes() if path.is_file() else b""
        name = str(path.relative_to(root))
        found[name] = stat.S_IMODE(status.st_mode), status.st_mtime_ns // step_ns, data
    return found


def step_of(spot: tuple[str, Path], request: pytest.FixtureRequest) -> int:
    return 1_000_000_000 if "files" in request.node.callspec.id else 1


def test_what_is_closed_here_is_closed_there(
    program: Program, spot: tuple[str, Path], fen: Path, request: pytest.FixtureRequest
) -> None:
    place, root = spot
    step_ns = step_of(spot, request)
    program("stage", "fen", place)
    assert look(root / "fen", step_ns) == look(fen, step_ns)
    (fen / "a").chmod(0o600)
    (fen / "b").chmod(0o755)
    (fen / "closed").chmod(0o700)
    os.utime(fen / "week 1", ns=(OLD_NS + 5_000_000_000, OLD_NS + 5_000_000_000))
    before = {path: path.stat().st_ino for path in (root / "fen").rglob("*")}
    planned = program.json("stage", "fen", place, "--plan-only")["plan"]
    assert (planned["files"], planned["facts_of_files"], planned["facts_of_directories"]) == (0, 2, 2)
    shown = " ".join(program("stage", "fen", place).stdout.split())
    assert "modes and times of 2 files and 2 directories" in shown and "of 4 entries that were there" in shown
    assert look(root / "fen", step_ns) == look(fen, step_ns)
    assert {path: path.stat().st_ino for path in before} == before, "no contents were carried"
    assert program.json("stage", "fen", place)["batch"] is None
    assert program.json("compare", "fen", f"{place.rstrip('/')}/fen" if place != "oak:" else "oak:fen")["same"]
    record = program.json("ledger", "show", "--command", "staged")["records"][0]
    assert record["counts"]["facts_set"] == 4
    batch = program.json("batch", "list")["batches"][0]["batch"]
    assert program.json("verify", "--batch", batch)["good"]


def test_a_directorys_time_outlasts_a_second_stage(
    program: Program, spot: tuple[str, Path], fen: Path, request: pytest.FixtureRequest
) -> None:
    place, root = spot
    step_ns = step_of(spot, request)
    program("stage", "fen", place)
    (fen / "week 1" / "new").write_text("new")
    (fen / "a").write_text("changed")
    age(fen)
    os.utime(fen / "a", ns=(OLD_NS + 9_000_000_000, OLD_NS + 9_000_000_000))
    program("stage", "fen", place)
    assert look(root / "fen", step_ns) == look(fen, step_ns)
    os.utime(root / "fen" / "week 1")  # somebody worked in it
    assert program.json("stage", "fen", place)["plan"]["facts_of_directories"] == 1
    assert look(root / "fen", step_ns) == look(fen, step_ns)


def test_only_what_is_meant_to_be_alike_is_set(program: Program, spot: tuple[str, Path], fen: Path) -> None:
    place, root = spot
    program("stage", "fen", place)
    (fen / "a").chmod(0o600)
    os.utime(fen / "week 1")
    assert program.json("stage", "fen", place, "--modes", "site", "--times", "now")["batch"] is None
    program("stage", "fen", place, "--modes", "site")
    assert stat.S_IMODE((root / "fen" / "a").stat().st_mode) == 0o644
    assert int((root / "fen" / "week 1").stat().st_mtime) == int((fen / "week 1").stat().st_mtime)


def test_a_time_alone_is_set_where_the_contents_are_the_same(
    program: Program, spot: tuple[str, Path], fen: Path
) -> None:
    place, root = spot
    program("stage", "fen", place)
    os.utime(fen / "a", ns=(OLD_NS + 7_000_000_000, OLD_NS + 7_000_000_000))
    answer = program.json("stage", "fen", place, "--by", "digest")
    assert (answer["plan"]["files"], answer["plan"]["facts_of_files"]) == (0, 1)
    assert int((root / "fen" / "a").stat().st_mtime) == OLD_NS // 10**9 + 7
    # And a later change is not taken for one that somebody made there.
    (fen / "a").write_text("later")
    assert program.json("stage", "fen", place)["plan"]["newer_there"] == 0


@pytest.mark.server
def test_what_a_server_refuses_is_told_once(program: Program, openssh: OpenSsh, fen: Path, tmp_path: Path) -> None:
    """A file that an access list's mask has changed is no difference; one that cannot be changed is not tried again."""
    root = tmp_path / "spot"
    root.mkdir()
    program.know(openssh.far(root))
    program("stage", "fen", "oak:")
    nobody = 0xFFFFFFFF
    entries = [(0x01, 6, nobody), (0x02, 4, 12345), (0x04, 4, nobody), (0x10, 6, nobody), (0x20, 4, nobody)]
    try:
        packed = struct.pack("<I", 2) + b"".join(struct.pack("<HHI", *each) for each in entries)
        os.setxattr(root / "fen" / "b", "system.posix_acl_access", packed)
    except OSError as error:
        pytest.skip(f"no access lists here: {error}")
    assert stat.S_IMODE((root / "fen" / "b").stat().st_mode) == 0o664
    assert program.json("stage", "fen", "oak:")["batch"] is None
