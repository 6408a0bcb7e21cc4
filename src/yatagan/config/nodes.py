"""Nodes saved under short names, in `nodes.toml`."""

from __future__ import annotations

import re
from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path
from typing import Any

from yatagan.config.areas import Area, read_area
from yatagan.config.guarded_files import parse_toml, read_small
from yatagan.config.own_files import write_whole
from yatagan.config.units import parse_rate
from yatagan.errors import BadConfig, UnknownNode
from yatagan.places import NODE_NAME


class Role(StrEnum):
    """What a node is for."""

    TRANSFER = "transfer"
    LOGIN = "login"


#: Logins at once, at most: servers turn away more.
_MOST_LOGINS = 16
#: Batches that may be carried over one node at once.
_MOST_BATCHES = 64
_FINGERPRINT = re.compile(r"SHA256:[A-Za-z0-9+/]{43}=?")


@dataclass(frozen=True, slots=True)
class Node:
    """A remote machine under a short name.

    None means: not said here, so that `~/.ssh/config` and the defaults of SSH decide. `trust` are pins: fingerprints
    of the only host keys that the node may show; without any, the known_hosts files decide. Nodes of one `cluster` see
    the same disks. `logins`: how many there may be at once for one batch. `max_rate`, as in `20MB/s`, limits what
    batches take of the connection to it. `batches_at_once`: how many of the queue are carried over it.
    """

    name: str
    address: str
    port: int | None = None
    user: str | None = None
    key: str | None = None
    role: Role = Role.TRANSFER
    start: str | None = None
    trust: tuple[str, ...] = ()
    cluster: str | None = None
    logins: int | None = None
    max_rate: str | None = None
    areas: tuple[Area, ...] = ()
    batches_at_once: int = 1

    def __post_init__(self) -> None:
        for name in ("address", "user", "key", "start", "cluster", "max_rate"):
            if not isinstance(getattr(self, name), str | None):
                raise ValueError(f"{name} must be text")
        if not isinstance(self.port, int | None):
            raise ValueError("port must be a number")
        if self.max_rate is not None:
            parse_rate(self.max_rate)
        if self.logins is not None and not (isinstance(self.logins, int) and 0 < self.logins <= _MOST_LOGINS):
            raise ValueError(f"logins must be a number from 1 to {_MOST_LOGINS}")
        if not isinstance(self.batches_at_once, int) or not 0 < self.batches_at_once <= _MOST_BATCHES:
            raise ValueError(f"batches at once must be a number from 1 to {_MOST_BATCHES}")
        if not NODE_NAME.fullmatch(self.name):
            raise ValueError(f"{self.name!r} cannot be a node's name: letters, digits, - and _, at most 32")
        if not self.address or self.address.startswith("-") or any(c.isspace() or c in "/@" for c in self.address):
            raise ValueError(f"{self.address!r} is no address: give a host name or an IP address alone")
        if self.port is not None and not 0 < self.port < 65536:
            raise ValueError(f"port {self.port} is not between 1 and 65535")
        if self.cluster is not None and not NODE_NAME.fullmatch(self.cluster):
            raise ValueError(f"{self.cluster!r} cannot be a cluster's name: letters, digits, - and _, at most 32")
        for pin in self.trust:
            if not isinstance(pin, str) or not _FINGERPRINT.fullmatch(pin):
                raise ValueError(f"{pin!r} is no fingerprint: it looks like SHA256:… with 43 characters")

    @property
    def most_logins(self) -> int:
        """The most logins at once: few on login nodes, where people work."""
        return self.logins or (2 if self.role is Role.LOGIN else 8)

    @property
    def rate_cap(self) -> int | None:
        """`max_rate` in bytes a second."""
        return parse_rate(self.max_rate) if self.max_rate is not None else None

    def table(self) -> dict[str, Any]:
        """The node as a table of the file, without what was not given."""
        facts = {
            "address": self.address,
            "port": self.port,
            "user": self.user,
            "key": self.key,
            "role": self.role.value,
            "start": self.start,
            "trust": list(self.trust) or None,
            "cluster": self.cluster,
            "logins": self.logins,
            "max-rate": self.max_rate,
            "batches-at-once": self.batches_at_once if self.batches_at_once > 1 else None,
            "area": {area.name: area.table() for area in self.areas} or None,
        }
        return {key: value for key, value in facts.items() if value is not None}


class NodeBook:
    """The saved nodes of one user. Every change is written at once, atomically."""

    def __init__(self, file: Path) -> None:
        self.file = file
        try:
            data = read_small(file, ours=True)
        except FileNotFoundError:
            data = b""
        except OSError as error:
            raise BadConfig(str(file), str(error)) from error
        try:
            table = parse_toml(data)
        except ValueError as error:
            raise BadConfig(str(file), str(error)) from error
        self._text = data.decode("utf-8")
        nodes = table.get("node", {})
        if not isinstance(nodes, dict):
            raise BadConfig(str(file), "node is no table; a node is written [node.NAME]")
        self._nodes = {name: self._read(name, entry) for name, entry in nodes.items()}

    def _read(self, name: str, entry: object) -> Node:
        if not isinstance(entry, dict):
            raise BadConfig(str(self.file), f"[node.{name}] is no table")
        try:
            known = {**entry, "role": Role(entry.get("role", Role.TRANSFER))}
            areas = known.pop("area", {})
            known["max_rate"] = known.pop("max-rate", None)
            known["batches_at_once"] = known.pop("batches-at-once", 1)
            pins = known.pop("trust", ())
            known["trust"] = (pins,) if isinstance(pins, str) else tuple(pins)
            if not isinstance(areas, dict) or not all(isinstance(area, dict) for area in areas.values()):
                raise ValueError("area is no table; an area is written [node.NAME.area.NAME]")
            return Node(name, **known, areas=tuple(read_area(each, areas[each]) for each in sorted(areas)))
        except (TypeError, ValueError) as error:
            raise BadConfig(str(self.file), f"[node.{name}]: {error}") from error

    def __iter__(self) -> Any:
        return iter(self._nodes[name] for name in sorted(self._nodes))

    def __contains__(self, name: str) -> bool:
        return name in self._nodes

    def get(self, name: str) -> Node:
        """The node of this name. Raises UnknownNode."""
        try:
            return self._nodes[name]
        except KeyError:
            raise UnknownNode(name, tuple(sorted(self._nodes))) from None

    def put(self, node: Node) -> None:
        """Save a node, in place of one of the same name."""
        import tomlkit  # which most commands, that only read, can do without

        document = tomlkit.parse(self._text)
        tables = document.setdefault("node", tomlkit.table(is_super_table=True))
        entry = tomlkit.table()
        entry.update(node.table())
        tables[node.name] = entry
        self._nodes[node.name] = node
        self._write(tomlkit.dumps(document))

    def remove(self, name: str) -> Node:
        """Forget a node. Raises UnknownNode."""
        import tomlkit

        node = self.get(name)
        document = tomlkit.parse(self._text)
        del self._nodes[name]
        del document["node"][name]
        self._write(tomlkit.dumps(document))
        return node

    def _write(self, text: str) -> None:
        write_whole(self.file, text)
        self._text = text
