"""Requests as JSON and back, so that they can be kept, handed to another process, or compared with an earlier one.

A request is an object: `operation`, and what differs from what is usual. A name, a path or a pattern is text, or
`{"base64": "…"}` where it is not UTF-8.
"""

from __future__ import annotations

import base64
import dataclasses
import functools
import types
import typing
from collections.abc import Callable
from enum import StrEnum
from typing import Any, TypeVar

from yatagan.operations.checksums import ListRequest
from yatagan.operations.compare_places import CompareRequest
from yatagan.operations.stage_request import DatasetStageRequest, StageRequest
from yatagan.operations.verify_request import VerifyRequest
from yatagan.trees.patterns import Choice

T = TypeVar("T")

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
    return {"operation": name, **_written(request)}


def read_request(written: object) -> Request:
    """The reverse of `write_request`. Raises ValueError, or what the request says of values that cannot be."""
    given = _object(written)
    kind = _OPERATIONS.get(_of_kind(str, given.pop("operation", None)))
    if kind is None:
        raise ValueError("it is no operation")
    found: Request = _read_dataclass(kind, given)
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


def _written(value: Any) -> dict[str, Any]:
    """The fields of a dataclass that are not as usual."""
    found = {}
    for each in dataclasses.fields(value):
        mine = getattr(value, each.name)
        if each.default is dataclasses.MISSING or mine != each.default:
            found[each.name] = _plain(mine)
    return found


def _plain(value: Any) -> Any:
    match value:
        case bytes():
            try:
                return value.decode()
            except UnicodeDecodeError:
                return {"base64": base64.b64encode(value).decode("ascii")}
        case StrEnum():
            return value.value
        case Choice():
            return {"only": _plain(value.only), "skip": _plain(value.skip)}
        case tuple():
            return [_plain(each) for each in value]
        case _ if dataclasses.is_dataclass(value):
            return _written(value)
        case _:
            return value


def _read_dataclass(kind: Any, given: dict[str, Any]) -> Any:
    types_of = _types_of(kind)
    if strange := given.keys() - types_of:
        raise ValueError(f"there is no {min(strange)}")
    try:
        return kind(**{name: _read(types_of[name], value) for name, value in given.items()})
    except TypeError as error:  # something is missing
        raise ValueError(str(error)) from None


@functools.cache
def _types_of(kind: Any) -> dict[str, Any]:
    hints = typing.get_type_hints(kind)
    return {each.name: hints[each.name] for each in dataclasses.fields(kind)}


def _read(kind: Any, value: object) -> Any:
    """A value of a kind: one of those that fields of requests have."""
    if isinstance(kind, types.UnionType):  # of something and None
        return None if value is None else _read(next(each for each in kind.__args__ if each is not type(None)), value)
    if typing.get_origin(kind) is tuple:
        return tuple(_read(kind.__args__[0], each) for each in _of_kind(list, value))
    if (reader := _READERS.get(kind)) is not None:
        return reader(value)
    if issubclass(kind, StrEnum):
        return kind(_of_kind(str, value))
    if dataclasses.is_dataclass(kind):
        return _read_dataclass(kind, _object(value))
    return _of_kind(kind, value)


def _of_kind(kind: type[T], value: object) -> T:
    if type(value) is not kind:
        raise ValueError(f"{value!r} is no {kind.__name__}")
    return value


def _object(value: object) -> dict[str, Any]:
    return dict(_of_kind(dict, value))


def _read_bytes(value: object) -> bytes:
    if isinstance(value, dict):
        return base64.b64decode(_of_kind(str, value.get("base64")), validate=True)
    return _of_kind(str, value).encode()


def _read_choice(value: object) -> Choice:
    given = _object(value)
    only, skip = (map(_read_bytes, _of_kind(list, given.get(each, []))) for each in ("only", "skip"))
    return Choice(only, skip)


def _read_seconds(value: object) -> float:
    return float(value) if type(value) is int else _of_kind(float, value)


_READERS: dict[Any, Callable[[object], Any]] = {bytes: _read_bytes, Choice: _read_choice, float: _read_seconds}
