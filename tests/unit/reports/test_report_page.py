"""A report's figures and its page: numbers that agree with the ledger, figures that say what they show."""

from __future__ import annotations

import re
from importlib.resources import files
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from campaigns import three_months
from conftest import Program
from report_pages import Page, rows_of
from yatagan.batches.batch_store import Batches
from yatagan.batches.pace import PaceRow, thinned
from yatagan.batches.steps import Prove
from yatagan.cli.views.rate_view import rate_lines
from yatagan.ledger.ledger import Ledger
from yatagan.reports.drawings import figures_of
from yatagan.reports.figures import COLOURS, NAMES, DatasetLine, FigureSpec, as_file, draw
from yatagan.reports.gathering import Chosen, gather


@pytest.fixture(scope="module")
def campaign(tmp_path_factory: pytest.TempPathFactory) -> Program:
    """40 batches in three months."""
    base = tmp_path_factory.mktemp("campaign")
    patched = pytest.MonkeyPatch()
    patched.setattr("yatagan.ledger.ledger._now", dict)
    three_months(base / "home", base / "fen-flux", share=0.05)
    patched.undo()
    found = Program(base / "home", base / "fen-flux")
    found("node", "add", "heron", "127.0.0.1")
    return found


def test_numbers_agree_with_the_ledger(campaign: Program) -> None:
    campaign("report", "--project", "--output", "a/campaign.html", "--data", "numbers")
    records = campaign.json("ledger", "show")["records"]
    staged = {record["batch"]: record for record in records if record["kind"] == "staged"}
    moved = rows_of(campaign.directory / "numbers" / "moved.csv")
    assert {row["batch"]: (int(row["moved_bytes"]), int(row["moved_files"])) for row in moved} == {
        batch: (record["size_bytes"], record["counts"]["files"]) for batch, record in staged.items()
    }
    failures = rows_of(campaign.directory / "numbers" / "failures.csv")
    assert len(failures) == sum(record["counts"]["failed"] for record in staged.values()) == 6
    timeline = rows_of(campaign.directory / "numbers" / "timeline.csv")
    assert len(timeline) == len(records)
    page = Page(campaign.directory / "a" / "campaign.html")
    assert page.harmless and page.elements["figure"] == len(NAMES) and page.elements["svg"] == len(NAMES)
    assert "2 of 40 batches did not end well" in page.text and records[0]["digest"] in page.text
    assert all(failure["reason"] in page.text for failure in failures)
    assert len((campaign.directory / "a" / "campaign.html").read_bytes()) < 400_000
    # Of one dataset, and since a day, it is less.
    campaign("report", "--dataset", "notes", "--since", "2026-09-15", "--output", "notes.html", "--data", "less")
    some = rows_of(campaign.directory / "less" / "moved.csv")
    assert (
        some and {row["dataset"] for row in some} == {"notes"} and min(row["recorded_at"] for row in some) > "2026-09"
    )


def test_a_report_never_replaces_unseen(campaign: Program) -> None:
    report = "report", "--dataset", "notes", "--data", "once"
    campaign(*report)
    assert "it is there already" in campaign(*report, expect=2).stderr
    campaign(*report, "--replace")


def test_figures_alone(campaign: Program) -> None:
    begins = {"png": b"\x89PNG", "pdf": b"%PDF", "svg": b"<?xml"}
    campaign("report", "--project", "--figure", "rate.png")
    assert (campaign.directory / "rate.png").read_bytes().startswith(begins["png"])
    for form in ("svg", "pdf"):
        assert as_file(specs_of(campaign)[0], form).startswith(begins[form])
    assert "names no figure" in campaign("report", "--project", "--figure", "cake.png", expect=2).stderr


def specs_of(campaign: Program) -> list[FigureSpec]:
    """The figures of the campaign."""
    ledger = Ledger(campaign.directory / "ledger", campaign.home / "ledger-memory")
    found = gather(ledger, Batches(campaign.home / "batches"), lambda fault, detail: fault.value, Chosen())
    lines = [DatasetLine("notes", ((found.stagings[0].at, "staged"), (found.stagings[1].at, "trouble")), "1 newer")]
    return figures_of(found, lines, 8e7)


def test_no_figure_without_labels_and_a_caption(campaign: Program) -> None:
    specs = specs_of(campaign)
    assert {spec.name for spec in specs} == set(NAMES)
    for spec in specs:
        (axes,) = draw(spec).axes
        assert axes.get_xlabel() and axes.get_ylabel(), spec.name
        assert spec.caption.endswith(".") and len(spec.caption) > 30 and spec.rows, spec.name
        assert len(spec.head) == len(spec.rows[0]), spec.name


def _contrast(one: str, other: str) -> float:
    """As WCAG 2 has it."""

    def light(colour: str) -> float:
        parts = [int(colour[at : at + 2], 16) / 255 for at in (1, 3, 5)]
        red, green, blue = (part / 12.92 if part <= 0.04045 else ((part + 0.055) / 1.055) ** 2.4 for part in parts)
        return 0.2126 * red + 0.7152 * green + 0.0722 * blue

    brighter, darker = sorted((light(one), light(other)), reverse=True)
    return (brighter + 0.05) / (darker + 0.05)


def test_everything_can_be_read_in_the_light_and_in_the_dark() -> None:
    page = (files("yatagan.reports") / "page.html").read_text(encoding="utf-8")
    dark = dict(re.findall(r"--([a-z]+): (#[0-9a-f]{6});", page.split("prefers-color-scheme: dark")[1].split("}")[0]))
    assert set(dark) == {*COLOURS, "paper", "panel", "line"}
    for palette, grounds in ((COLOURS, ("#ffffff", "#f4f6f8")), (dark, (dark["paper"], dark["panel"]))):
        for name in set(COLOURS) - {"rule"}:
            for ground in grounds:
                assert _contrast(palette[name], ground) >= 4.5, (name, palette[name], ground)


rows = st.lists(
    st.builds(
        PaceRow, st.integers(1, 10**6), st.just(1), st.integers(0, 10**9), st.integers(0, 10**9), st.integers(0, 99)
    ),
    unique_by=lambda row: row.at,
    max_size=60,
).map(sorted)


@given(rows=rows, most=st.integers(1, 60), to=st.integers(1, 30))
def test_a_thinned_pace_says_the_same_in_less(rows: list[PaceRow], most: int, to: int) -> None:
    found = thinned(rows, most, min(most, to))
    assert len(found) <= most and found == sorted(found)
    for at in (2, 3, 4):
        assert sum(row[at] for row in found) == sum(row[at] for row in rows)
    assert all(any(row.at <= each.at < row.at + row.seconds for row in found) for each in rows)


@given(rows=rows, wide=st.integers(30, 200), plain=st.booleans())
def test_a_drawn_rate_fits(rows: list[PaceRow], wide: int, plain: bool) -> None:
    lines = rate_lines(rows, [], wide, plain=plain)
    assert (not rows) == (not lines)
    assert all(len(line) <= max(wide, 46) for line in lines) and (not plain or "".join(lines).isascii())


def test_a_pace_of_a_week_is_small(tmp_path: Path) -> None:
    from yatagan.batches.journal import Journal
    from yatagan.batches.journal_data import Header

    header = Header("261127-week", 0, ("stage",), "", "heron", b"/d", Prove.AUTO)
    made = Journal.create(tmp_path / "journal.db", header, [])
    before = (tmp_path / "journal.db").stat().st_size
    for start in range(0, 7 * 86_400, 5_000):
        made.apply([], [PaceRow(1_780_000_000 + start + at, 1, 10**9, 10**9, 9) for at in range(0, 5_000, 50)])
    made.close()
    rows_ = Journal.open(tmp_path / "journal.db").pace()
    assert (tmp_path / "journal.db").stat().st_size - before < 1_000_000
    assert sum(row.sent for row in rows_) == 121 * 100 * 10**9 and 1_000 < len(rows_) <= 6_000
