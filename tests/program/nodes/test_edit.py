"""`yatagan edit`: written back whole or not at all; nothing that belongs to the file is lost, and no edit of others."""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import signal
import stat
import struct
import subprocess
from pathlib import Path
from typing import Any

import pytest

from conftest import Far, Practice, Program

OLD = "depth 10\nrate 2\n"
NEW = "depth 12\nrate 2\n"
#: Read for account 12345 besides, as Linux keeps it: version, then (tag, permissions, number).
ACCESS_LIST = struct.pack("<I", 2) + b"".join(
    struct.pack("<HHI", tag, bits, number)
    for tag, bits, number in (
        (1, 6, 2**32 - 1),
        (2, 4, 12345),
        (4, 4, 2**32 - 1),
        (16, 4, 2**32 - 1),
        (32, 4, 2**32 - 1),
    )
)


def editor(tmp_path: Path, script: str = "s/depth 10/depth 12/", before: str = "") -> dict[str, str]:
    """The environment with an editor that does this to its file, after running some shell first."""
    file = tmp_path / "editor"
    file.write_text(f'#!/bin/sh\n{before}\nsed \'{script}\' "$1" > "$1.new" && cat "$1.new" > "$1" && rm "$1.new"\n')
    file.chmod(0o755)
    return {"VISUAL": str(file)}


def edit(
    program: Program, place: str, given: dict[str, str], *more: str, expect: int = 0
) -> subprocess.CompletedProcess[str]:
    with pytest.MonkeyPatch.context() as patched:
        for name, value in given.items():
            patched.setenv(name, value)
        return program("edit", place, *more, expect=expect)


def copies(program: Program) -> list[Path]:
    return sorted((program.home / "edits").glob("*/*"))


@pytest.mark.kept("openssh")
def test_an_edit_keeps_what_belongs_to_a_file(program: Program, far: Far, tmp_path: Path) -> None:
    file = far.root / "runs" / "model two.cfg"
    file.parent.mkdir()
    file.write_text(OLD)
    file.chmod(0o640)
    (far.root / "current").symlink_to("runs/model two.cfg")
    given = editor(tmp_path)
    answer = json.loads(edit(program, f"{far.name}:current", given, "--json").stdout)
    assert file.read_text() == NEW and stat.S_IMODE(file.stat().st_mode) == 0o640
    assert (far.root / "current").is_symlink(), "the target was edited, and the link stays"
    (kept,) = (far.root / "runs" / ".yatagan-kept").rglob("model two.cfg")
    assert kept.read_text() == OLD and str(kept) == answer["kept"] and answer["changed"]
    assert copies(program) == [] and not list(far.root.rglob("*.part"))
    record = program.json("ledger", "show")["records"][0]
    assert record["kind"] == "edited" and "before_sha256" in record
    # Nothing changed: nothing is written.
    before = file.stat()
    assert edit(program, f"{far.name}:current", given).stdout == "Nothing was changed.\n"
    assert file.stat().st_ino == before.st_ino


def test_somebody_else_was_faster(program: Program, oak: Far, tmp_path: Path) -> None:
    file = oak.root / "model.cfg"
    for deed in (
        f"echo other > {file}",
        f"rm {file}",
        f"touch -d 2001-01-01 {file}",
        f"cp -p {file} {file}.x; sed -i s/2/3/ {file}; touch -r {file}.x {file}",
    ):
        file.write_text(OLD)
        told = edit(program, "oak:model.cfg", editor(tmp_path, before=deed), expect=5).stderr
        assert "changed while you edited it" in told
        assert (file.read_text() if file.exists() else "") != NEW
        (copy,) = copies(program)
        assert str(copy) in told and copy.read_text() == NEW and stat.S_IMODE(copy.parent.stat().st_mode) == 0o700
        shutil.rmtree(copy.parent)
    assert not list(oak.root.rglob("*.part")) and not (oak.root / ".yatagan-kept").exists()


def test_what_a_new_file_would_not_have_is_never_lost(program: Program, oak: Far, tmp_path: Path) -> None:
    file = oak.root / "model.cfg"
    given = editor(tmp_path)

    def refused(why: str, **more: Any) -> None:
        told = edit(program, "oak:model.cfg", given, expect=5).stderr
        assert why in told and file.read_text() == OLD, told

    file.write_text(OLD)
    os.link(file, oak.root / "other name")
    refused("further names")
    (oak.root / "other name").unlink()
    file.chmod(0o4755)
    refused("set-id bits")
    file.chmod(0o644)
    with contextlib.suppress(OSError):  # a disk without access lists
        os.setxattr(file, "system.posix_acl_access", ACCESS_LIST)
        refused("access list")
        os.removexattr(file, "system.posix_acl_access")
        file.chmod(0o644)
    if os.geteuid() == 0:
        os.chown(file, 12345, -1)
        refused("its owner")
        os.chown(file, 0, 12345)
        refused("its group")
        os.chown(file, 0, 0)
        assert copies(program), "where it shows only when it is written back, the copy is kept"
    edit(program, "oak:model.cfg", given)
    assert file.read_text() == NEW


def test_where_nothing_can_be_edited(program: Program, oak: Far, practice: Practice, tmp_path: Path) -> None:
    given = editor(tmp_path)
    (oak.root / "directory").mkdir()
    os.mkfifo(oak.root / "pipe")
    with (oak.root / "huge").open("wb") as stream:
        stream.truncate(65 << 20)
    for place, why, status in (
        ("directory", "it is a directory", 2),
        ("pipe", "it is a fifo", 2),
        ("huge", "larger than the 64 MB that are edited", 2),
        ("nothing", "there is no such file", 2),
    ):
        assert why in edit(program, f"oak:{place}", given, expect=status).stderr
    (oak.root / "model.cfg").write_text(OLD)
    assert (
        "is no command of this machine" in edit(program, "oak:model.cfg", {"VISUAL": "no-such-editor"}, expect=5).stderr
    )
    assert "ended with status 3" in edit(program, "oak:model.cfg", editor(tmp_path, before="exit 3"), expect=5).stderr
    assert copies(program) == []


@pytest.mark.server
@pytest.mark.parametrize(
    ("moment", "there"), [("token:1", OLD), ("bytes:1", OLD), ("bytes:200000", OLD), ("placed:1", NEW)]
)
def test_killed_at_any_moment_it_is_the_old_file_or_the_new_one(
    program: Program, oak: Far, tmp_path: Path, moment: str, there: str
) -> None:
    file = oak.root / "model.cfg"
    file.write_text(OLD * 20_000)
    killed = program("edit", "oak:model.cfg", env={**editor(tmp_path), "DIES_AT": moment}, expect=-signal.SIGKILL)
    assert killed.stdout == "" and file.read_text() == there * 20_000
    # What a killed edit has left is found as other unfinished files are.
    left = [str(part) for part in oak.root.glob(".yatagan-*.part")]
    assert [each["path"] for each in program.json("parts", "list", "oak:")["parts"]] == sorted(left)
    for part in left:
        program("parts", "remove", f"oak:{part}", "--yes")
    assert not list(oak.root.glob(".yatagan-*.part"))


def test_an_editor_that_removes_the_copy(program: Program, oak: Far, tmp_path: Path) -> None:
    (oak.root / "model.cfg").write_text("depth 10")
    told = edit(program, "oak:model.cfg", editor(tmp_path, before='rm -- "$1"; exit 0'), expect=5).stderr
    assert "has removed the copy" in told and (oak.root / "model.cfg").read_text() == "depth 10"
