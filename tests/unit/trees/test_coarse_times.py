"""Disks whose times have coarse steps."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from yatagan.trees.time_steps import STEPS, as_kept, common_step, grain

times = st.integers(0, 2**40).map(lambda seconds: seconds * 10**6 + 7)


@given(st.lists(st.tuples(times, st.integers(0, 10**9)), min_size=1, max_size=20), st.sampled_from(STEPS[1:]))
def test_a_coarse_disk_is_known_by_its_times(made: list[tuple[int, int]], step: int) -> None:
    fine = [seconds + part for seconds, part in made]
    coarse = [time // step * step for time in fine]
    found = common_step(zip(fine, coarse, strict=True), 1)
    assert all(one // found == other // found for one, other in zip(fine, coarse, strict=True))
    assert found == 1 or found >= step or fine == coarse
    assert all(as_kept(cut, whole) for cut, whole in zip(coarse, fine, strict=True))


@given(st.lists(st.integers(1, 2**60), min_size=2, max_size=20), st.integers(1, 999_999_999))
def test_an_edit_within_a_second_is_seen_where_times_are_fine(fine: list[int], later: int) -> None:
    fine = [time // 2 * 2 + 1 for time in fine]  # no disk with steps keeps such
    other = [fine[0] + later, *fine[1:]]
    step = common_step(zip(fine, other, strict=True), 1)
    assert step == 1 or grain(other) > 1
    assert fine[0] // step != other[0] // step or grain(other) > 1
