"""What one setting is: its usual value, what it counts, and how it is read. The tables of them are made of these."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import Field, field, fields
from enum import StrEnum
from typing import Any

from yatagan.config.units import parse_count, parse_duration, parse_size


class Unit(StrEnum):
    """What a setting counts."""

    SECONDS = "seconds"
    BYTES = "bytes"
    COUNT = "count"
    TEXT = "text"
    FLAG = "flag"


def _read_flag(text: str) -> bool:
    if text not in ("yes", "no"):
        raise ValueError(f"{text!r} is neither yes nor no")
    return text == "yes"


_READERS: dict[Unit, Callable[[str], Any]] = {
    Unit.SECONDS: parse_duration,
    Unit.BYTES: parse_size,
    Unit.COUNT: parse_count,
    Unit.TEXT: str,
    Unit.FLAG: _read_flag,
}


def setting(usual: Any, unit: Unit, read: Callable[[str], Any] | None = None) -> Any:
    """A field of a table of settings. `usual`: its value where none is set, or a function that finds it out.

    `read`: how its text is read, where that is not as for every one of its `unit`. It raises ValueError.
    """
    metadata = {"unit": unit, "read": read or _READERS[unit]}
    return (
        field(default_factory=usual, metadata=metadata) if callable(usual) else field(default=usual, metadata=metadata)
    )


def keys_of(table: Any) -> dict[str, Field[Any]]:
    """The settings of a table, by their names in the file."""
    return {each.name.replace("_", "-"): each for each in fields(table)}


def read_value(key: Field[Any], value: object) -> Any:
    """The value of a setting from the file, as text or as TOML has it. Raises ValueError."""
    unit: Unit = key.metadata["unit"]
    if isinstance(value, str):
        return key.metadata["read"](value)
    if unit is Unit.FLAG and isinstance(value, bool):
        return value
    if isinstance(value, bool) or not isinstance(value, int | float) or unit in (Unit.FLAG, Unit.TEXT):
        raise ValueError(f"{value!r} is no {unit.value}")
    if value < 0:
        raise ValueError(f"{value} is less than nothing")
    return float(value) if unit is Unit.SECONDS else key.metadata["read"](str(value))
