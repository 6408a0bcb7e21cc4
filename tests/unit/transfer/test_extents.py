"""Extents are a set of bytes."""

from __future__ import annotations

import itertools

from hypothesis import given
from hypothesis import strategies as st

from yatagan.transfer.extents import Extents


@given(st.lists(st.tuples(st.integers(0, 60), st.integers(0, 20))), st.integers(0, 80), st.integers(0, 20))
def test_extents_are_a_set_of_bytes(pieces: list[tuple[int, int]], start: int, length: int) -> None:
    extents, model = Extents(), set()
    for begin, size in pieces:
        extents.add(begin, begin + size)
        model |= set(range(begin, begin + size))
    assert {byte for a, b in extents for byte in range(a, b)} == model
    ranges = list(extents)
    assert all(a < b for a, b in ranges) and all(x[1] < y[0] for x, y in itertools.pairwise(ranges))
    assert extents.covers(start, start + length) == (set(range(start, start + length)) <= model)
    assert extents.total == len(model) and Extents.decode(extents.encode()) == extents
    assert extents.prefix == next(at for at in range(200) if at not in model)
    assert extents.end == max(model, default=-1) + 1
    edges = [at for at in range(start + 1, start + length) if (at in model) != (at - 1 in model)]
    assert extents.edge_after(start, start + length) == min([*edges, start + length])
    copy = extents.copy()
    copy.add(start, start + length)
    assert (copy == extents) == (set(range(start, start + length)) <= model) and extents != list(extents)
