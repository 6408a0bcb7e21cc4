"""Frozen dataclasses as JSON objects and back: what is as usual is left out, and what makes no sense is refused.

A field of bytes is a name: its text, or base64 under a key that ends in `_b64` where it is not UTF-8.
"""

from __future__ import annotations

import dataclasses
import functools
import reprlib
import types
import typing
from collections.abc import Callable, Mapping
from enum import StrEnum
from typing import Any, TypeVar

from yatagan.places import name_fields, name_from

T = TypeVar("T")

#: How values of a type that is no dataclass are written and read.
Special = Mapping[type, tuple[Callable[[Any], Any], Callable[[object], Any]]]


class JsonCodec:
    """Writes and reads dataclasses of plain values, enumerations of text, tuples and each other."""

    def __init__(self, special: Special | None = None) -> None:
        self._special = special or {}

    def write(self, value: Any) -> dict[str, Any]:
        """The fields of a dataclass that are not as usual, as what `json.dumps` takes."""
        found: dict[str, Any] = {}
        for each in dataclasses.fields(value):
            mine = getattr(value, each.name)
            if each.default is not dataclasses.MISSING and mine == each.default:
                continue
            found |= name_fields(mine, each.name) if isinstance(mine, bytes) else {each.name: self._plain(mine)}
        return found

    def _plain(self, value: Any) -> Any:
        if (special := self._special.get(type(value))) is not None:
            return special[0](value)
        match value:
            case StrEnum():
                return value.value
            case tuple():
                return [self._plain(each) for each in value]
            case _ if dataclasses.is_dataclass(value):
                return self.write(value)
            case _:
                return value

    def read(self, kind: Any, given: object) -> Any:
        """The reverse of `write`. Raises ValueError, or what the dataclass says of values that cannot be."""
        fields = _types_of(kind)
        values: dict[str, Any] = {}
        for key, value in of_kind(dict, given).items():
            name = key.removesuffix("_b64")
            if fields.get(name) is bytes:
                values[name] = _name(given, name)
            elif key in fields:
                values[key] = self._read(fields[key], value)
            else:
                raise ValueError(f"there is no {key}")
        try:
            return kind(**values)
        except TypeError as error:  # something is missing
            raise ValueError(str(error)) from None

    def _read(self, kind: Any, value: object) -> Any:
        """A value of a kind: one of those that fields have."""
        if isinstance(kind, types.UnionType):  # of something and None
            of = next(each for each in kind.__args__ if each is not type(None))
            return None if value is None else self._read(of, value)
        if (special := self._special.get(kind)) is not None:
            return special[1](value)
        if typing.get_origin(kind) is tuple:
            return tuple(self._read(kind.__args__[0], each) for each in of_kind(list, value))
        if kind is float and type(value) is int:
            return float(value)
        if issubclass(kind, StrEnum):
            return kind(of_kind(str, value))
        return self.read(kind, value) if dataclasses.is_dataclass(kind) else of_kind(kind, value)


def of_kind(kind: type[T], value: object) -> T:
    """The value, if it is of this very type. Raises ValueError."""
    if type(value) is not kind:
        raise ValueError(f"{reprlib.repr(value)} is no {kind.__name__}")
    return value


def _name(given: Any, key: str) -> bytes:
    try:
        found = given.get(key, given.get(f"{key}_b64"))
        of_kind(str, found)
        return name_from(given, key)
    except KeyError as error:
        raise ValueError(f"there is no {error}") from None


@functools.cache
def _types_of(kind: Any) -> dict[str, Any]:
    hints = typing.get_type_hints(kind)
    return {each.name: hints[each.name] for each in dataclasses.fields(kind)}
