"""Where Yatagan keeps its files, and the few settings that are not about a node.

The core never reads the environment: the interface finds the directories and hands them down
as a `Home`.
"""

from __future__ import annotations

import re
import tomllib
from dataclasses import dataclass, fields, replace
from pathlib import Path
from typing import Any

from yatagan.errors import BadConfig


@dataclass(frozen=True, slots=True)
class Home:
    """The directories of one user: configuration, state, their SSH files, and what lives as long as a login here."""

    config: Path
    state: Path
    ssh: Path
    runtime: Path

    @property
    def nodes_file(self) -> Path:
        """The saved nodes."""
        return self.config / "nodes.toml"

    @property
    def settings_file(self) -> Path:
        """Settings that are not about one node; need not exist."""
        return self.config / "settings.toml"

    @property
    def known_hosts(self) -> Path:
        """The host keys that were accepted through Yatagan, in known_hosts format."""
        return self.config / "known_hosts"

    @property
    def batches(self) -> Path:
        """One directory a batch."""
        return self.state / "batches"

    @property
    def keepers(self) -> Path:
        """What keepers had to say, one file a node."""
        return self.state / "keepers"

    @property
    def ledger(self) -> Path:
        """The record of what was staged, listed and verified."""
        return self.state / "ledger"


@dataclass(frozen=True, slots=True)
class LineSettings:
    """How long to bear with a bad line. All in seconds.

    `patience`: how long a batch tries to get a lost line back, without any progress, before it
    stops as interrupted. `silence`: how long outstanding requests may stay without any answer.
    `keepalive`: how often the connection itself is tested.
    """

    patience: float = 600.0
    silence: float = 60.0
    keepalive: float = 15.0


@dataclass(frozen=True, slots=True)
class LoginNodeSettings:
    """From which size (bytes) or expected time (seconds) on a stage through a login node is cautioned against."""

    size: int = 1_000_000_000
    time: float = 300.0


@dataclass(frozen=True, slots=True)
class Settings:
    """All settings that are not about one node."""

    line: LineSettings = LineSettings()
    login_node: LoginNodeSettings = LoginNodeSettings()


_UNITS = {"ms": 0.001, "s": 1.0, "m": 60.0, "h": 3600.0, "d": 86400.0}
_DURATION = re.compile(r"\s*(\d+(?:\.\d+)?)\s*(ms|s|m|h|d)\s*")


def parse_duration(text: str) -> float:
    """Seconds from `90s`, `10m`, `8h`, `2d`. Raises ValueError."""
    match = _DURATION.fullmatch(text)
    if not match:
        raise ValueError(f"{text!r} is no duration; write 90s, 10m, 8h or 2d")
    return float(match[1]) * _UNITS[match[2]]


def spell_duration(seconds: float) -> str:
    """The reverse of `parse_duration`, in the largest unit that fits exactly, to the millisecond."""
    for unit in ("d", "h", "m", "s"):
        if seconds >= _UNITS[unit] and seconds % _UNITS[unit] == 0:
            return f"{round(seconds / _UNITS[unit])}{unit}"
    return f"{round(seconds / _UNITS['ms'])}ms"


def parse_size(text: str) -> int:
    """Bytes from `500kB`, `20MB`, `20MB/s`, `4096`. Raises ValueError."""
    bare = text.strip().removesuffix("/s").rstrip("Bb").strip()
    for unit, factor in (("k", 1000), ("K", 1000), ("M", 10**6), ("G", 10**9), ("T", 10**12)):
        if bare.endswith(unit):
            return int(float(bare[:-1]) * factor)
    return int(bare)


def load_settings(home: Home) -> Settings:
    """What settings.toml says, defaults where it is silent. Raises BadConfig."""
    file = home.settings_file
    try:
        tables = tomllib.loads(file.read_text(encoding="utf-8"))
    except FileNotFoundError:
        return Settings()
    except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError) as error:
        raise BadConfig(str(file), str(error)) from error
    known = {"line": LineSettings(), "login-node": LoginNodeSettings()}
    if unknown := sorted(set(tables) - set(known)):
        raise BadConfig(str(file), f"unknown table {unknown[0]!r}", f"there are [{'], ['.join(sorted(known))}]")
    line = replace(LineSettings(), **_values(file, "line", tables.get("line", {}), LineSettings()))
    login_node = replace(
        LoginNodeSettings(), **_values(file, "login-node", tables.get("login-node", {}), LoginNodeSettings())
    )
    return Settings(line, login_node)


def _values(file: Path, name: str, table: object, defaults: LineSettings | LoginNodeSettings) -> dict[str, Any]:
    """A table's values, as durations or as sizes, whichever the default is. Raises BadConfig."""
    if not isinstance(table, dict):
        raise BadConfig(str(file), f"{name} is no table")
    known = {field.name for field in fields(defaults)}
    values: dict[str, Any] = {}
    for key, value in table.items():
        if key not in known:
            raise BadConfig(str(file), f"unknown setting {key!r}", f"[{name}] knows {', '.join(sorted(known))}")
        read = parse_size if isinstance(getattr(defaults, key), int) else parse_duration
        try:
            values[key] = read(value) if isinstance(value, str) else type(getattr(defaults, key))(value)
        except (TypeError, ValueError) as error:
            raise BadConfig(str(file), f"{name}.{key}: {error}") from error
    return values
