"""Areas: which paths start in one, and none leads outside."""

from __future__ import annotations

import os
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yatagan.config.areas import Area, below, read_area, split_area
from yatagan.config.units import parse_duration, spell_duration
from yatagan.errors import Refused

SEGMENTS = st.lists(st.sampled_from(["a", "b", "..", ".", ""]), max_size=6).map("/".join)


@given(rest=SEGMENTS)
def test_nothing_named_below_an_area_is_outside_it(rest: str) -> None:
    area = Area("scratch", "/scratch/fenflux")
    try:
        path = below(area, "heron", rest.encode()).decode()
    except Refused:
        assert ".." in rest or rest.startswith("/")
    else:
        assert (path + "/").startswith("/scratch/fenflux/")
        assert path == os.path.normpath(os.path.join("/scratch/fenflux", rest))


@given(
    area=st.builds(
        Area,
        st.sampled_from(["scratch", "A-1"]),
        st.sampled_from(["/scratch", "data", "a b"]),
        st.sampled_from([None, True, False]),
        st.one_of(st.none(), st.integers(1, 10**7).map(float)),
        st.booleans(),
        st.booleans(),
        st.text(max_size=5),
    )
)
def test_an_area_reads_back(area: Area) -> None:
    assert read_area(area.name, area.table()) == area
    if area.purged_after is not None:
        assert parse_duration(spell_duration(area.purged_after)) == area.purged_after


@pytest.mark.parametrize(
    ("path", "name", "rest"),
    [
        (b"@scratch", "scratch", b""),
        (b"@scratch/fen/a", "scratch", b"fen/a"),
        (b"./@x", "", b"./@x"),
        (b"", "", b""),
        (b"a@b", "", b"a@b"),
    ],
)
def test_which_paths_start_in_an_area(path: bytes, name: str, rest: bytes) -> None:
    assert split_area(path) == (name, rest)


@pytest.mark.parametrize("path", ["", "..", "../x", "a/../../x", "x\0y"])
def test_no_area_is_outside(path: str, tmp_path: Path) -> None:
    with pytest.raises(ValueError, match="path"):
        Area("x", path)
