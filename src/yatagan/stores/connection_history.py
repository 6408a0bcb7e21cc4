"""What earlier batches have measured of the connection to a node, so that the next one begins from there."""

from __future__ import annotations

import contextlib
import json
from dataclasses import asdict, dataclass
from pathlib import Path

from yatagan.config.guarded_files import parse_json, read_small
from yatagan.config.home import Home
from yatagan.config.own_files import write_whole
from yatagan.errors import BadConfig, NotBelieved


@dataclass(frozen=True, slots=True)
class ConnectionHistory:
    """A connection as it was: `lanes` that filled it, best `rate` in bytes a second, `round_trip` in seconds.

    `commands`: the node ran commands, so that contents need not come here to be hashed.
    """

    lanes: int = 1
    rate: float = 0.0
    round_trip: float = 0.0
    commands: bool = False


def recall(home: Home, node: str) -> ConnectionHistory:
    """What is known of the connection to a node; the defaults where nothing can be read."""
    try:
        found = parse_json(read_small(_file(home, node), ours=True))
        commands = found.get("commands") is True
        return ConnectionHistory(int(found["lanes"]), float(found["rate"]), float(found["round_trip"]), commands)
    except (OSError, ValueError, KeyError, TypeError, AttributeError, NotBelieved):
        return ConnectionHistory()


def remember(home: Home, node: str, history: ConnectionHistory) -> None:
    """Save it for the next batch, if possible."""
    with contextlib.suppress(OSError, BadConfig):
        write_whole(_file(home, node), json.dumps(asdict(history)) + "\n")


def _file(home: Home, node: str) -> Path:
    return home.connections / f"{node}.json"
