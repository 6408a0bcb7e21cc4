"""Time left: the truth lies in the range that is said, whatever comes in which order."""

from __future__ import annotations

import random

from hypothesis import given
from hypothesis import strategies as st

from yatagan.batches.time_left import Span, Spans, seconds_left

per_file = st.floats(0.001, 0.2)
rates = st.floats(1e6, 5e8)
orders = st.sampled_from(["small then large", "large then small", "mixed", "alike"])


def sizes_of(order: str, seed: int) -> list[int]:
    rng = random.Random(seed)
    small = [rng.randrange(100, 30_000) for _ in range(400)]
    large = [rng.randrange(20_000_000, 80_000_000) for _ in range(12)]
    if order == "alike":
        return small
    if order == "mixed":
        both = [*small, *large]
        rng.shuffle(both)
        return both
    return small + large if order == "small then large" else large + small


@given(per_file, rates, orders, st.sampled_from([0.0, 4e6, 2e7]), st.integers(0, 2**32))
def test_the_truth_lies_in_the_range(cost: float, rate: float, order: str, limit: float, seed: int) -> None:
    """After each file the least and the most bound what is left; and after a tenth, once both were seen, it is near."""
    rate = min(rate, limit) if limit else rate
    sizes = sizes_of(order, seed)
    took = [cost + size / rate for size in sizes]
    whole, done, spans, seen = sum(took), 0.0, Spans([]), set()
    for at, (size, seconds) in enumerate(zip(sizes, took, strict=True)):
        spans.add(Span(seconds, 1, size))
        done += seconds
        seen.add(size > 1_000_000)
        left = whole - done
        files, size_left = len(sizes) - at - 1, sum(sizes[at + 1 :]) if at % 20 == 0 else -1
        if size_left < 0 or left < 1e-6:
            continue
        found = seconds_left(spans.spans, files, size_left, limit)
        assert found is not None
        assert found.least * 0.999 <= left <= found.most * 1.001, (found, left, at)
        assert found.least >= (size_left / limit if limit else 0) * 0.999
        if done > whole / 10 and at > len(sizes) / 10 and (len(seen) == 2 or order == "alike"):
            assert found.least >= left / 2.5 and found.most <= left * 2.5, (found, left, at)


@given(st.lists(st.builds(Span, st.floats(0, 1e6), st.integers(0, 10**7), st.integers(0, 10**14)), max_size=30))
def test_nothing_that_is_seen_breaks_it(seen: list[Span]) -> None:
    spans = Spans([])
    for span in seen:
        spans.add(span)
    assert len(spans.spans) <= 12
    found = seconds_left(spans.spans, 100, 10**9, 1e6)
    assert found is None or 10**9 / 1e6 * 0.999 <= found.least <= found.most


def test_a_limit_is_believed_at_once() -> None:
    """242 MB at 8 MB/s is half a minute, however fast the first files were."""
    found = seconds_left([Span(0.5, 60, 90_000)], 12, 242_000_000, 8e6)
    assert found is not None and found.least >= 30.2
