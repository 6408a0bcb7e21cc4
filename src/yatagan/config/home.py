"""Where Yatagan keeps its files, and the few settings that are not about a node.

The core never reads the environment: the interface finds the directories and hands them down
as a `Home`.
"""

from __future__ import annotations

import re
import tomllib
from dataclasses import dataclass, fields
from pathlib import Path

from yatagan.errors import BadConfig


@dataclass(frozen=True, slots=True)
class Home:
    """The directories of one user: configuration, state, and their SSH files."""

    config: Path
    state: Path
    ssh: Path

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


_UNITS = {"ms": 0.001, "s": 1.0, "m": 60.0, "h": 3600.0, "d": 86400.0}
_DURATION = re.compile(r"\s*(\d+(?:\.\d+)?)\s*(ms|s|m|h|d)\s*")


def parse_duration(text: str) -> float:
    """Seconds from `90s`, `10m`, `8h`, `2d`. Raises ValueError."""
    match = _DURATION.fullmatch(text)
    if not match:
        raise ValueError(f"{text!r} is no duration; write 90s, 10m, 8h or 2d")
    return float(match[1]) * _UNITS[match[2]]


def load_line_settings(home: Home) -> LineSettings:
    """The `[line]` table of settings.toml, defaults where it is silent. Raises BadConfig."""
    file = home.settings_file
    try:
        table = tomllib.loads(file.read_text(encoding="utf-8"))
    except FileNotFoundError:
        return LineSettings()
    except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError) as error:
        raise BadConfig(str(file), str(error)) from error
    known = {field.name for field in fields(LineSettings)}
    unknown = (set(table) - {"line"}) | (set(table.get("line", {})) - known)
    if unknown:
        raise BadConfig(
            str(file), f"unknown setting {sorted(unknown)[0]!r}", f"[line] knows {', '.join(sorted(known))}"
        )
    values: dict[str, float] = {}
    for key, value in table.get("line", {}).items():
        try:
            values[key] = parse_duration(value) if isinstance(value, str) else float(value)
        except (TypeError, ValueError) as error:
            raise BadConfig(str(file), f"line.{key}: {error}") from error
    return LineSettings(**values)
