"""The numbers behind the figures, and every failure, as CSV (RFC 4180): a file for each."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence

from yatagan.reports.figures import Cell, FigureSpec
from yatagan.reports.gathering import Gathered


def numbers_of(found: Gathered, figures: Sequence[FigureSpec]) -> dict[str, str]:
    """The text of every file, by its name."""
    made = {f"{spec.name}.csv": _csv(spec.head, spec.rows) for spec in figures}
    rows = [(each.batch, each.path, each.reason) for each in found.failures]
    made["failures.csv"] = _csv(("batch", "path", "reason"), rows)
    slow = [(each.batch, each.path, each.size, round(each.seconds, 3)) for each in found.slowest]
    made["slowest.csv"] = _csv(("batch", "path", "size_bytes", "seconds"), slow)
    return made


def _csv(head: Sequence[str], rows: Sequence[Sequence[Cell]]) -> str:
    text = io.StringIO()
    writer = csv.writer(text)
    writer.writerow(head)
    writer.writerows([_plain(cell) for cell in row] for row in rows)
    return text.getvalue()


def _plain(cell: Cell) -> Cell:
    """A cell that no spreadsheet takes for a formula."""
    risky = isinstance(cell, str) and cell.startswith(("=", "+", "-", "@", "\t", "\r"))
    return f"'{cell}" if risky else cell
