"""Times as SFTP tells them."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from yatagan.stores.interface import same_time


@given(st.integers(-(2**62), 2**62), st.integers(0, 10**9 - 1), st.integers(-3, 3))
def test_times_agree_as_sftp_tells_them(seconds: int, rest: int, eras: int) -> None:
    one = seconds * 10**9 + rest
    assert same_time(one, (seconds + eras * 2**32) * 10**9, 10**9)
    assert not same_time(one, (seconds + 1) * 10**9, 10**9)
    assert same_time(one, one, 1) and not same_time(one, one + 1, 1)
