"""The directory that holds replaced files."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from yatagan.portable.unpack_directories import kept_mode


@given(made=st.integers(0, 0o7777), origin=st.integers(0, 0o7777), same=st.booleans())
def test_a_kept_directory_lets_nobody_in_who_was_not_let_in(made: int, origin: int, same: bool) -> None:
    """Whoever has a right by the new mode had it by the old one: owner, either group, others."""
    found = kept_mode(made, origin, same)
    assert found & 0o700 == origin & 0o700 and found & 0o4000 == 0
    group = found >> 3 & 7
    assert (
        group | (origin >> 3 if same else origin >> 3 & origin) & 7
        == (origin >> 3 if same else origin >> 3 & origin) & 7
    )
    # Of another group's members some are in the first one and some are not, and so are the others.
    allowed = origin & 7 if same else origin & origin >> 3 & 7
    assert found & 7 | allowed == allowed
