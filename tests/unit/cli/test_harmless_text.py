"""What is shown is harmless, and sizes hold still."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from yatagan.cli.terminal import text


@given(st.one_of(st.binary(), st.text(), st.text(st.characters(categories=["Cc", "Cf", "Zl", "Zp"]))))
def test_what_is_shown_is_harmless(name: bytes | str) -> None:
    shown = text.show(name)
    assert "\x1b" not in shown and "\n" not in shown and all(char.isprintable() for char in shown)
    shown.encode("utf-8")


@given(st.integers(0, 10**20))
def test_sizes_have_three_digits(count: int) -> None:
    number = text.size(count).split(" ")[0]
    assert len(number.replace(".", "")) <= 3
