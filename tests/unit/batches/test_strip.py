"""The strip that shows how far a batch has come: against a plain count of bytes, for any plan and any history."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from yatagan.batches.states import StepState
from yatagan.batches.strip import CELL_OF, CellState, Strip, StripFile

SIZES = st.one_of(st.just(0), st.integers(0, 20), st.integers(0, 10**12))
GAPS = st.integers(1, 3)


def plan(sizes: list[tuple[int, int]]) -> list[StripFile]:
    number, files = 0, []
    for size, gap in sizes:
        number += gap
        files.append(StripFile(number, size, StepState.WAITING, 0))
    return files


@given(
    sizes=st.lists(st.tuples(SIZES, GAPS), max_size=12),
    history=st.lists(st.tuples(st.integers(0, 11), st.sampled_from(StepState), st.integers(0, 10**12)), max_size=20),
    count=st.integers(1, 196),
)
def test_a_cell_shows_how_far_at_least_half_of_its_bytes_have_come(
    sizes: list[tuple[int, int]], history: list[tuple[int, StepState, int]], count: int
) -> None:
    files = plan(sizes)
    strip = Strip(files)
    state: dict[int, CellState] = {}
    way: dict[int, int] = {}
    for at, new, done in history:
        if at < len(files):
            file = files[at]
            if new is StepState.MOVING:
                strip.move(file.number, done)
                if state.get(at, CellState.WAITING) is CellState.WAITING:
                    way[at] = min(done, max(1, file.size))
            else:
                strip.reach(file.number, new)
                state[at] = CELL_OF[new]
                way[at] = 0
    total = sum(max(1, file.size) for file in files)
    if not total:
        assert strip.cells(count) == []
        return
    cells, start = strip.cells(count), 0
    assert len(cells) == count
    if all(state.get(at) is CellState.IN_PLACE for at in range(len(files))):
        assert set(cells) == {CellState.IN_PLACE}
    if not state and not any(way.values()):
        assert set(cells) == {CellState.WAITING}
    for at, file in enumerate(files):
        end = start + max(1, file.size)
        if state.get(at) is CellState.FAILED:
            assert cells[min(count - 1, int(start * count / total))] is CellState.FAILED, "a failure is always seen"
        first, last = int(start * count / total) + 1, int(end * count / total) - 1
        for cell in cells[first + 1 : max(0, last - 1)]:  # cells that this file alone fills
            if state.get(at, CellState.WAITING) is not CellState.WAITING:
                assert cell is state[at]
            elif not way.get(at):
                assert cell is CellState.WAITING
        start = end


def test_the_files_of_a_stored_bundle_move_as_one_until_each_speaks_for_itself() -> None:
    strip = Strip([StripFile(number, 25, StepState.WAITING, 1) for number in (3, 4, 7, 8)])
    strip.move_stored(1, 0.5)
    assert strip.cells(4) == [CellState.ON_THE_WAY] * 2 + [CellState.WAITING] * 2
    strip.reach(7, StepState.IN_PLACE)
    assert strip.cells(4) == [CellState.WAITING] * 2 + [CellState.IN_PLACE, CellState.WAITING]


def test_a_plan_made_again_shows_what_is_there() -> None:
    files = [
        StripFile(1, 50, StepState.IN_PLACE, 0),
        StripFile(2, 50, StepState.FAILED, 0),
        StripFile(5, 100, StepState.WAITING, 9),
    ]
    strip = Strip(files)
    strip.move(5, 50)
    assert strip.cells(4) == [CellState.IN_PLACE, CellState.FAILED, CellState.ON_THE_WAY, CellState.WAITING]
    assert list(strip.members(9)) == [5] and 3 not in strip and 6 not in strip
    strip.reach(2, StepState.WAITING)
    strip.move(5, 0)
    assert strip.cells(4) == [CellState.IN_PLACE, *[CellState.WAITING] * 3]
