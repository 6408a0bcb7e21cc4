"""The figures of a report: what people compare, drawn from the same numbers that are written as CSV.

Drawn with Matplotlib, in the colours of a light page. For the page itself every colour is one of `COLOURS`, so that it
can be replaced by a variable of the page's style, which has other values where the reader prefers dark.
"""

from __future__ import annotations

import io
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

#: The colours of the figures on a light page, by what they are for. All have a contrast of 4.5 and more on white.
COLOURS = {
    "ink": "#1b1f24",
    "muted": "#57606a",
    "rule": "#c9d1d9",
    "moved": "#0b5cad",
    "there": "#5f6871",
    "good": "#1a7f38",
    "warning": "#9a5201",
    "trouble": "#b3261f",
}
#: Inches of a figure, and of one more row where it has rows.
WIDE, HIGH, ROW = 7.6, 2.9, 0.3
#: The most rows that are drawn.
MOST_ROWS = 12

#: How legends look.
LEGEND: dict[str, object] = {"frameon": False, "fontsize": 8.5, "labelcolor": COLOURS["ink"], "handlelength": 1.8}

#: A cell of CSV.
Cell = str | int | float | None


@dataclass(frozen=True, slots=True)
class FigureSpec:
    """One figure: its name, its title, what to see in it, how to draw it, and the numbers behind it."""

    name: str
    title: str
    caption: str
    height: float
    draw: Callable[[Axes], None]
    head: tuple[str, ...]
    rows: Sequence[Sequence[Cell]]


@dataclass(frozen=True, slots=True)
class DatasetLine:
    """A dataset along time. `marks`: when (RFC 3339), and `staged`, `verified` or `trouble`; `changed`: since then."""

    name: str
    marks: tuple[tuple[str, str], ...]
    changed: str | None = None


NAMES = ("rate", "moved", "bundling", "duration", "sizes", "timeline")


def draw(spec: FigureSpec) -> Figure:
    """A figure, drawn."""
    from matplotlib.figure import Figure as Drawn

    figure = Drawn(figsize=(WIDE, spec.height), layout="constrained")
    axes = figure.add_subplot()
    axes.spines[["top", "right"]].set_visible(False)
    axes.spines[["left", "bottom"]].set_color(COLOURS["rule"])
    axes.tick_params(colors=COLOURS["muted"], labelcolor=COLOURS["ink"], labelsize=9)
    axes.xaxis.label.set_color(COLOURS["ink"])
    axes.yaxis.label.set_color(COLOURS["ink"])
    spec.draw(axes)
    for text in axes.texts:
        text.set_fontsize(8.5)
        if text.get_color() == "black":
            text.set_color(COLOURS["ink"])
    return figure


def as_file(spec: FigureSpec, form: str) -> bytes:
    """A figure as `png`, `svg` or `pdf`."""
    data = io.BytesIO()
    dates = {"png": {"Software": None}, "svg": {"Date": None}, "pdf": {"CreationDate": None}}
    draw(spec).savefig(data, format=form, dpi=160, facecolor="white", metadata=dates[form])
    return data.getvalue()


def as_page_svg(spec: FigureSpec) -> str:
    """A figure as an SVG element of a page, in the page's colours and font."""
    import matplotlib

    data = io.BytesIO()
    with matplotlib.rc_context({"svg.fonttype": "none", "svg.hashsalt": spec.name, "font.family": "sans-serif"}):
        draw(spec).savefig(data, format="svg", transparent=True, metadata={"Date": None, "Creator": None})
    text = data.getvalue().decode("utf-8")
    text = text[text.index("<svg") :]
    text = re.sub(r"<metadata>.*?</metadata>", "", text, flags=re.DOTALL)
    for name, colour in COLOURS.items():
        text = text.replace(colour, f"var(--{name})")
    # What is referred to in a page must have a name of its own.
    text = re.sub(r'\bid="', f'id="{spec.name}-', text)
    text = re.sub(r'(xlink:href="#|url\(#)', rf"\g<1>{spec.name}-", text)
    text = re.sub(r"font: ?([\d.]+)px [^;\"]*", r"font: \1px sans-serif", text)
    label = f'<svg role="img" aria-label="{spec.title}" '
    return text.replace("<svg ", label, 1)
