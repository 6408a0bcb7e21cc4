"""Comparing by contents: what is the same is not sent, whatever its times say, and what is remembered is not read."""

from __future__ import annotations

import os
import sqlite3
import time
from pathlib import Path

import pytest

from conftest import Far, Program
from yatagan.stores.interface import Facts, Kind
from yatagan.trees.memory import Memory


@pytest.mark.kept("openssh")
def test_contents_decide_where_they_are_asked_for(program: Program, far: Far) -> None:
    fen = program.directory / "fen"
    (fen / "hollow").mkdir(parents=True)
    for number in range(6):
        (fen / "hollow" / f"{number}.csv").write_bytes(b"ch4,%d\n" % number)
    (fen / "long.bin").write_bytes(os.urandom(3 << 20))
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
    assert (plan["left_as_is"], plan["left_by_digest"], plan["replace"], plan["bytes"]) == (6, 6, 1, 6)
    assert plan["left_by_digest_remembered"] == 6

    (fen / "long.bin").write_bytes(bytes(3 << 20))
    os.utime(fen / "long.bin", (1_000_000_000, 1_000_000_000))
    done = program.json("stage", "fen", f"{far.name}:", "--by", "digest")
    assert done["plan"]["replace"] == 2 and done["plan"]["left_by_digest_remembered"] == 5
    assert done["batch"]["good"] and (far.root / "fen" / "long.bin").read_bytes() == bytes(3 << 20)
    assert hidden.read_bytes() == b"ch4,3\n"
    again = program("stage", "fen", f"{far.name}:", "--by", "digest").stdout
    assert "Nothing to move" in again and "already there by digest" in again


def test_what_is_remembered_is_told_apart_by_every_fact(tmp_path: Path) -> None:
    file = tmp_path / "deep" / "digests.db"
    facts = Facts(Kind.FILE, 7, -5, 0o640, 1_700_000_000_123_456_789, (1 << 64) - 1)
    memory = Memory(file)
    memory.keep("heron", "sha256", [(b"/fen/\xff", facts, "ab" * 32)])
    memory.close()
    memory = Memory(file)
    assert memory.recall("heron", "sha256", [b"/fen/\xff", b"/fen"]) == {b"/fen/\xff": (facts, "ab" * 32)}
    for store, algorithm in (("", "sha256"), ("dunlin", "sha256"), ("heron", "md5")):
        assert memory.recall(store, algorithm, [b"/fen/\xff"]) == {}
    memory.close()


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
        Memory(file).close()
        holder = sqlite3.connect(file)
        holder.execute("BEGIN EXCLUSIVE")
    for left in (0, 1):
        plan = program.json("stage", "fen", "copy", "--by", "digest")["plan"]
        assert plan["left_as_is"] == left
    if holder is not None:
        holder.close()
    elif wrong == "damaged":
        assert file.read_bytes().startswith(b"SQLite")
