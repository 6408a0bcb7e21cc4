"""Comparing by contents: what is the same is not sent, whatever its times say, and what is remembered is not read."""

from __future__ import annotations

import os
import sqlite3
import time

import pytest

from conftest import Far, Practice, Program
from yatagan.trees.remembered_digests import RememberedDigests


@pytest.mark.kept("openssh")
def test_contents_decide_where_they_are_asked_for(program: Program, far: Far) -> None:
    fen = program.directory / "fen"
    (fen / "hollow").mkdir(parents=True)
    for number in range(6):
        (fen / "hollow" / f"{number}.csv").write_bytes(b"ch4,%d\n" % number)
    (fen / "long.bin").write_bytes(os.urandom(3 << 20))
    os.utime(fen / "long.bin", (900_000_000, 900_000_000))
    program("stage", "fen", f"{far.name}:")

    os.utime(fen / "long.bin", (1_000_000_000, 1_000_000_000))  # the same contents at another time
    hidden = far.root / "fen" / "hollow" / "3.csv"  # other contents at the same time
    status = hidden.stat()
    hidden.write_bytes(b"ch4,X\n")
    os.utime(hidden, ns=(status.st_atime_ns, status.st_mtime_ns))
    time.sleep(2.1)  # what is newer is not remembered

    by_time = program.json("stage", "fen", f"{far.name}:", "--plan-only")["plan"]
    assert (by_time["left_as_is"], by_time["files"]) == (6, 1)
    shown = program("stage", "fen", f"{far.name}:", "--by", "digest", "--plan-only").stdout
    assert "6 files, 3.15 MB, already there by digest" in " ".join(shown.split())
    plan = program.json("stage", "fen", f"{far.name}:", "--by", "digest", "--plan-only")["plan"]
    assert (plan["left_as_is"], plan["left_by_digest"], plan["replace"], plan["size_bytes"]) == (6, 6, 1, 6)
    assert plan["left_by_digest_remembered"] == 6

    (fen / "long.bin").write_bytes(bytes(3 << 20))
    os.utime(fen / "long.bin", (1_000_000_001, 1_000_000_001))
    done = program.json("stage", "fen", f"{far.name}:", "--by", "digest")
    assert done["plan"]["replace"] == 2 and done["plan"]["left_by_digest_remembered"] == 5
    assert done["batch"]["good"] and (far.root / "fen" / "long.bin").read_bytes() == bytes(3 << 20)
    assert hidden.read_bytes() == b"ch4,3\n"
    again = program("stage", "fen", f"{far.name}:", "--by", "digest").stdout
    assert "Nothing to move" in again and "already there by digest" in again


def test_without_commands_contents_are_read_over_the_line(program: Program, practice: Practice) -> None:
    """And nothing is remembered of them: there is neither an inode nor a change time to know them by."""
    practice.wrong("heron", sessions="1")  # which leaves none for commands
    far = practice.far()
    program.know(far)
    (program.directory / "fen").mkdir()
    for number in range(8):
        (program.directory / "fen" / f"{number}.csv").write_bytes(b"ch4,%d\n" % number)
    program("stage", "fen", f"{far.name}:")
    os.utime(program.directory / "fen" / "3.csv", (1_000_000_000, 1_000_000_000))
    (far.root / "fen" / "5.csv").write_bytes(b"ch4,x\n")
    time.sleep(2.1)
    for _ in range(2):
        plan = program.json("stage", "fen", f"{far.name}:", "--by", "digest", "--plan-only", expect=1)["plan"]
        assert (plan["left_by_digest"], plan["newer_there"]) == (7, 1)
    remembered = RememberedDigests(program.home / "digests.db")
    paths = [os.fsencode(far.root / "fen" / f"{number}.csv") for number in range(8)]
    assert remembered.recall(far.name, "sha256", paths) == {}
    remembered.close()


@pytest.mark.parametrize("wrong", ["damaged", "no file", "locked"])
def test_without_a_memory_nothing_is_lost(program: Program, wrong: str) -> None:
    (program.directory / "fen").mkdir()
    (program.directory / "fen" / "flux.csv").write_bytes(b"ch4\n")
    file = program.home / "digests.db"
    holder = None
    if wrong == "damaged":
        file.write_bytes(b"no such thing" * 1000)
    elif wrong == "no file":
        file.mkdir()
    else:
        RememberedDigests(file).close()
        holder = sqlite3.connect(file)
        holder.execute("BEGIN EXCLUSIVE")
    for left in (0, 1):
        plan = program.json("stage", "fen", "copy", "--by", "digest")["plan"]
        assert plan["left_as_is"] == left
    if holder is not None:
        holder.close()
    elif wrong == "damaged":
        assert file.read_bytes().startswith(b"SQLite")
