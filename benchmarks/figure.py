"""`python -m benchmarks.figure RESULTS.json FIGURE.png`: what was measured, as multiples of what is meant."""

from __future__ import annotations

import json
import sys

import matplotlib as mpl

mpl.use("Agg")

from matplotlib import pyplot as plt

from benchmarks.meant import MEANT

GOOD, SHORT = "#2a7f6f", "#c26a1b"


def main(results: str, figure: str) -> None:
    with open(results, encoding="utf-8") as stream:
        found = json.load(stream)
    rows = [
        (f"{name}: {what}", float(found[name][what]), meant)
        for name, all_meant in MEANT.items()
        if name in found
        for what, meant in all_meant.items()
    ][::-1]
    shares = [min(max(meant.share(value), 0.1), 20) for _, value, meant in rows]
    drawing, axes = plt.subplots(figsize=(11, 0.34 * len(rows) + 1.2), layout="constrained")
    colours = [GOOD if share >= 1 else SHORT for share in shares]
    axes.barh(range(len(rows)), [share - 1 for share in shares], left=1, color=colours)
    axes.set_yticks(range(len(rows)), [label for label, _, _ in rows], fontsize=8)
    for at, ((_, value, meant), share) in enumerate(zip(rows, shares, strict=True)):
        words = f"{value:.3g} ({'at most' if meant.most else 'at least'} {meant.value:g})"
        side = "left" if share >= 1 else "right"
        axes.annotate(words, (share, at), (4 if side == "left" else -4, 0), textcoords="offset points", va="center",
                      ha=side, fontsize=8)  # fmt: skip
    axes.axvline(1, color="black", linewidth=1)
    axes.set_xscale("log")
    axes.set_xlim(0.3, 60)
    axes.set_ylim(-0.6, len(rows) - 0.4)
    axes.set_xticks([0.5, 1, 2, 5, 10, 20], ["½", "1", "2", "5", "10", "20"])
    axes.minorticks_off()
    axes.set_xlabel("times as good as is meant")
    axes.spines[["top", "right"]].set_visible(False)
    drawing.savefig(figure, dpi=110)


if __name__ == "__main__":
    main(*sys.argv[1:])
