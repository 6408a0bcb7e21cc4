"""Requests as JSON and back, so that they can be kept, handed to another process, or compared with an earlier one.

A request is an object: `operation`, and what differs from what is usual. A pattern is text, or `{"base64": "…"}` where
it is not UTF-8.
"""

from __future__ import annotations

import base64
from typing import Any

from yatagan.json_codec import JsonCodec, of_kind
from yatagan.operations.checksums import ListRequest
from yatagan.operations.compare_places import CompareRequest
from yatagan.operations.stage_request import DatasetStageRequest, StageRequest
from yatagan.operations.verify_request import VerifyRequest
from yatagan.trees.patterns import Choice

Request = StageRequest | DatasetStageRequest | VerifyRequest | CompareRequest | ListRequest

_OPERATIONS: dict[str, type[Request]] = {
    "stage": StageRequest,
    "stage-dataset": DatasetStageRequest,
    "verify": VerifyRequest,
    "compare": CompareRequest,
    "checksums": ListRequest,
}


def write_request(request: Request) -> dict[str, Any]:
    """A request as what `json.dumps` takes."""
    name = next(name for name, kind in _OPERATIONS.items() if type(request) is kind)
    return {"operation": name, **_CODEC.write(request)}


def read_request(written: object) -> Request:
    """The reverse of `write_request`. Raises ValueError, or what the request says of values that cannot be."""
    given = dict(of_kind(dict, written))
    kind = _OPERATIONS.get(of_kind(str, given.pop("operation", None)))
    if kind is None:
        raise ValueError("it is no operation")
    found: Request = _CODEC.read(kind, given)
    return found


def command_of(request: Request) -> str:
    """The command that asks for such a thing."""
    return "stage" if isinstance(request, DatasetStageRequest) else str(write_request(request)["operation"])


def spelled(request: Request) -> tuple[str, ...]:
    """What it is about, as one would type that: places, batch or dataset."""
    match request:
        case StageRequest():
            return (*map(str, request.sources), str(request.destination))
        case DatasetStageRequest():
            return "--dataset", request.dataset
        case VerifyRequest() if request.place is None:
            return ("--batch", request.batch) if request.batch else ("--dataset", request.dataset)
        case CompareRequest():
            return str(request.first), str(request.second)
        case _:
            return (str(request.place),)


def _write_choice(choice: Choice) -> dict[str, Any]:
    given = {"only": choice.only, "skip": choice.skip}
    return {name: [_write_pattern(each) for each in patterns] for name, patterns in given.items() if patterns}


def _write_pattern(pattern: bytes) -> Any:
    try:
        return pattern.decode()
    except UnicodeDecodeError:
        return {"base64": base64.b64encode(pattern).decode("ascii")}


def _read_choice(value: object) -> Choice:
    given = of_kind(dict, value)
    if strange := given.keys() - {"only", "skip"}:
        raise ValueError(f"there is no {min(strange)}")
    only, skip = (map(_read_pattern, of_kind(list, given.get(each, []))) for each in ("only", "skip"))
    return Choice(only, skip)


def _read_pattern(value: object) -> bytes:
    if isinstance(value, dict):
        return base64.b64decode(of_kind(str, value.get("base64")), validate=True)
    return of_kind(str, value).encode()


_CODEC = JsonCodec({Choice: (_write_choice, _read_choice)})
