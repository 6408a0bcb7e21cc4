"""What a stage brings besides bytes, and what it says that it leaves behind: bits, times, holes, further names."""

from __future__ import annotations

import os
import signal
import struct
import time
from dataclasses import replace
from pathlib import Path

import pytest

from conftest import Far, OpenSsh, Practice, Program, part_file, start_sshd, wait_for

#: Seconds on either side of what 32 bits without a sign can hold.
BEFORE_1970, AFTER_2106 = -315_000_000, 4_400_000_000


def mode(path: Path) -> int:
    return path.lstat().st_mode & 0o7777


def age(*paths: Path) -> None:
    for path in paths:
        os.utime(path, (time.time() - 3600,) * 2, follow_symlinks=False)


BITS = {"shared": 0o2775, "guarded": 0o1777, "both": 0o3770, "plain": 0o755}


@pytest.mark.parametrize("store", ["files", "bundle"])
def test_directories_keep_the_bits_that_groups_need(program: Program, far: Far, store: str) -> None:
    fen = program.directory / "fen"
    for name, bits in BITS.items():
        (fen / name).mkdir(parents=True)
        (fen / name / "file").write_text(name)
        (fen / name).chmod(bits)
    program("stage", "fen", f"{far.name}:", "--store", store)
    program("stage", f"{far.name}:fen", "back")
    found = {name: mode(program.directory / "back" / "fen" / name) for name in BITS}
    assert found == BITS
    if store == "files":
        assert {name: mode(far.root / "fen" / name) for name in BITS} == BITS


def test_a_list_holds_every_bit_of_a_mode(program: Program, far: Far) -> None:
    fen = program.directory / "fen"
    (fen / "shared").mkdir(parents=True)
    (fen / "shared" / "tool").write_text("#!/bin/sh\n")
    (fen / "shared").chmod(0o2775)
    program("checksums", "fen", "--output", "fen/SHA256SUMS")
    program("stage", "fen", f"{far.name}:")
    assert "GOOD" in program("verify", f"{far.name}:fen").stdout.upper()
    (far.root / "fen" / "shared").chmod(0o775)
    said = program("verify", f"{far.name}:fen", expect=1).stdout
    assert "mode 0775, not 2775" in said
    (far.root / "fen" / "shared").chmod(0o2775)
    (far.root / "fen").chmod(mode(far.root / "fen") | 0o2000)  # as a directory above hands it down
    program("verify", f"{far.name}:fen")
    (fen / "shared" / "tool").chmod(0o4755)
    program("checksums", "fen", "--output", "fen/SHA256SUMS")
    done = program("stage", "fen", f"{far.name}:other").stdout
    assert "the set-id bits of 1 file" in done
    assert mode(far.root / "other" / "fen" / "shared" / "tool") == 0o755
    assert "mode 0755, not 4755" in program("verify", f"{far.name}:other/fen", expect=1).stdout


def an_access_list(permissions: int) -> bytes:
    """As Linux keeps it: version 2; owner, a named user, group, mask, others."""
    entries = [(0x01, 6, 0xFFFFFFFF), (0x02, permissions, 12345), (0x04, 4, 0xFFFFFFFF), (0x10, 6, 0xFFFFFFFF)]
    return struct.pack("<I", 2) + b"".join(struct.pack("<HHI", *entry) for entry in (*entries, (0x20, 4, 0xFFFFFFFF)))


def test_what_is_left_behind_is_counted_in_the_plan(program: Program, far: Far) -> None:
    for base in (program.directory, far.root):
        fen = base / "fen"
        (fen / "sub").mkdir(parents=True)
        for name in ("plain", "one", "attributed", "listed"):
            (fen / name).write_text(name)
        os.link(fen / "one", fen / "sub" / "again")
        try:
            os.setxattr(fen / "attributed", "user.instrument", b"chamber 4")
            os.setxattr(fen / "listed", "system.posix_acl_access", an_access_list(6))
        except OSError as error:
            pytest.skip(f"the disk of this machine's temporary files has no such things: {error}")
        age(*fen.rglob("*"))
    here = program("stage", "fen", f"{far.name}:up", "--plan-only").stdout
    there = program("stage", f"{far.name}:fen", "down", "--plan-only").stdout
    for said in (here, there):
        assert (
            "not kept the further names (hard links) of 2 files: each arrives as a file of its own; the access lists "
            "of 1 entry; the extended attributes of 1 entry. A bundle keeps none of that either"
        ) in " ".join(said.split()), said
    plan = program.json("stage", "fen", f"{far.name}:up", "--plan-only")["plan"]
    assert plan["not_kept"] == {"set_ids": 0, "hard_links": 2, "access_lists": 1, "extended_attributes": 1}
    program("stage", "fen", f"{far.name}:up")
    assert "not kept" not in program("stage", "fen", f"{far.name}:up", "--plan-only").stdout


@pytest.mark.parametrize("when", [BEFORE_1970, AFTER_2106], ids=["before 1970", "after 2106"])
def test_times_that_sftp_cannot_say(program: Program, far: Far, when: int) -> None:
    fen = program.directory / "fen"
    (fen / "sub").mkdir(parents=True)
    for name in ("old", "sub/old"):
        (fen / name).write_text(name)
        os.utime(fen / name, (when, when))
    time.sleep(2.1)  # else contents would be looked at, and that is another way
    said = program("stage", "fen", f"{far.name}:").stdout
    assert (far.root / "fen" / "old").stat().st_mtime == when  # the helper can
    program("stage", "fen", f"{far.name}:plain", "--prove", "none", "--pack", "never")
    for place in ("", "plain"):
        plan = program.json("stage", "fen", f"{far.name}:{place}", "--plan-only")["plan"]
        assert (plan["files"], plan["replace"], plan["newer_there"]) == (0, 0, 0), said
    program("stage", f"{far.name}:fen", "back")
    assert (program.directory / "back" / "fen" / "old").stat().st_mtime == when


@pytest.mark.parametrize("when", [BEFORE_1970, AFTER_2106], ids=["before 1970", "after 2106"])
def test_a_directory_whose_time_sftp_cannot_say(program: Program, openssh: OpenSsh, tmp_path: Path, when: int) -> None:
    """Where the node runs commands it arrives; else that is said."""
    fen = program.directory / "fen"
    fen.mkdir()
    os.utime(fen, (when, when))
    (tmp_path / "far").mkdir()
    program.know(openssh.far(tmp_path / "far"))
    program("stage", "fen", "oak:")
    assert (tmp_path / "far" / "fen").stat().st_mtime == when
    child, port = start_sshd(openssh.base, "ForceCommand internal-sftp\n", sftp="internal-sftp")
    try:
        program.save(*replace(openssh, port=port).far(tmp_path / "far").add)
        done = program("stage", "fen", "oak:plain")
        assert "which SFTP cannot carry" in done.stdout + done.stderr
        assert program.json("stage", "fen", "oak:plain")["batch"] is None
    finally:
        child.terminate()
        child.wait(10)


HOLE = 24 << 20


def make_sparse(path: Path) -> None:
    with path.open("wb") as file:
        file.write(os.urandom(300_000))
        file.seek(HOLE)
        file.write(os.urandom(300_000))
        file.truncate(2 * HOLE)
    age(path)


def blocks(path: Path) -> int:
    return path.stat().st_blocks * 512


def test_holes_arrive_as_holes_and_zeros_are_not_sent(program: Program, far: Far) -> None:
    make_sparse(program.directory / "sparse")
    time.sleep(2)
    up = program.json("stage", "sparse", f"{far.name}:")["batch"]
    there = far.root / "sparse"
    assert there.read_bytes() == (program.directory / "sparse").read_bytes()
    assert blocks(there) < 8 << 20 and up["sent_bytes"] < 8 << 20
    assert up["zeros_bytes"] > 40 << 20 and up["evidence"] == {"on-node": 1}
    program("stage", f"{far.name}:sparse", "back")
    back = program.directory / "back" / "sparse"
    assert back.read_bytes() == there.read_bytes() and blocks(back) < 12 << 20
    said = program("stage", "sparse", "here").stdout
    assert "of zeros left out: they are holes there" in said
    here = program.directory / "here" / "sparse"
    assert here.read_bytes() == there.read_bytes() and blocks(here) < 12 << 20


@pytest.mark.parametrize("stop", [signal.SIGINT, signal.SIGKILL])
def test_an_interruption_among_zeros(program: Program, practice: Practice, stop: int) -> None:
    far = practice.far()
    program.know(far)
    near = program.directory / "sparse"
    with near.open("wb") as file:
        file.truncate(HOLE)
        file.seek(HOLE)
        file.write(os.urandom(6 << 20))
        file.truncate(HOLE + (12 << 20))
    age(near)
    practice.wrong("heron", max_rate="2MB")
    child = program.start("stage", "sparse", "heron:")
    wait_for(lambda: part_file(far.root, HOLE + 1_000_000) is not None)
    child.send_signal(stop)
    child.communicate(timeout=60)
    practice.wrong("heron")
    program("stage", "sparse", "heron:")
    assert (far.root / "sparse").read_bytes() == near.read_bytes()
    assert not list(far.root.glob(".yatagan-*.part"))


def test_a_download_with_zeros_that_somebody_changes_meanwhile(program: Program, practice: Practice) -> None:
    """A hole of ours is no sign of it, and one that is not ours is."""
    far = practice.far()
    program.know(far)
    there = far.root / "sparse"
    make_sparse(there)
    practice.wrong("heron", max_rate="12MB")
    child = program.start("stage", "heron:sparse", ".")

    wait_for(lambda: part_file(program.directory) is not None)
    found = part_file(program.directory)
    assert found is not None
    os.truncate(found, 100)
    practice.wrong("heron")
    child.communicate(timeout=60)
    assert child.returncode == 0
    assert (program.directory / "sparse").read_bytes() == there.read_bytes()
