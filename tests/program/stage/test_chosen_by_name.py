"""Choosing by name: what patterns match, and what is listed, staged, checked and removed because of them."""

from __future__ import annotations

import os

import pytest

from conftest import Far, Program, snapshot

pytestmark = pytest.mark.kept("practice", "openssh")


@pytest.mark.parametrize("pattern", ["", "/", ".", "..", "a/../b", "[z-a]"])
def test_what_is_no_pattern(program: Program, pattern: str) -> None:
    done = program("list", ".", "--only", pattern, expect=2)
    assert "is no pattern" in done.stderr


@pytest.fixture
def runs(program: Program, far: Far) -> Far:
    """Three runs on the node, each with a table, a log and something temporary."""
    for run in ("2025-12", "2026-01", "2026-02"):
        directory = far.root / "runs" / run
        (directory / "cache").mkdir(parents=True)
        for name in ("flux.csv", "model.log", "half.tmp", "cache/x.csv"):
            (directory / name).write_text(f"{run} {name}")
            os.utime(directory / name, (1_500_000_000, 1_500_000_000))
    (far.root / "runs" / "[1]*.csv").write_text("an odd name")
    return far


def test_patterns_in_places(program: Program, runs: Far) -> None:
    at = f"{runs.name}:runs"
    found = [entry["path"] for entry in program.json("list", f"{at}/2026-*/*.csv")["entries"]]
    assert found == ["2026-01/flux.csv", "2026-02/flux.csv"]
    assert "x.csv" in program("list", f"{at}/2026-*", "--recursive", "--only", "*.csv").stdout
    program("stage", f"{at}/2026-*/", "back")
    assert sorted(os.listdir(program.directory / "back")) == ["2026-01", "2026-02"]
    assert "same name" in program("stage", f"{at}/2026-*/flux.csv", "back", expect=2).stderr
    assert "2 sources one name" in program("stage", f"{at}/2026-*", "back", "--as", "x", expect=2).stderr
    named = program("stage", f"{at}/2026-*/flux.csv", "back", "--as", "{stem}-{parent}{suffix}").stdout
    assert "flux.csv → flux-2026-01.csv, flux.csv → flux-2026-02.csv" in named
    assert (program.directory / "back" / "flux-2026-02.csv").read_text() == "2026-02 flux.csv"
    program("stage", f"{at}/2025-*/flux.csv", "back", "--as", "flux-2025.csv")
    assert (program.directory / "back" / "flux-2025.csv").read_text() == "2025-12 flux.csv"
    program("stage", f"{at}/[1]*.csv", "back")  # a file really has this name
    assert (program.directory / "back" / "[1]*.csv").read_text() == "an odd name"
    assert "nothing there has such a name" in program("list", f"{at}/1999-*", expect=2).stderr
    assert "cannot be read" in program("list", f"{at}/*/../x", expect=2).stderr
    gone = program("remove", f"{at}/2026-*/*.tmp", "--yes").stdout
    assert "removed 2 of 2" in gone and (runs.root / "runs/2025-12/half.tmp").exists()


def test_only_and_skip(program: Program, runs: Far) -> None:
    place = f"{runs.name}:runs"
    choice = ("--only", "*.csv", "--only", "*.log", "--skip", "cache", "--skip", "[[]*")
    shown = program("stage", place, "back", *choice).stdout
    assert "skipped" in shown and "6 files" in " ".join(shown.split())
    arrived = snapshot(program.directory / "back" / "runs")
    files = sorted(path.decode() for path, facts in arrived.items() if facts[0] == "file")
    assert files == sorted(
        f"{run}/{name}" for run in ("2025-12", "2026-01", "2026-02") for name in ("flux.csv", "model.log")
    )
    assert b"2026-01/cache" not in arrived
    again = program.json("stage", place, "back", *choice)["plan"]
    assert again["files"] == 0 and again["left_as_is"] == 6 and again["skipped"] == 7
    said = program("stage", place, "other", "--only", "*.nothing", expect=1).stdout
    assert "Nothing moved: *.nothing matches nothing" in said
    assert "3 directories" in program("list", place, "--skip", "*.csv").stdout


def test_checking_by_choice(program: Program, runs: Far) -> None:
    place = f"{runs.name}:runs"
    program("checksums", place, "--output", "runs.sums", "--only", "2026-01", "--skip", "*.tmp")
    listed = [line.split()[-1] for line in (program.directory / "runs.sums").read_text().splitlines()]
    assert listed == ["2026-01/cache/x.csv", "2026-01/flux.csv", "2026-01/model.log"]
    record = program.json("ledger", "show")["records"][0]
    assert (record["only"], record["skip"], record["counts"]["files"]) == (["2026-01"], ["*.tmp"], 3)
    against = ("verify", place, "--against", "runs.sums")
    (runs.root / "runs/2026-01/model.log").unlink()
    assert program.json(*against, expect=1)["counts"]["missing"] == 1
    assert program.json(*against, "--skip", "*.log", "--skip", "2025-*", "--skip", "2026-02")["good"]
    assert program.json(*against, "--only", "*.log", expect=1)["counts"]["missing"] == 1
    assert "choose nothing" in program(*against, "--only", "*.nothing", expect=2).stderr
