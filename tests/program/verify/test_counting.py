"""Every command says the same of how many files, directories and links are in one tree: as many as a walk finds."""

from __future__ import annotations

import os
import re
from pathlib import Path
from typing import NamedTuple

import pytest

from conftest import Far, Program


class Counts(NamedTuple):
    """What is in a tree, its root included."""

    files: int
    directories: int
    links: int


def found(root: Path) -> Counts:
    """What a walk finds, independent of the program."""
    files = directories = links = 0
    for above, inside, names in os.walk(root):
        directories += 1
        each = [Path(above) / name for name in inside + names]
        links += sum(path.is_symlink() for path in each)
        files += sum(path.is_file() and not path.is_symlink() for path in each)
    return Counts(files, directories, links)


def said(text: str) -> Counts:
    """The counts of a line such as `3 files, 22 B; 6 new directories, 1 more above; 2 links`."""

    def many(noun: str) -> int:
        number = re.search(rf"\b(\d+) (?:new )?(?:{noun})\b", text)
        return int(number[1]) if number else 0

    return Counts(many("files?"), many("directory|directories"), many("links?"))


@pytest.fixture
def fen(program: Program) -> Path:
    fen = program.directory / "fen"
    for name in ("plot-01/raw/day", "plot-02", "empty", "notes"):
        (fen / name).mkdir(parents=True)
    for name in ("plot-01/raw/day/a.csv", "plot-02/b.csv", "notes/week.txt"):
        (fen / name).write_text(name)
    (fen / "latest").symlink_to("plot-02")
    (fen / "notes" / "gone").symlink_to("nowhere")
    return fen


def rows(text: str, *starts: str) -> str:
    """The rows of an answer that begin so."""
    return " ".join(row.strip() for row in text.splitlines() if row.strip().startswith(starts))


#: What is asked of the tree `fen`, which is at {place}/fen, too; and the rows in which its counts are said.
ASKED: list[tuple[str, tuple[str, ...]]] = [
    ("verify fen --against list", ("same",)),
    ("compare fen {place}/fen", ("here",)),
    ("compare fen {place}/fen --by digest", ("there",)),
    ("list {place} --recursive", ("3 files",)),
    ("stage fen {node}:new/one --plan-only", ("carry",)),
    ("stage fen {node}:new/one", ("in place", "and ")),
    ("bundle make fen --output fen.tar", ("before",)),
    ("bundle list fen.tar", ("3 files",)),
    ("remove {node}:new/one/fen --yes", ("oak:", "heron:")),
]


def test_every_command_counts_alike(program: Program, far: Far, fen: Path) -> None:
    counts = found(fen)
    assert counts == (3, 7, 2)
    program("stage", "fen", f"{far.name}:up")
    program("checksums", "fen", "--output", "list")
    for words, starts in ASKED:
        asked = words.format(node=far.name, place=f"{far.name}:up").split()
        answer, expected = program(*asked).stdout, counts
        if words.startswith("bundle"):
            expected = Counts(counts.files, counts.directories + counts.links, 0)  # `9 directories and links`
        assert said(rows(answer, *starts)) == expected, f"{words}\n{answer}"
        if words.startswith("stage"):
            assert "2 more above" in answer
