"""What is said to a path outside the allowed directories."""

from __future__ import annotations

import pytest

from yatagan.config.roots import Roots
from yatagan.faults import Fault

ROOTS = Roots(near=(b"/home/mara/fen",), readable=(b"/data", b"/out/kept"), writable=(b"/data/mara", b"/out"))


OUT, READ = Fault.LEADS_OUT, Fault.ONLY_READ


#: What is named, where it really is, and what is said to reading it and to writing there.
CASES = [
    (b"/home/mara/fen/a", b"/home/mara/fen/a", None, None),
    (b"/home/mara/fen", b"/home/mara/fen", None, None),
    (b"/home/mara/fen/link", b"/home/mara/other", OUT, OUT),
    (b"/home/mara/fen/link", b"/home/mara/fenland", OUT, OUT),
    (b"/home/mara/fen/link", b"/data/x", None, READ),
    (b"/home/mara/fen/link", b"/data/mara/x", None, None),
    (b"/home/mara/other", b"/home/mara/other", None, None),  # named outright
    (b"/home/mara/other/link", b"/srv", None, None),
    (b"/data/x", b"/data/x", None, READ),
    (b"/data/mara/x", b"/data/mara/x", None, None),
    (b"/data/link", b"/srv", OUT, OUT),
    (b"/out/kept/x", b"/out/kept/x", None, READ),
    (b"/out/keptnot", b"/out/keptnot", None, None),
]


@pytest.mark.parametrize(("named", "real", "reading", "writing"), CASES)
def test_what_is_said_to_a_path(named: bytes, real: bytes, reading: Fault | None, writing: Fault | None) -> None:
    assert ROOTS.objection(named, real, writing=False) is reading
    assert ROOTS.objection(named, real, writing=True) is writing
