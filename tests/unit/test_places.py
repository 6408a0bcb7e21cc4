"""Places as they are typed, and names in JSON."""

from __future__ import annotations

import json

import pytest
from hypothesis import given

from random_names import NAME
from yatagan.errors import NoPlace
from yatagan.places import Place, name_fields, name_from, parse_place


@pytest.mark.parametrize(
    ("typed", "place"),
    [
        ("fen", Place("", b"fen")),
        ("fen/", Place("", b"fen")),
        ("/", Place("", b"/")),
        ("./a:b", Place("", b"./a:b")),
        ("heron:", Place("heron", b"")),
        ("heron:/", Place("heron", b"/")),
        ("heron:a:b", Place("heron", b"a:b")),
        ("heron:fen//", Place("heron", b"fen")),
        ("a/b:c", Place("", b"a/b:c")),
    ],
)
def test_places(typed: str, place: Place) -> None:
    assert parse_place(typed) == place


@pytest.mark.parametrize("typed", ["", "a b:c", "1node:x", "a\0b"])
def test_places_that_are_none(typed: str) -> None:
    with pytest.raises(NoPlace):
        parse_place(typed)


@given(NAME)
def test_names_pass_through_json(name: bytes) -> None:
    assert name_from(json.loads(json.dumps(name_fields(name)))) == name
