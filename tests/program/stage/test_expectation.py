"""How long a plan says that it takes; what is said of it in the end; and journals that know nothing of it."""

from __future__ import annotations

import sqlite3
from pathlib import Path

import pytest

from conftest import Far, Program


def test_the_plan_says_how_long_and_the_summary_compares(program: Program, far: Far) -> None:
    fen = program.directory / "fen"
    fen.mkdir()
    (fen / "raw.bin").write_bytes(bytes(range(256)) * 40_000)
    plan = program("stage", "fen", f"{far.name}:", "--max-rate", "10MB/s", "--plan-only").stdout
    assert "takes" in plan and "about 1 s" in plan
    done = program("stage", "fen", f"{far.name}:", "--max-rate", "10MB/s").stdout
    assert "; the plan said about 1 s" in done
    assert program.json("batch", "show")["expected_seconds"] > 0.9
    again = program.json("stage", "fen", f"{far.name}:again", "--plan-only")["plan"]
    assert 0 < again["expected_seconds"] < 60


def test_a_batch_that_was_cut_off_is_no_measure(program: Program) -> None:
    """What was slow is expected to be slow again; an hour without a line is not."""
    (program.directory / "a").write_text("a")
    batch = program.json("stage", "a", "there")["batch"]["batch"]

    def expected() -> float:
        return float(program.json("stage", "a", "elsewhere", "--plan-only")["plan"]["expected_seconds"])

    with sqlite3.connect(Path(program.home, "batches", batch, "journal.db")) as journal:
        journal.execute("UPDATE batch SET seconds = 3600")
    slow = expected()
    with sqlite3.connect(Path(program.home, "batches", batch, "journal.db")) as journal:
        journal.execute("INSERT OR REPLACE INTO session VALUES (77, '')")
    assert expected() < slow / 10


@pytest.mark.parametrize("version", [9, 10, 11, 12])
def test_a_journal_of_an_older_version_is_read(version: int, program: Program) -> None:
    (program.directory / "a").write_text("a")
    batch = program.json("stage", "a", "there")["batch"]["batch"]
    file = Path(program.home, "batches", batch, "journal.db")
    with sqlite3.connect(file) as older:
        later = [("batch", "purpose")] if version < 12 else []
        later += [("batch", "looked_ns"), ("step", "setting")]
        later += [("step", "beginning"), ("step", "continues")] if version < 11 else []
        later += [("batch", "expected"), ("batch", "modelled")] if version < 10 else []
        if version < 12:
            older.executescript("DROP TABLE pace; DROP TABLE slowest; DROP TABLE gone;")
        if version < 11:
            older.execute("DROP INDEX step_growing")
        for table, column in later:
            older.execute(f"ALTER TABLE {table} DROP COLUMN {column}")
        older.execute(f"PRAGMA user_version = {version}")
    shown = program.json("batch", "show", batch)
    assert shown["good"] and (shown["expected_seconds"] is None) == (version < 10)
    program("batch", "resume", batch)


def test_a_destination_that_looks_like_a_new_name(program: Program, far: Far) -> None:
    (program.directory / "flux 07.log").write_text("ch4")
    place = f"{far.name}:campaign/new.log"
    plan = program("stage", "flux 07.log", place, "--plan-only").stdout
    assert "new.log will be a directory" in plan
    command = f"yatagan stage 'flux 07.log' {far.name}:campaign --as new.log"
    assert command in " ".join(plan.split())
    assert "will be a directory" not in program("stage", "flux 07.log", f"{far.name}:campaign", "--plan-only").stdout
    program("stage", "flux 07.log", f"{far.name}:campaign", "--as", "new.log")
    assert (far.root / "campaign" / "new.log").read_text() == "ch4"
