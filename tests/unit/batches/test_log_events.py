"""The log of a batch: each event is read as it was written, told in words, and on its page; noise harms nothing."""

from __future__ import annotations

import dataclasses
import json
import typing
from pathlib import Path
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from yatagan.batches.log_events import LOG_EVENTS, LogEvent, read_event, write_event
from yatagan.batches.queueing import WaitsFor
from yatagan.batches.states import BatchState
from yatagan.cli.commands.batch_log import told
from yatagan.cli.terminal.terminal import plain
from yatagan.faults import Fault

VALUES: dict[Any, st.SearchStrategy[Any]] = {
    int: st.integers(0, 2**50),
    float: st.floats(0, 1e6),
    str: st.text(max_size=6),
    bytes: st.binary(min_size=1, max_size=6),
    bool: st.booleans(),
    Fault: st.sampled_from(Fault),
    Fault | None: st.none() | st.sampled_from(Fault),
    BatchState: st.sampled_from(BatchState),
    WaitsFor: st.sampled_from(WaitsFor),
}


def of_kind(kind: type[LogEvent]) -> st.SearchStrategy[LogEvent]:
    hints = typing.get_type_hints(kind)
    return st.builds(kind, **{each.name: VALUES[hints[each.name]] for each in dataclasses.fields(kind)})


events = st.one_of(*map(of_kind, LOG_EVENTS.values()))


def line_of(event: LogEvent) -> dict[str, Any]:
    line = {"time": "2026-12-02T01:00:00Z", "batch": "261202-k7qd", **write_event(event)}
    found: dict[str, Any] = json.loads(json.dumps(line))
    return found


@given(events)
def test_an_event_is_read_as_it_was_written_and_told_in_words(event: LogEvent) -> None:
    assert read_event(line_of(event)) == event
    day, said = map(plain, told([line_of(event)]))
    assert "2026-12-0" in day and len(said) > 12 and said.isprintable() and '"event"' not in said


@given(
    events, st.text(max_size=8), st.none() | st.integers() | st.text(max_size=3) | st.lists(st.integers(), max_size=2)
)
def test_a_line_that_makes_no_sense_is_shown_as_it_stands(event: LogEvent, key: str, value: object) -> None:
    line = {**line_of(event), key: value, "node": value, "time": value}
    said = list(map(plain, told([line])))
    assert said and all(each.isprintable() for each in said)


def test_every_event_is_on_its_page() -> None:
    page = (Path(__file__).parents[3] / "docs" / "reference" / "formats.md").read_text()
    for name, kind in LOG_EVENTS.items():
        assert f"`{name}`" in page
        for each in dataclasses.fields(kind):
            assert f"`{each.name}`" in page, f"{name}: {each.name}"
