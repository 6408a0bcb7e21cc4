"""`yatagan report`: numbers that agree with the ledger, figures that say what they show, a page without harm."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

from conftest import Far, Program
from report_pages import Page, rows_of

#: Names as somebody may give them: markup, control characters, a mark that turns the text around, a formula.
EVIL = (
    "<script>alert(1)<∕script>.csv",
    "a\u202eb\x1b[31m.csv",
    "'\"><img src=x onerror=y>",
    "=1+1\n.csv",
    "{{ 7*7 }}",
)


def test_names_do_no_harm(program: Program, oak: Far) -> None:
    (program.directory / "fen").mkdir()
    (program.directory / "fen" / "good.csv").write_text("1\n")
    for name in EVIL:
        (program.directory / "fen" / name).write_text("x\n")
        (oak.root / "fen" / name).mkdir(parents=True)  # something else has its name
    program("stage", "fen", "oak:", expect=1)
    program("report", program.json("batch", "list")["batches"][0]["batch"], "--output", "page.html", "--data", "data")
    page = Page(program.directory / "page.html")
    assert page.harmless and page.elements["img"] == 0
    assert not re.search(r"[\x00-\x08\x0b-\x1f\x7f-\x9f\u202a-\u202e\u2066-\u2069]", page.text)
    assert (
        "<script>alert(1)" in page.text
        and "{{ 7*7 }}" in page.text
        and "49" not in page.text.split("{{ 7*7 }}")[0][-3:]
    )
    assert "did not end well" in page.text
    failures = rows_of(program.directory / "data" / "failures.csv")
    assert len(failures) == len(EVIL) and not any(value.startswith("=") for row in failures for value in row.values())


def test_about_nothing_it_says_so(program: Program) -> None:
    assert "nothing is on record of it" in program("report", "--output", "nothing.html").stdout
    page = Page(program.directory / "nothing.html")
    assert "There is nothing to report" in page.text and page.harmless and page.elements["figure"] == 0
    assert "no numbers for this figure" in program("report", "--figure", "rate.svg", expect=2).stderr


def test_without_its_libraries_it_says_what_to_install(
    program: Program, tmp_path: Path, oak: Far, monkeypatch: pytest.MonkeyPatch
) -> None:
    for name in ("matplotlib", "jinja2"):
        (tmp_path / "site" / name).mkdir(parents=True)
        error = f"raise ModuleNotFoundError('No module named {name}', name={name!r})\n"
        (tmp_path / "site" / name / "__init__.py").write_text(error)
    (program.directory / "fen").mkdir()
    (program.directory / "fen" / "flux.bin").write_bytes(bytes(9_000_000))
    program("stage", "fen", "oak:", "--max-rate", "4MB/s")
    monkeypatch.setenv("PYTHONPATH", str(tmp_path / "site"))
    done = program("report", "--output", "page.html", expect=5)
    assert "pip install 'yatagan[report]'" in done.stderr
    monkeypatch.undo()
    assert not (program.directory / "page.html").exists()
    drawn = program("batch", "show", "--rate-over-time").stdout
    assert "MB/s" in drawn and "over the connection" in drawn
    answer = program.json("batch", "show", "--rate-over-time")
    assert sum(row["sent_bytes"] for row in answer["pace"]) >= 9_000_000 and answer["lost"] == []
    assert sum(row["placed_bytes"] for row in answer["pace"]) == 9_000_000
