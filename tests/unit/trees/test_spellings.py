"""Names that are one name on some disks."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from yatagan.trees.name_clashes import clashes, folded, has_spellings

NAMES = st.text(st.sampled_from("aAbBéÉßıİ\u0301e."), min_size=1, max_size=4).filter(
    lambda name: name not in (".", "..")
)


@given(st.lists(NAMES, unique=True, max_size=8), st.lists(NAMES, unique=True, max_size=3))
def test_of_names_that_are_one_all_but_one_clash(names: list[str], there: list[str]) -> None:
    ours, theirs = ([name.encode() for name in each] for each in (names, there))
    distinct_there = list({folded(name): name for name in theirs}.values())
    found = clashes(ours, distinct_there)
    left = [name for name in ours if name not in found]
    assert len({folded(name) for name in left}) == len(left)
    assert all(folded(other) == folded(name) and other != name for name, other in found.items())
    assert all(other in left or other in distinct_there for other in found.values())
    assert {folded(name) for name in ours} <= {folded(name) for name in (*left, *distinct_there)}


def test_whether_a_name_has_other_spellings() -> None:
    assert [has_spellings(name) for name in (b"a", b"1", b"\xff", b"\xc3\xa9", b"2026-11")] == [
        True,
        False,
        False,
        True,
        False,
    ]
