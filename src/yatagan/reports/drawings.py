"""What each figure of a report shows: its numbers, its lines and bars, and what to see in it."""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence
from datetime import UTC, datetime
from typing import TYPE_CHECKING

from yatagan.batches.pace import PaceRow
from yatagan.reports.figures import COLOURS, HIGH, LEGEND, MOST_ROWS, ROW, DatasetLine, FigureSpec
from yatagan.reports.gathering import Bundled, Gathered, Staging
from yatagan.spelling import count, duration, size

if TYPE_CHECKING:
    from matplotlib.axes import Axes


def figures_of(found: Gathered, datasets: Sequence[DatasetLine], best_rate: float | None) -> list[FigureSpec]:
    """The figures that there are numbers for, in the page's order. `best_rate`: of the connection, bytes a second."""
    made = [
        _timeline(datasets),
        _rate(_longest(found.stagings), best_rate),
        _moved(found.stagings),
        _bundling([each for staging in found.stagings for each in staging.bundled] + found.bundled),
        _duration(found.stagings),
        _sizes(found),
    ]
    return [figure for figure in made if figure is not None]


def _when(text: str) -> datetime:
    return datetime.fromisoformat(text).astimezone(UTC)


def _days(text: str) -> float:
    """A time in days since the epoch, as Matplotlib has it."""
    return _when(text).timestamp() / 86400


def _longest(stagings: Sequence[Staging]) -> Staging | None:
    """The batch whose rate is drawn: the one that moved longest, of those of which it is known."""
    known = [each for each in stagings if len(each.pace) > 1]
    return max(known, key=lambda each: (each.seconds or 0.0, each.at), default=None)


def _rate(staging: Staging | None, best: float | None) -> FigureSpec | None:
    if staging is None:
        return None
    rows, began = staging.pace, staging.pace[0].at
    span = rows[-1].at + rows[-1].seconds - began
    unit, per = (60.0, "min") if span > 600 else (1.0, "s")
    if span > 4 * 3600:
        unit, per = 3600.0, "h"
    scale, name = _scale(max([row.sent / row.seconds for row in rows] + [row.placed / row.seconds for row in rows]))

    def draw(axes: Axes) -> None:
        for key, what, style in (("sent", "over the connection", "-"), ("placed", "proven and in place", "--")):
            xs, ys = _steps([(row, getattr(row, key)) for row in rows], began, unit, scale)
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
        axes.legend(loc="upper left", bbox_to_anchor=(0, 1.24), ncols=4, **LEGEND)

    lost = sum(what == "lost" for _, what in staging.marks)
    pauses = len(_pauses(rows))
    trouble = [count(lost, "time", "times") + " the connection was lost"] if lost else []
    trouble += [f"{count(pauses, 'pause')} of more than ten seconds"] if pauses else []
    seen = f" There are {' and '.join(trouble)}." if trouble else " It went on without a pause."
    return FigureSpec(
        "rate",
        "Rate over time",
        f"Batch {staging.id}, which moved longest: what the connection carried each second, and what was proven and "
        f"got its name.{seen}",
        HIGH + 0.3,
        draw,
        ("time", "seconds", "sent_bytes", "placed_bytes", "files"),
        [(datetime.fromtimestamp(row.at, UTC).strftime("%Y-%m-%dT%H:%M:%SZ"), *row[1:]) for row in rows],
    )


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


def _label(staging: Staging) -> str:
    what = staging.dataset or staging.target.rpartition("/")[2] or staging.target
    return f"{staging.at[5:10]}  {what if len(what) <= 22 else what[:21] + '…'}"


def _moved(stagings: Sequence[Staging]) -> FigureSpec | None:
    known = [each for each in stagings if each.size or each.left_size]
    if not known:
        return None
    shown = known[-MOST_ROWS:]
    scale, name = _scale(max(each.size + (each.left_size or 0) for each in shown))

    def draw(axes: Axes) -> None:
        ys = range(len(shown))
        moved, there = [each.size / scale for each in shown], [(each.left_size or 0) / scale for each in shown]
        axes.barh(ys, moved, color=COLOURS["moved"], height=0.62, label="moved")
        axes.barh(
            ys,
            there,
            left=moved,
            color="none",
            edgecolor=COLOURS["there"],
            hatch="////",
            height=0.62,
            lw=0.8,
            label="there already",
        )
        axes.set_yticks(list(ys), [_label(each) for each in shown])
        axes.invert_yaxis()
        axes.set_xlabel(f"size of files, {name}")
        axes.set_ylabel("batch: date, and what")
        axes.legend(loc="lower left", bbox_to_anchor=(0, 1.0), ncols=2, **LEGEND)

    moved, there = sum(each.size for each in known), sum(each.left_size or 0 for each in known)
    share = f"{there * 100 // (moved + there)} %" if moved + there else "none"
    last = f" The last {len(shown)} of {len(known)} batches are drawn." if len(known) > len(shown) else ""
    return FigureSpec(
        "moved",
        "What moved, and what was there already",
        f"{size(moved)} moved; {size(there)}, {share} of all, were right already and stayed where they were.{last}",
        max(HIGH - 0.6, 1.2 + ROW * len(shown)),
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
        for at, each in enumerate(shown):
            axes.barh(
                at - 0.19, each.before / scale, height=0.34, color=COLOURS["there"], label="files" if at == 0 else None
            )
            axes.barh(
                at + 0.19,
                each.after / scale,
                height=0.34,
                color=COLOURS["moved"],
                hatch="..",
                edgecolor="white",
                lw=0,
                label="bundle" if at == 0 else None,
            )
        axes.set_yticks(
            range(len(shown)), [each.name if len(each.name) <= 26 else each.name[:25] + "…" for each in shown]
        )
        axes.invert_yaxis()
        axes.set_xlabel(f"size, {name}")
        axes.set_ylabel("bundle")
        axes.legend(loc="lower left", bbox_to_anchor=(0, 1.0), ncols=2, **LEGEND)

    before, after = sum(each.before for each in bundles), sum(each.after for each in bundles)
    share = f"{after * 100 // before} % of it" if before else "no more"
    return FigureSpec(
        "bundling",
        "Size before and after bundling",
        f"{size(before)} of files became {size(after)} in {count(len(bundles), 'bundle')}: {share}.",
        max(HIGH - 0.6, 1.2 + ROW * 1.3 * len(shown)),
        draw,
        ("bundle", "files_bytes", "bundle_bytes"),
        [(each.name, each.before, each.after) for each in bundles],
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
        axes.xaxis.set_major_formatter(_seconds)
        axes.yaxis.set_major_formatter(_seconds)
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
        step = max(1, len(bits) // 8)
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


def _timeline(datasets: Sequence[DatasetLine]) -> FigureSpec | None:
    shown = [each for each in datasets if each.marks][:MOST_ROWS]
    if not shown:
        return None
    looks = {
        "staged": ("o", COLOURS["moved"], "staged"),
        "verified": ("s", COLOURS["good"], "verified, good"),
        "trouble": ("X", COLOURS["trouble"], "trouble"),
    }

    def draw(axes: Axes) -> None:
        from matplotlib import dates

        labelled = set[str]()
        for at, line in enumerate(shown):
            times = [_days(when) for when, _ in line.marks]
            axes.plot([min(times), max(times)], [at, at], color=COLOURS["rule"], linewidth=1.2, zorder=1)
            for when, what in line.marks:
                marker, colour, label = looks[what]
                shift = {"staged": 0.0, "verified": 0.22, "trouble": -0.22}[what]
                axes.plot(
                    [_days(when)],
                    [at + shift],
                    marker,
                    color=colour,
                    markersize=6,
                    label=None if label in labelled else label,
                    linestyle="none",
                    zorder=2,
                )
                labelled.add(label)
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
        axes.set_yticks(range(len(shown)), [each.name for each in shown])
        axes.set_ylim(len(shown) - 0.4, -0.6)
        locator = dates.AutoDateLocator(maxticks=7)  # type: ignore[no-untyped-call]
        axes.xaxis.set_major_locator(locator)
        axes.xaxis.set_major_formatter(dates.ConciseDateFormatter(locator))  # type: ignore[no-untyped-call]
        axes.set_xlabel("date and time, UTC")
        axes.set_ylabel("dataset")
        axes.legend(loc="lower left", bbox_to_anchor=(0, 1.0), ncols=3, **LEGEND)

    changed = [each.name for each in shown if each.changed]
    seen = f" Changed here since: {', '.join(changed)}." if changed else " None has changed here since."
    return FigureSpec(
        "timeline",
        "What happened to each dataset",
        f"When each dataset was staged and verified, and when there was trouble.{seen}",
        1.35 + 0.5 * len(shown),
        draw,
        ("dataset", "at", "what", "changed_since"),
        [(line.name, when, what, line.changed) for line in datasets for when, what in line.marks],
    )
