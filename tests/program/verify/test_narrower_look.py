"""A later verdict replaces an earlier one only where it looked, and only by evidence that is no weaker."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import Far, Program
from projects import PROJECT
from report_pages import Page


@pytest.fixture
def there(program: Program, oak: Far) -> Path:
    """A dataset that was staged, and of which two files were damaged there, their sizes and times as before."""
    (program.directory / "yatagan.toml").write_text(PROJECT.format(node=oak.name))
    (program.directory / "chambers").mkdir()
    for name in ("f1.dat", "f2.dat", "f3.dat"):
        (program.directory / "chambers" / name).write_text(name * 20)
    shutil.copytree(program.directory / "chambers", program.directory / "elsewhere")
    program("stage", "--dataset", "chambers")
    return oak.root / "fen" / "chambers"


def damage(file: Path) -> None:
    import os

    status = file.stat()
    file.write_bytes(file.read_bytes()[::-1])
    os.utime(file, ns=(status.st_atime_ns, status.st_mtime_ns))


def mend(program: Program, there: Path) -> None:
    shutil.copy2(program.directory / "elsewhere" / "f1.dat", there)
    program("verify", "--dataset", "chambers")


#: What is looked at after the damage was found, and whether all is well again after it.
LATER: dict[str, tuple[Callable[[Program, Path], object], bool]] = {
    "another file": (lambda p, there: p("verify", "--dataset", "chambers", "--only", "f2.dat"), False),
    "the other end": (lambda p, there: p("verify", "--dataset", "chambers", "--side", "here"), False),
    "size and time": (lambda p, there: p("verify", "--dataset", "chambers", "--by", "size-and-time"), False),
    "a stage that does not look": (lambda p, there: p("stage", "--dataset", "chambers"), False),
    "a proven carry": (lambda p, there: p("stage", "--dataset", "chambers", "--by", "digest"), True),
    "all of it again": (lambda p, there: mend(p, there), True),
}


@pytest.mark.parametrize("name", LATER)
def test_a_narrower_look_hides_nothing(name: str, program: Program, there: Path) -> None:
    damage(there / "f1.dat")
    program("verify", "--dataset", "chambers", expect=1)
    later, well = LATER[name]
    later(program, there)
    if name == "a proven carry":  # its time there was the damaged file's own
        program("verify", "--dataset", "chambers")
    shown = program("project", "show", expect=None)
    state = program.json("project", "show", expect=0 if well else 1)["datasets"][0]
    assert state["verified_good"] is well
    assert [each["path"] for each in state["not_good"]] == ([] if well else ["f1.dat"])
    assert (shown.returncode == 0) is well and ("f1.dat was not good" in shown.stdout + shown.stderr) is not well
    program("report", "--project", "--output", "page.html", "--data", "data", "--replace")
    page = Page(program.directory / "page.html")
    assert ("1 file was not good when last verified" in page.text) is not well
    assert ("all that was verified is as on record" in page.text.lower()) is well
    if "end" not in name:  # that is another place
        marks = (program.directory / "data" / "timeline.csv").read_text().splitlines()
        assert (marks[-1].split(",")[2] == "trouble") is not well
