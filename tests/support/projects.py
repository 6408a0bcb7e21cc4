"""Projects of the survey."""

from __future__ import annotations

from conftest import Program

PROJECT = """\
[project]
name = "fen-flux"

[dataset.chambers]
use = "input"
here = "chambers"
there = "{node}:fen/chambers"
"""


GOOD = """\
[project]
name = "fen-flux"
ledger = "records"

[dataset.chambers]
use = "input"
here = "chambers"
there = "{node}:fen/chambers-2026"
skip = ["*.tmp"]

[dataset.fluxes]
use = "result"
here = "results/fluxes"
there = "{node}:fen/fluxes"
by = "digest"
"""


def declare(program: Program, node: str, text: str = GOOD) -> None:
    (program.directory / "yatagan.toml").write_text(text.format(node=node))
