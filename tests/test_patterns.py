"""Choosing by name: what patterns match, and what is listed, staged, checked and removed because of them."""

from __future__ import annotations

import asyncio
import fnmatch
import os
import posixpath
import tempfile
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import Far, Program, snapshot
from yatagan.stores.interface import Kind
from yatagan.stores.local import LocalStore
from yatagan.trees.patterns import Choice, compile_pattern
from yatagan.trees.scan import scan

MATCHES = [
    ("*.csv", ["a.csv", "x/a.csv", "x/y/.csv"], ["a.csvx", "a.csv/b", "csv"]),
    ("x/*.csv", ["x/a.csv"], ["a.csv", "x/y/a.csv", "z/x/a.csv"]),
    ("/a", ["a"], ["x/a"]),
    ("x/", ["x", "y/x"], ["xx"]),
    ("x/**", ["x/a", "x/y/a"], ["x", "a"]),
    ("x/**/a", ["x/a", "x/y/a", "x/y/z/a"], ["a", "x/ya"]),
    ("**/y", ["y", "x/y", "x/z/y"], ["xy"]),
    ("?", ["a", "x/b"], ["ab"]),
    ("[a-c]1", ["a1", "x/c1"], ["d1", "-1"]),
    ("[!a]1", ["b1", "-1"], ["a1", "x/a1"]),
    ("[]a]", ["]", "a"], ["b", "[]a]"]),
    ("[", ["["], ["a"]),
    ("a?b", ["a\nb", "a b"], ["a/b", "ab"]),
    ("./x/./a", ["x/a"], ["a"]),
]

pytestmark = pytest.mark.kept("practice", "openssh")


@pytest.mark.parametrize(("pattern", "matched", "others"), MATCHES, ids=lambda value: str(value))
def test_what_a_pattern_matches(pattern: str, matched: list[str], others: list[str]) -> None:
    compiled = compile_pattern(pattern.encode())
    assert [path for path in matched + others if compiled.fullmatch(path.encode())] == matched


@pytest.mark.parametrize("pattern", ["", "/", ".", "..", "a/../b", "[z-a]"])
def test_what_is_no_pattern(program: Program, pattern: str) -> None:
    done = program("list", ".", "--only", pattern, expect=2)
    assert "is no pattern" in done.stderr


@given(st.text("ab[]!-*?.^\\", min_size=1, max_size=8), st.text("ab[]!-.^\\", min_size=1, max_size=6))
def test_one_name_as_the_standard_library_sees_it(pattern: str, name: str) -> None:
    if pattern in (".", "..") or (pattern.strip("*") == "" and len(pattern) > 1):
        return  # no names, and `**`, which is ours
    try:
        compiled = compile_pattern(pattern.encode())
    except ValueError:
        return  # a range that is none
    assert bool(compiled.fullmatch(name.encode())) == fnmatch.fnmatchcase(name, pattern)


PATHS = st.sets(
    st.lists(st.sampled_from(["a", "b", "c.csv", "d.tmp"]), min_size=1, max_size=3).map("/".join), min_size=1
)
PATTERNS = st.lists(
    st.sampled_from(["a", "*.csv", "*.tmp", "a/b", "a/*", "b/**", "**/c.csv", "/d.tmp", "?", "nothing"]), max_size=2
)


@given(paths=PATHS, only=PATTERNS, skip=PATTERNS)
def test_a_scan_finds_what_is_chosen(paths: set[str], only: list[str], skip: list[str]) -> None:
    choice = Choice([pattern.encode() for pattern in only], [pattern.encode() for pattern in skip])
    with tempfile.TemporaryDirectory() as directory:
        root = Path(directory)
        for path in sorted(paths):
            if any((root / above).is_file() for above in _above(path)) or (root / path).is_dir():
                continue
            (root / path).parent.mkdir(parents=True, exist_ok=True)
            (root / path).touch()
        everything = asyncio.run(scan(LocalStore(b"/"), os.fsencode(root)))
        chosen = asyncio.run(scan(LocalStore(b"/"), os.fsencode(root), choice=choice))
    wanted = {path for path in everything.entries if choice.chooses(path)}
    assert {path for path, facts in chosen.entries.items() if facts.kind is Kind.FILE} == {
        path for path in wanted if everything.entries[path].kind is Kind.FILE
    }
    # Directories come because they are chosen, or because something below them is.
    needed = wanted | {above.encode() for path in wanted for above in _above(path.decode())} | {b""}
    assert set(chosen.entries) == needed
    assert bool(chosen.skipped) >= (len(chosen.files()) < len(everything.files()))


def _above(path: str) -> list[str]:
    found = []
    while path := posixpath.dirname(path):
        found.append(path)
    return found


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


@given(st.lists(st.sampled_from(["*.csv", "a", "b/*", "nothing", "**/deep"]), max_size=4), st.data())
def test_patterns_that_match_nothing_are_named(only: list[str], data: st.DataObject) -> None:
    paths = data.draw(st.lists(st.sampled_from([b"a", b"x.csv", b"b", b"b/c", b"b/deep", b"b/x.csv"]), unique=True))
    choice = Choice([each.encode() for each in only])
    alone = [each.encode() for each in dict.fromkeys(only) if not any(map(Choice([each.encode()]).chooses, paths))]
    assert choice.unmatched(paths) == alone
