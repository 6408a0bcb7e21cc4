"""What a helper answers is read field by field: whatever else stands there is refused, and nothing else is raised."""

from __future__ import annotations

import copy
from collections.abc import Iterator
from typing import Any, NamedTuple

import pytest

from yatagan.errors import StoreError
from yatagan.faults import Fault
from yatagan.nodes import replies
from yatagan.nodes.replies import read_reply

FACTS = [0o100644, 5, 1_700_000_000_000_000_000, -1, 2**63]
SOUND: dict[str, dict[str, Any]] = {
    "GreetingReply": {
        "host": "heron",
        "boot": "b",
        "python": "3.6.8",
        "algorithms": ["sha256"],
        "session": [[7, 70]],
        "login": 6,
    },
    "LoginsReply": {"session": [[7, 70], [8, 80]]},
    "AliveReply": {"alive": [[7, 70]], "sure": True},
    "ClockReply": {"clock_ns": 1},
    "LookReply": {"facts": FACTS},
    "LookInReply": {"facts": [FACTS, []]},
    "SetReply": {"unset": 0},
    "DigestStartReply": {"made": [0, "ab", FACTS]},
    "DigestsReply": {"files": [[0, "ab", FACTS], [2, "", []]]},
    "BlockSumsReply": {"rolling": "AAAA", "other": "AAA=", "before": FACTS, "facts": FACTS},
    "MatchesReply": {"good": [True, False]},
    "SmallFilesReply": {"files": [[0, "AAAA", FACTS], [13, "", []]]},
    "PlacingReply": {"outcomes": [[0, 0], [-3, 1]]},
    "TextReply": {"text": "fen"},
    "DiskReply": {"disk": ""},
    "AccessListsReply": {"paths": ["/a"]},
    "NotKeptReply": {"counts": [1, 0, 0]},
    "BundleReply": {"totals": [4, 3, 2, 1, "ab"]},
    "ChangedReply": {"changed": "/caf\xe9"},
    "TooMuchReply": {"too_much": 5},
    "UnpackReply": {
        "counts": {"unpacked": 1},
        "files": 1,
        "size": 5,
        "proven": 1,
        "bits": 0,
        "strays": False,
        "reported": [["a\xff", "left", "why"]],
        "damage": [[5, "torn"]],
    },
    "ContentsReply": {"found": [["a", "ab"]]},
    "MembersReply": {"found": [["a", "0", 5, 0o644, 1, ""]], "damaged": ""},
}
#: None of them is what any field of a helper's answer may be.
WRONG: list[Any] = [None, 1.5, -(2**130), 2**130, [[None]], {"more": None}, "\u20ac"]


def class_of(name: str) -> type[NamedTuple]:
    found: type[NamedTuple] = getattr(replies, name)
    return found


def spoilt(answer: Any) -> Iterator[Any]:
    """The answer with one value replaced, at every depth."""
    for wrong in WRONG:
        if not (isinstance(wrong, str) and isinstance(answer, str)):
            yield wrong
    if isinstance(answer, dict | list):
        for key in answer if isinstance(answer, dict) else range(len(answer)):
            for value in spoilt(answer[key]):
                changed = copy.deepcopy(answer)
                changed[key] = value
                yield changed


@pytest.mark.parametrize("name", SOUND)
def test_what_is_no_answer_is_refused(name: str) -> None:
    kind, sound = class_of(name), SOUND[name]
    assert tuple(read_reply(kind, {**sound, "more": None})._asdict()) == tuple(sound)
    for bad in spoilt(sound):
        with pytest.raises(StoreError) as caught:
            read_reply(kind, bad, "oak")
        assert caught.value.fault is Fault.NONSENSE and caught.value.store == "oak"
    for missing in sound:
        if missing != "damaged":
            with pytest.raises(StoreError):
                read_reply(kind, {each: value for each, value in sound.items() if each != missing})


def test_every_answer_is_tried() -> None:
    """Rows are tried as parts of answers."""
    kinds = {name for name, kind in vars(replies).items() if hasattr(kind, "_fields")}
    assert kinds - {name for name in kinds if name.endswith("Row")} - {"Process"} == SOUND.keys()


@pytest.mark.parametrize("row", [FACTS[:4], [*FACTS, 0]])
def test_a_row_has_its_length(row: list[int]) -> None:
    with pytest.raises(StoreError):
        read_reply(replies.LookReply, {"facts": row})


def test_names_and_bytes() -> None:
    unpacked = read_reply(replies.UnpackReply, SOUND["UnpackReply"])
    assert unpacked.reported == ((b"a\xff", "left", "why"),)
    assert read_reply(replies.BlockSumsReply, SOUND["BlockSumsReply"]).other == bytes(2)
    with pytest.raises(StoreError):
        read_reply(replies.BlockSumsReply, {**SOUND["BlockSumsReply"], "other": "no base64!"})
