"""What two versions of a file have in common, found by sums of their blocks."""

from __future__ import annotations

import random
from collections.abc import Callable

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yatagan.digests.block_search import find_matches
from yatagan.portable.block_sums import Blocks, Match, block_size, checksums, run_digest

MIB = 1 << 20


def blocks_of(data: bytes, block: int) -> Blocks:
    return Blocks(len(data), block, *checksums(data[at : at + block] for at in range(0, len(data), block)))


def runs_of(old: bytes, new: bytes, block: int, *, old_is_far: bool) -> list[Match]:
    near, far = (new, old) if old_is_far else (old, new)
    found = find_matches(
        lambda at, count: near[at : at + count],
        len(near),
        blocks_of(far, block),
        old_is_far=old_is_far,
        digests=True,
        pulse=lambda: None,
    )
    at = 0
    for run in found:
        assert run.new >= at and run.size > 0, "runs overlap, or are not in the order of the new file"
        assert old[run.old : run.old + run.size] == new[run.new : run.new + run.size]
        assert run.digest == run_digest([new[run.new : run.new + run.size]])
        assert run.new + run.size <= len(new)
        at = run.new + run.size
    return found


#: Few letters, so that blocks repeat and checksums meet.
letters = st.lists(st.sampled_from([b"a", b"b", b"ab" * 3, b"\0" * 7, b"fen", b"\xff\xfe"]), max_size=60).map(b"".join)


@given(old=letters, new=letters, block=st.integers(1, 9), old_is_far=st.booleans())
def test_what_is_found_is_really_there(old: bytes, new: bytes, block: int, old_is_far: bool) -> None:
    runs_of(old, new, block, old_is_far=old_is_far)
    same = runs_of(old, old, block, old_is_far=old_is_far)
    assert sum(run.size for run in same) == len(old), "a file has all of itself"


def _in_place(data: bytearray, at: int) -> None:
    data[at : at + 500] = bytes(500)


def _insert(data: bytearray, at: int) -> None:
    data[at:at] = b"inserted"


def _remove(data: bytearray, at: int) -> None:
    del data[at : at + 777]


@pytest.mark.parametrize("old_is_far", [True, False])
@pytest.mark.parametrize("change", [_in_place, _insert, _remove])
def test_a_change_costs_little_more_than_the_blocks_that_it_touches(
    change: Callable[[bytearray, int], None], old_is_far: bool
) -> None:
    rng = random.Random(7)
    old = rng.randbytes(3 * MIB + 123)
    new = bytearray(old)
    places = sorted((rng.randrange(len(old)) for _ in range(5)), reverse=True)
    for at in places:
        change(new, at)
    new += rng.randbytes(2000)  # and something is appended
    found = runs_of(old, bytes(new), 4096, old_is_far=old_is_far)
    assert len(new) - sum(run.size for run in found) <= 2000 + (2 * len(places) + 2) * 4096


def test_looking_for_what_is_not_there_comes_to_an_end(monkeypatch: pytest.MonkeyPatch) -> None:
    """Then blocks are only looked for in their own places: what was changed there is still found."""
    monkeypatch.setattr("yatagan.digests.block_search._PATIENCE", 100_000)
    rng = random.Random(8)
    old, same = rng.randbytes(MIB), rng.randbytes(MIB)
    found = runs_of(old + same, rng.randbytes(MIB) + same, 4096, old_is_far=True)
    assert found == [run for run in found if run.old == run.new] and sum(run.size for run in found) == MIB
    assert runs_of(old, rng.randbytes(MIB), 4096, old_is_far=True) == []


def test_blocks_grow_with_the_file_but_not_for_ever() -> None:
    assert block_size(4 << 20, 64 << 10) == 64 << 10
    assert block_size(40 << 30, 64 << 10) == 2 << 20
    assert block_size(100 << 40, 64 << 10) == 4 << 20
