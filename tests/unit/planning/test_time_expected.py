"""How long a plan is expected to take."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from yatagan.planning.bundling import Costs, travel
from yatagan.planning.expectation import Load, expect

NUMBERS = st.integers(0, 10**12)


RATES = st.lists(st.floats(1e3, 1e9), max_size=3)


EARLIER = st.lists(st.tuples(st.floats(0, 1e5), st.floats(0, 1e5)), max_size=8)


@given(size=NUMBERS, more=NUMBERS, files=st.integers(0, 10**6), rates=RATES, trip=st.floats(0, 0.5), earlier=EARLIER)
def test_more_takes_longer_and_slower_connections_too(
    size: int, more: int, files: int, rates: list[float], trip: float, earlier: list[tuple[float, float]]
) -> None:
    def seconds(size: int = size, files: int = files, rates: list[float] = rates, trip: float = trip) -> float:
        return expect(Load(size, files, 0, None), rates, Costs(trip), earlier).seconds

    assert 0 < seconds() <= seconds(size=size + more) and seconds() <= seconds(files=files + 1)
    assert seconds() <= seconds(trip=trip + 0.1)
    assert seconds(rates=[*rates, 100.0]) >= seconds(rates=[*rates, 1000.0])
    assert expect(Load(size, files, 0, None), rates, Costs(trip), []).known == bool(rates)


def test_earlier_batches_correct_it() -> None:
    twice = [(10.0, 5.0), (0.1, 5.0), (12.0, 6.0), (90.0, 1.0)]  # one is too short to say anything, one was a bad day
    plain, corrected = (expect(Load(10**9, 100, 0, None), [1e7], Costs(0.01), earlier) for earlier in ([], twice))
    assert corrected.seconds == 2 * plain.seconds and corrected.modelled == plain.modelled
    # A limit is no slowness of the connection: it is kept, whatever others took.
    limited = expect(Load(10**9, 100, 0, None), [1e7], Costs(0.01), twice, limit=1e6)
    assert 1000 < limited.seconds == limited.modelled < 1010
    assert expect(Load(10**9, 100, 0, None), [1e7], Costs(0.01), twice, limit=1e9).seconds == corrected.seconds
    small = travel(1000, 10**6, Costs(0.05))
    together = expect(Load(10**6, 1000, 0, small), [1e7], Costs(0.05), [])
    alone = expect(Load(10**6, 1000, 0, None), [1e7], Costs(0.05), [])
    stored = expect(Load(10**6, 1000, 1000, None), [1e7], Costs(0.05), [])
    assert together.seconds < alone.seconds and stored.seconds < alone.seconds
