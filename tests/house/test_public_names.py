"""The few names that a Python program needs."""

from __future__ import annotations

import pytest

import yatagan


def test_public_names_are_few_and_documented() -> None:
    assert len(yatagan.__all__) < 40 and sorted(yatagan.__all__) == yatagan.__all__
    for name in yatagan.__all__:
        assert getattr(yatagan, name).__doc__, name
    with pytest.raises(AttributeError):
        _ = yatagan.no_such_name  # type: ignore[attr-defined]
