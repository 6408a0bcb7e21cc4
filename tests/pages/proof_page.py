"""The page docs/reference/proof.md: make pages"""

from __future__ import annotations

from types import SimpleNamespace
from typing import Any, cast

from states_page import rows_of
from yatagan.batches.states import Evidence
from yatagan.batches.steps import Prove
from yatagan.engine.session import evidence_for

HEAD = """\
# How it is proven

What proves that a file has arrived as it was, by what was asked for with `--prove` and by the way that it goes. Made
from `evidence_for` in `engine/session.py`, which alone decides it, by `make pages`; a test compares it.

"""

FOOT = """
`on-node`: the node hashes the file, once it is synced there, or where it comes from. `read-back`: it is read again from
where it was put, and hashed here. `on-arrival`: it is hashed here as it arrives, before it is written. `sent`: every
write was acknowledged, and contents were not looked at; the summary says so. What a node cannot do is refused before
anything moves, and a batch stops that can no longer be proven as its plan said.
"""

#: The way, whether either end is on this machine, and whether commands there see the disk that is written to.
WAYS = (
    ("from here to a node whose commands see that disk", True, False, True),
    ("from here to a node without such commands", True, False, False),
    ("from a node to here", False, True, False),
    ("from node to node, the second with such commands", False, False, True),
    ("from node to node, the second without", False, False, False),
    ("on this machine", True, True, False),
)


def page() -> str:
    """The whole page."""
    rows = [(way, *(_proof(prove, *ends) for prove in Prove)) for way, *ends in WAYS]
    return HEAD + rows_of(("way", *(f"`{prove.value}`" for prove in Prove)), rows) + FOOT


def _proof(prove: Prove, from_here: bool, to_here: bool, sees: bool) -> str:
    if prove is Prove.ON_NODE and not (sees or to_here):
        return "refused"
    source, destination = (SimpleNamespace(traits=SimpleNamespace(here=here)) for here in (from_here, to_here))
    evidence = evidence_for(prove, cast(Any, source), cast(Any, destination), sees)
    return evidence.value if evidence is not Evidence.SENT else "no proof: sent"


if __name__ == "__main__":
    print(page(), end="")
