"""The page docs/reference/states.md, made from the tables: make pages"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from enum import StrEnum
from typing import Any

from yatagan.batches.states import BATCH_MOVES, STEP_MOVES
from yatagan.engine.scheduler import TABLE, Make, Situation

HEAD = """\
# States

Made from `batches/states.py` and `engine/scheduler.py` by `make pages`; a test compares it with them.
"""

STEPS = """
## A step

`waiting → moving → arrived → proven → in place` is the usual way. A state without a next one is final; `left as is`,
`in place` and `failed` are left only when a batch is resumed on purpose, or its destination is made again.
"""

BATCHES = """
## A batch
"""

RUN = """
## A run

A run is one process's work on a batch. In each state, what an event means decides what comes next and what is done.
"""


def page() -> str:
    """The whole page."""
    return "".join((HEAD, STEPS, moves(STEP_MOVES), BATCHES, moves(BATCH_MOVES), RUN, run_table()))


def moves(table: Mapping[Any, Iterable[StrEnum]]) -> str:
    """States and where each may go."""
    rows = [(state.value, ", ".join(sorted(each.value for each in after)) or "—") for state, after in table.items()]
    return "\n" + rows_of(("state", "may become"), rows)


def run_table() -> str:
    """The scheduler's table. Late events that change nothing are left out."""
    rows = []
    for (state, event), (_, outcomes) in TABLE.items():
        for situation, (after, makers) in outcomes.items():
            if after is not state or makers:
                when = "" if situation is Situation.ANY else situation.value
                rows.append((state.value, words(event.__name__), when, after.value, done(makers)))
    return "\n" + rows_of(("state", "event", "if", "next state", "done"), rows)


def done(makers: Iterable[Make]) -> str:
    """Commands, in their order."""
    return ", ".join(make.__name__.replace("_", " ") for make in makers) or "—"


def words(name: str) -> str:
    """A class name as words."""
    return "".join(" " + letter.lower() if letter.isupper() else letter for letter in name).strip()


def rows_of(head: tuple[str, ...], rows: Iterable[tuple[str, ...]]) -> str:
    """A table in Markdown."""
    return "".join(f"| {' | '.join(row)} |\n" for row in (head, ("---",) * len(head), *rows))


if __name__ == "__main__":
    print(page(), end="")
