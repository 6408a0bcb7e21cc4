"""Requests as values: what is written of one is read as the same, and what makes no sense is refused, never guessed."""

from __future__ import annotations

import json
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yatagan.batches.journal_data import Purpose
from yatagan.batches.steps import Modes, Prove, Times
from yatagan.config.project import By, StoredAs, Towards
from yatagan.digests.any_lists import Reading
from yatagan.errors import YataganError
from yatagan.operations.checksums import ListRequest
from yatagan.operations.compare_places import CompareRequest
from yatagan.operations.request_json import Request, command_of, read_request, spelled, write_request
from yatagan.operations.stage_request import DatasetStageRequest, IfNewer, Pack, StageRequest
from yatagan.operations.verify_request import VerifyRequest
from yatagan.places import Place
from yatagan.trees.patterns import Choice

names = st.binary(min_size=1, max_size=8).filter(lambda name: b"\0" not in name)
patterns = st.lists(names.map(lambda name: name.replace(b"/", b"_").replace(b".", b"_")), max_size=3)
choices = st.builds(Choice, patterns, patterns)
places = st.builds(Place, st.sampled_from(["", "heron"]), names)
options: dict[str, Any] = {
    "by": st.sampled_from(By),
    "if_newer": st.sampled_from(IfNewer),
    "prove": st.sampled_from(Prove),
    "modes": st.none() | st.sampled_from(Modes),
    "times": st.sampled_from(Times),
    "pack": st.sampled_from(Pack),
    "unchanged_for": st.floats(0, 1e9),
    "max_rate": st.integers(0, 2**40),
    "space_check": st.booleans(),
    "accept_gone": st.booleans(),
}
requests: st.SearchStrategy[Request] = st.one_of(
    st.builds(
        StageRequest,
        places.map(lambda place: (place,)),
        places,
        st.none() | st.text(max_size=5),
        names | st.just(b""),
        st.builds(Purpose, st.text(max_size=4), restores=st.booleans()),
        choices,
        st.none() | st.just(StoredAs.FILES),
        growing=st.none() | choices,
        **options,
    ),
    st.builds(DatasetStageRequest, st.text(max_size=4), st.none() | st.sampled_from(Towards), **options),
    st.builds(
        VerifyRequest,
        places,
        against=st.none() | places,
        reading=st.builds(Reading, st.none() | st.just("md5"), names, st.integers(0, 9)),
        choice=choices,
        by=st.sampled_from(By),
        processes=st.integers(0, 9),
        resume=st.booleans(),
    ),
    st.builds(CompareRequest, places, places, choices, st.sampled_from(By)),
    st.builds(ListRequest, places, choices, st.none() | places, st.booleans(), st.booleans()),
)


@given(requests)
def test_what_is_written_is_read_as_the_same(request: Request) -> None:
    written = json.loads(json.dumps(write_request(request)))
    found = read_request(written)
    assert found == request and hash(found) == hash(request) and type(found) is type(request)
    assert command_of(request) in ("stage", "verify", "compare", "checksums") and spelled(request)


def test_what_is_as_usual_is_not_written() -> None:
    request = StageRequest((Place("", b"fen"),), Place("heron", b"campaign"))
    assert write_request(request) == {
        "operation": "stage",
        "sources": [{"node": "", "path": "fen"}],
        "destination": {"node": "heron", "path": "campaign"},
    }


json_values = st.recursive(
    st.none() | st.booleans() | st.integers(-3, 3) | st.floats(allow_nan=False) | st.text(max_size=4),
    lambda inner: (
        st.lists(inner, max_size=2) | st.dictionaries(st.sampled_from(["node", "path", "only", "base64"]), inner)
    ),
    max_leaves=6,
)


@given(requests, st.data())
def test_what_makes_no_sense_is_refused(request: Request, data: st.DataObject) -> None:
    """One value of a request is replaced by another: it is refused, or is a request that is written as it was read."""
    written = write_request(request)
    written[data.draw(st.sampled_from([*sorted(written), "strange"]))] = data.draw(json_values)
    try:
        found = read_request(json.loads(json.dumps(written)))
    except (ValueError, YataganError):
        return
    assert read_request(write_request(found)) == found


@pytest.mark.parametrize(
    "written",
    [
        None,
        [],
        {},
        {"operation": "remove", "place": {"node": "", "path": "fen"}},
        {"operation": "checksums"},
        {"operation": "checksums", "place": "fen"},
        {"operation": "checksums", "place": {"node": "", "path": "fen"}, "script": 1},
        {"operation": "checksums", "place": {"node": "", "path": {"base64": "%"}}},
        {"operation": "verify", "by": "digest"},
        {"operation": "stage", "sources": [], "destination": {"node": "", "path": "x"}},
        {"operation": "stage-dataset", "dataset": "fen", "unchanged_for": "2m"},
    ],
)
def test_what_is_no_request(written: object) -> None:
    with pytest.raises((ValueError, YataganError)):
        read_request(written)


def test_one_thing_is_verified() -> None:
    for wrong in (
        {},
        {"batch": "a", "dataset": "b"},
        {"batch": "a", "side": Towards.HERE},
        {"dataset": "a", "against": Place("", b"l")},
    ):
        with pytest.raises(ValueError, match=r"verified|sides"):
            VerifyRequest(**wrong)
