"""What a pattern matches."""

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


@pytest.mark.parametrize(("pattern", "matched", "others"), MATCHES, ids=lambda value: str(value))
def test_what_a_pattern_matches(pattern: str, matched: list[str], others: list[str]) -> None:
    compiled = compile_pattern(pattern.encode())
    assert [path for path in matched + others if compiled.fullmatch(path.encode())] == matched


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


@given(st.lists(st.sampled_from(["*.csv", "a", "b/*", "nothing", "**/deep"]), max_size=4), st.data())
def test_patterns_that_match_nothing_are_named(only: list[str], data: st.DataObject) -> None:
    paths = data.draw(st.lists(st.sampled_from([b"a", b"x.csv", b"b", b"b/c", b"b/deep", b"b/x.csv"]), unique=True))
    choice = Choice([each.encode() for each in only])
    alone = [each.encode() for each in dict.fromkeys(only) if not any(map(Choice([each.encode()]).chooses, paths))]
    assert choice.unmatched(paths) == alone
