"""What each figure of a report shows: its numbers, its lines and bars, and what to see in it."""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any

from yatagan.batches.pace import PaceRow, thinned
from yatagan.reports.figures import COLOURS, HIGH, LEGEND, MOST_ROWS, ROW, DatasetLine, FigureSpec
from yatagan.reports.gathering import Bundled, Gathered, Staging
from yatagan.spelling import count, duration, size

if TYPE_CHECKING:
    from matplotlib.axes import Axes


def figures_of(found: Gathered, datasets: Sequence[DatasetLine], best_rate: float | None) -> list[FigureSpec]:
    """The figures that there are numbers for, in the page's order. `best_rate`: of the connection, bytes a second."""
    made = [
        _timeline(datasets),
        _rate(found.stagings, best_rate),
        _moved(found.stagings),
        _bundling([each for staging in found.stagings for each in staging.bundled] + found.bundled),
        _duration(found.stagings),
        _sizes(found),
    ]
    return [figure for figure in made if figure is not None]


def _when(text: str) -> datetime:
    return datetime.fromisoformat(text).astimezone(UTC)


#: Steps of a line that can be told apart.
_DRAWN = 150


def _days(text: str) -> float:
    """A time in days since the epoch, as Matplotlib has it."""
    return _when(text).timestamp() / 86400


def _longest(stagings: Sequence[Staging]) -> Staging | None:
    """The batch whose rate is drawn: the one that moved longest, of those of which it is known."""
    known = [each for each in stagings if len(each.pace) > 1]
    return max(known, key=lambda each: (each.seconds or 0.0, each.at), default=None)


def _rate(stagings: Sequence[Staging], best: float | None) -> FigureSpec | None:
    staging = _longest(stagings)
    if staging is None:
        return None
    rows, began = staging.pace, staging.pace[0].at
    span = rows[-1].at + rows[-1].seconds - began
    unit, per = (60.0, "min") if span > 600 else (1.0, "s")
    if span > 4 * 3600:
        unit, per = 3600.0, "h"
    fastest = max(row.sent / row.seconds for row in rows)
    if best is not None and best < fastest:
        best = None  # measured when there was too little to measure by
    scale, name = _scale(max([row.sent / row.seconds for row in rows] + [row.placed / row.seconds for row in rows]))

    def draw(axes: Axes) -> None:
        shown = thinned(rows, _DRAWN, _DRAWN)
        for key, what, style in (("sent", "over the connection", "-"), ("placed", "proven and in place", "--")):
            xs, ys = _steps([(row, getattr(row, key)) for row in shown], began, unit, scale)
            colour = COLOURS["moved"] if key == "sent" else COLOURS["good"]
            axes.plot(xs, ys, style, color=colour, linewidth=1.4, label=what)
        if best:
            axes.axhline(best / scale, color=COLOURS["muted"], linewidth=1, linestyle=":", label="fastest so far")
        lost = [_when(at).timestamp() for at, what in staging.marks if what == "lost"]
        for number, at in enumerate(lost):
            label = "connection lost, tried again" if number == 0 else None
            axes.axvline((at - began) / unit, color=COLOURS["trouble"], linewidth=1.2, linestyle="-.", label=label)
        for number, (start, end) in enumerate(_pauses(rows)):
            label = "pause" if number == 0 else None
            axes.axvspan(
                (start - began) / unit, (end - began) / unit, color=COLOURS["rule"], alpha=0.6, lw=0, label=label
            )
        axes.set_xlabel(f"time since it began, {per}")
        axes.set_ylabel(f"rate, {name}/s")
        axes.set_ylim(bottom=0)
        axes.set_xlim(0, span / unit)
        axes.legend(loc="lower left", bbox_to_anchor=(0, 1.0), ncols=3, **LEGEND)

    lost = sum(what == "lost" for _, what in staging.marks)
    pauses = len(_pauses(rows))
    trouble = [f"the connection was lost {_times(lost)}"] if lost else []
    trouble += [f"it paused {_times(pauses)} for more than ten seconds"] if pauses else []
    told = ", and ".join(trouble) or "it went on without a pause"
    seen = f" {told[0].upper()}{told[1:]}."
    which = ", which moved longest" if len(stagings) > 1 else ""
    return FigureSpec(
        "rate",
        "Rate over time",
        f"Batch {staging.id}{which}: what the connection carried each second, and what was proven and "
        f"got its name.{seen}",
        HIGH + 0.3,
        draw,
        ("time", "seconds", "sent_bytes", "placed_bytes", "files"),
        [(datetime.fromtimestamp(row.at, UTC).strftime("%Y-%m-%dT%H:%M:%SZ"), *row[1:]) for row in rows],
    )


def _times(many: int) -> str:
    return {1: "once", 2: "twice"}.get(many, f"{many} times")


def _steps(
    rows: Sequence[tuple[PaceRow, int]], began: int, unit: float, scale: float
) -> tuple[list[float], list[float]]:
    """A line that is level for each row, and at nothing between rows that are apart."""
    xs, ys, end = [], [], began
    for row, value in rows:
        if row.at > end:
            xs += [(end - began) / unit, (row.at - began) / unit]
            ys += [0.0, 0.0]
        end = row.at + row.seconds
        xs += [(row.at - began) / unit, (end - began) / unit]
        ys += [value / row.seconds / scale] * 2
    return xs, ys


def _pauses(rows: Sequence[PaceRow]) -> list[tuple[int, int]]:
    """From when until when nothing happened, if that was more than ten seconds."""
    pairs = itertools.pairwise(rows)
    return [(one.at + one.seconds, other.at) for one, other in pairs if other.at - one.at - one.seconds > 10]


def _scale(most: float) -> tuple[float, str]:
    """Bytes of the unit in which an amount is best shown, and its name."""
    exponent = min(int(math.log10(most) // 3), 5) if most >= 1 else 0
    return 1000.0**exponent, ("B", "kB", "MB", "GB", "TB", "PB")[exponent]


def _short(name: str, most: int = 24) -> str:
    return name if len(name) <= most else name[: most - 1] + "…"


@dataclass(frozen=True, slots=True)
class _Bar:
    """A bar of two parts, in bytes."""

    label: str
    first: int
    second: int


def _bars_of(stagings: Sequence[Staging]) -> list[_Bar]:
    """A bar for each batch; where they are many, one for each dataset or place, the largest first."""
    if len(stagings) <= MOST_ROWS:
        return [_Bar(f"{each.at[5:10]}  {_short(_what(each))}", each.size, each.left_size or 0) for each in stagings]
    groups: dict[str, list[Staging]] = {}
    for each in stagings:
        groups.setdefault(_what(each), []).append(each)
    bars = [
        _Bar(
            f"{_short(name)} ({count(len(each), 'batch', 'batches')})",
            sum(one.size for one in each),
            sum(one.left_size or 0 for one in each),
        )
        for name, each in groups.items()
    ]
    return sorted(bars, key=lambda bar: -(bar.first + bar.second))[:MOST_ROWS]


def _what(staging: Staging) -> str:
    return staging.dataset or staging.target.rpartition("/")[2] or staging.target


def _moved(stagings: Sequence[Staging]) -> FigureSpec | None:
    known = [each for each in stagings if each.size or each.left_size]
    if not known:
        return None
    bars = _bars_of(known)
    scale, name = _scale(max(bar.first + bar.second for bar in bars))

    def draw(axes: Axes) -> None:
        ys = range(len(bars))
        moved = [bar.first / scale for bar in bars]
        axes.barh(ys, moved, color=COLOURS["moved"], height=0.6, label="moved")
        there: dict[str, Any] = {"color": "none", "edgecolor": COLOURS["there"], "linewidth": 1.2, "height": 0.57}
        axes.barh(ys, [bar.second / scale for bar in bars], left=moved, label="there already", **there)
        for at, bar in enumerate(bars):
            said = size(bar.first) + (f", {size(bar.second)} there" if bar.second else "")
            axes.annotate(
                said, ((bar.first + bar.second) / scale, at), xytext=(5, 0), textcoords="offset points", va="center"
            )
        axes.set_xlim(0, max(bar.first + bar.second for bar in bars) / scale * 1.3)
        axes.set_yticks(list(ys), [bar.label for bar in bars])
        axes.set_ylim(len(bars) - 0.4, -0.6)
        axes.set_xlabel(f"size of files, {name}")
        axes.set_ylabel("what was staged")
        axes.legend(loc="lower left", bbox_to_anchor=(0, 1.0), ncols=2, **LEGEND)

    moved, there = sum(each.size for each in known), sum(each.left_size or 0 for each in known)
    share = f"{there * 100 // (moved + there)} %" if moved + there else "none"
    return FigureSpec(
        "moved",
        "What moved, and what was there already",
        f"{size(moved)} moved; {size(there)}, {share} of all, were right already and stayed where they were.",
        1.3 + ROW * len(bars),
        draw,
        ("batch", "recorded_at", "dataset", "moved_files", "moved_bytes", "there_files", "there_bytes", "sent_bytes"),
        [
            (each.id, each.at, each.dataset, each.files, each.size, each.left, each.left_size, each.sent)
            for each in known
        ],
    )


def _bundling(bundles: Sequence[Bundled]) -> FigureSpec | None:
    if not bundles:
        return None
    shown = sorted(bundles, key=lambda each: -each.before)[:MOST_ROWS]
    scale, name = _scale(max(max(each.before, each.after) for each in shown))

    def draw(axes: Axes) -> None:
        ys = range(len(shown))
        before: dict[str, Any] = {"color": "none", "edgecolor": COLOURS["there"], "linewidth": 1.2, "height": 0.3}
        axes.barh([at - 0.19 for at in ys], [each.before / scale for each in shown], label="files", **before)
        after = [each.after / scale for each in shown]
        axes.barh([at + 0.19 for at in ys], after, height=0.34, color=COLOURS["moved"], label="bundle")
        axes.set_yticks(list(ys), [_short(f"{each.at[5:10]}  {each.name}", 28) for each in shown])
        axes.set_ylim(len(shown) - 0.4, -0.6)
        axes.set_xlabel(f"size, {name}")
        axes.set_ylabel("bundle")
        axes.legend(loc="lower left", bbox_to_anchor=(0, 1.0), ncols=2, **LEGEND)

    before, after = sum(each.before for each in bundles), sum(each.after for each in bundles)
    share = f"{after * 100 // before} % of it" if before else "no more"
    most = f" The {len(shown)} largest are drawn." if len(bundles) > len(shown) else ""
    return FigureSpec(
        "bundling",
        "Size before and after bundling",
        f"{size(before)} of files became {size(after)} in {count(len(bundles), 'bundle')}: {share}.{most}",
        1.3 + ROW * 1.25 * len(shown),
        draw,
        ("bundle", "made_at", "files_bytes", "bundle_bytes"),
        [(each.name, each.at, each.before, each.after) for each in bundles],
    )


def _duration(stagings: Sequence[Staging]) -> FigureSpec | None:
    known = [
        (each, each.expected_seconds, each.seconds)
        for each in stagings
        if each.expected_seconds and each.seconds and each.files
    ]
    if not known:
        return None

    def draw(axes: Axes) -> None:
        from matplotlib.ticker import LogLocator, NullFormatter

        plans, took = [plan for _, plan, _ in known], [seconds for _, _, seconds in known]
        low, high = min(*plans, *took) / 1.6, max(*plans, *took) * 1.6
        axes.plot([low, high], [low, high], color=COLOURS["muted"], linewidth=1, linestyle=":", label="as planned")
        axes.fill_between(
            [low, high],
            [low / 2, high / 2],
            [low * 2, high * 2],
            color=COLOURS["rule"],
            alpha=0.45,
            lw=0,
            label="within a factor of two",
        )
        axes.plot(plans, took, "o", color=COLOURS["moved"], markersize=5, alpha=0.85, label="a batch")
        axes.set_xscale("log")
        axes.set_yscale("log")
        axes.set_xlim(low, high)
        axes.set_ylim(low, high)
        axes.set_xlabel("the plan said, s")
        axes.set_ylabel("it took, s")
        for axis in (axes.xaxis, axes.yaxis):
            axis.set_major_locator(LogLocator(subs=(1, 2, 5) if high < 100 * low else (1,)))
            axis.set_major_formatter(_seconds)
            axis.set_minor_formatter(NullFormatter())
        axes.legend(loc="lower left", bbox_to_anchor=(0, 1.0), ncols=3, **LEGEND)

    near = sum(0.5 <= seconds / plan <= 2 for _, plan, seconds in known)
    caption = f"Of {count(len(known), 'batch', 'batches')}, {near} took between half and twice as long as planned."
    if len(known) == 1:
        _, plan, seconds = known[0]
        caption = f"The plan said {duration(plan)}, it took {duration(seconds)}."
    return FigureSpec(
        "duration",
        "How long it took, and how long the plan said",
        f"{caption} Above the line it took longer, below it less. Both scales are logarithmic.",
        HIGH + 0.4,
        draw,
        ("batch", "recorded_at", "planned_seconds", "seconds", "files", "size_bytes"),
        [(each.id, each.at, round(plan, 1), round(seconds, 1), each.files, each.size) for each, plan, seconds in known],
    )


def _seconds(value: float, position: object = None) -> str:
    return f"{value:g}"


def _sizes(found: Gathered) -> FigureSpec | None:
    sizes = found.sizes
    if not sizes:
        return None
    bits = list(range(min(sizes), max(sizes) + 1))

    def draw(axes: Axes) -> None:
        axes.bar(range(len(bits)), [sizes[each] for each in bits], color=COLOURS["moved"], width=0.8)
        step = -(-len(bits) // 8)
        ticks = range(0, len(bits), step)
        axes.set_xticks(list(ticks), [_upto(bits[at]) for at in ticks])
        if max(sizes.values()) > 200 * max(1, min(sizes.values())):
            axes.set_yscale("log")
        axes.set_xlabel("size of a file, up to")
        axes.set_ylabel("number of files")

    whole = sum(sizes.values())
    small = sum(many for each, many in sizes.items() if each <= 17)
    return FigureSpec(
        "sizes",
        "Sizes of files",
        f"{count(whole, 'file')}, each class twice as large as the one before; {small * 100 // whole} % have at most "
        f"{size(1 << 17)}.",
        HIGH,
        draw,
        ("from_bytes", "below_bytes", "files"),
        [(1 << each >> 1, 1 << each, sizes[each]) for each in bits],
    )


def _upto(bits: int) -> str:
    return size(1 << bits) if bits else "empty"


#: How marks look: shape, colour, what they mean, and how far below the line they stand.
_LOOKS = {
    "staged": ("o", COLOURS["moved"], "staged", 0.0),
    "verified": ("s", COLOURS["good"], "verified, good", 0.22),
    "trouble": ("X", COLOURS["trouble"], "trouble", -0.22),
}


def _draw_dataset(axes: Axes, at: int, line: DatasetLine) -> None:
    """The row of one dataset."""
    times = [_days(when) for when, _ in line.marks]
    axes.plot([min(times), max(times)], [at, at], color=COLOURS["rule"], linewidth=1.2, zorder=1)
    for time, (_, what) in zip(times, line.marks, strict=True):
        marker, colour, _, shift = _LOOKS[what]
        axes.plot([time], [at + shift], marker, color=colour, markersize=6, linestyle="none", zorder=2)
    if line.changed:
        axes.annotate(
            f"since: {line.changed}",
            (1.0, at),
            xycoords=("axes fraction", "data"),
            xytext=(6, 0),
            textcoords="offset points",
            va="center",
            color=COLOURS["warning"],
            annotation_clip=False,
        )


def _timeline(datasets: Sequence[DatasetLine]) -> FigureSpec | None:
    shown = [each for each in datasets if each.marks][:MOST_ROWS]
    if sum(len(each.marks) for each in shown) < 2:
        return None

    def draw(axes: Axes) -> None:
        from matplotlib import dates

        for at, line in enumerate(shown):
            _draw_dataset(axes, at, line)
        for marker, colour, label, _ in _LOOKS.values():
            axes.plot([], [], marker, color=colour, markersize=6, linestyle="none", label=label)
        axes.set_yticks(range(len(shown)), [each.name for each in shown])
        axes.set_ylim(len(shown) - 0.4, -0.6)
        locator = dates.AutoDateLocator()  # type: ignore[no-untyped-call]
        axes.xaxis.set_major_locator(locator)
        axes.xaxis.set_major_formatter(dates.ConciseDateFormatter(locator))  # type: ignore[no-untyped-call]
        axes.set_xlabel("date and time, UTC")
        axes.set_ylabel("dataset")
        axes.legend(loc="lower left", bbox_to_anchor=(0, 1.0), ncols=3, **LEGEND)

    changed = [each.name for each in shown if each.changed]
    looked = all(each.changed is not None for each in shown)
    seen = f" Changed here since: {', '.join(changed)}." if changed else " None has changed here since." * looked
    return FigureSpec(
        "timeline",
        "What happened to each dataset",
        f"When each dataset was staged and verified, and when there was trouble.{seen}",
        1.35 + 0.5 * len(shown),
        draw,
        ("dataset", "at", "what", "changed_since"),
        [(line.name, when, what, line.changed) for line in datasets for when, what in line.marks],
    )
