"""Files that only grow, such as a logger's, in a plan: which they are, and what of them is at the destination."""

from __future__ import annotations

import posixpath
from collections.abc import Iterable

from yatagan.batches.steps import Beginning
from yatagan.planning.plan import Arrival, Summary
from yatagan.request_errors import BadStage, WrongStage
from yatagan.stores.interface import Kind
from yatagan.trees.compare import Verdict
from yatagan.trees.patterns import Choice
from yatagan.trees.scan import Tree


def find_growing(tree: Tree, growing: Choice) -> dict[bytes, Beginning]:
    """The files of a tree that only grow, by path; a source that is a file itself is matched by its name."""
    return {
        path: Beginning()
        for path in tree.entries.of_kind(Kind.FILE)
        if growing.chooses(path or posixpath.basename(tree.root))
    }


def refuse_growing(arrival: Arrival) -> None:
    """Raise BadStage if a growing file would go into a stored bundle."""
    for storing in arrival.storing:
        for each in storing.differences:
            if each.path in arrival.growing:
                name = posixpath.basename(storing.bundle).decode("utf-8", "surrogateescape")
                raise BadStage(WrongStage.GROWING_INTO_BUNDLE, name)


def count_growing(summary: Summary, arrivals: Iterable[Arrival]) -> None:
    """Count the growing files that are carried, their bytes, and those that need not be sent."""
    for arrival in arrivals:
        if not arrival.growing:
            continue
        for difference in arrival.differences.of(Verdict.NEW, Verdict.DIFFERENT):
            if (before := arrival.growing.get(difference.path)) is not None:
                summary.growing += 1
                summary.growing_size += difference.facts.size
                if 0 < before.size <= difference.facts.size:
                    summary.growing_there += before.size
                    summary.replaced -= 1  # it goes on, and what was there is the beginning of it
