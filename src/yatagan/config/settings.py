"""The few settings that are not about a node, in `settings.toml`."""

from __future__ import annotations

import functools
import os
from collections.abc import Iterator
from dataclasses import dataclass, field, fields, replace
from pathlib import Path
from typing import Any

from yatagan.config.guarded_files import parse_toml, read_small
from yatagan.config.home import Home
from yatagan.config.notice_settings import NoticeSettings
from yatagan.config.own_files import write_whole
from yatagan.config.setting import Unit, keys_of, read_value, setting
from yatagan.config.units import parse_count
from yatagan.errors import BadConfig
from yatagan.near_names import nearest

#: The table that is a list of directories.
_ROOTS = "roots"


@dataclass(frozen=True, slots=True)
class ConnectionSettings:
    """How long to wait for a bad connection, in seconds, and how many processes may work on a fast one.

    `patience`: how long a batch tries to get a lost connection back, without any progress, before it
    stops as interrupted. `silence`: how long outstanding requests may stay without any answer.
    `keepalive`: how often the connection itself is tested. `shell`: how long a node's shell may take to start a
    command, before the node counts as one that runs none. `processes`: how many there may be besides a batch's own.
    """

    patience: float = setting(600.0, Unit.SECONDS)
    silence: float = setting(60.0, Unit.SECONDS)
    keepalive: float = setting(15.0, Unit.SECONDS)
    shell: float = setting(60.0, Unit.SECONDS)
    processes: int = setting(lambda: max(0, _processors() - 2), Unit.COUNT)


def _processors() -> int:
    """The processors of this machine that this process may use."""
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1


@dataclass(frozen=True, slots=True)
class LoginNodeSettings:
    """From which size (bytes) or expected time (seconds) on the plan warns of a login node."""

    size: int = setting(1_000_000_000, Unit.BYTES)
    time: float = setting(300.0, Unit.SECONDS)


@dataclass(frozen=True, slots=True)
class TreeSettings:
    """`entries`: the most entries that a command reads without asking."""

    entries: int = setting(2_000_000, Unit.COUNT)


@dataclass(frozen=True, slots=True)
class DiskSettings:
    """`reserve`: bytes that a stage leaves free at its destination."""

    reserve: int = setting(200_000_000, Unit.BYTES)


def _parse_path(text: str) -> str:
    """An absolute path, or "" for none. Raises ValueError."""
    if text and not text.startswith("/"):
        raise ValueError(f"{text!r} is no absolute path")
    return text


@dataclass(frozen=True, slots=True)
class LedgerSettings:
    """`directory`: the ledger's, "" for the user's own. `sign_with`: the SSH key that signs records, "" for none."""

    directory: str = setting("", Unit.TEXT, _parse_path)
    sign_with: str = setting("", Unit.TEXT, _parse_path)


def _parse_positive(text: str) -> int:
    """A count of at least one. Raises ValueError."""
    if (count := parse_count(text)) < 1:
        raise ValueError("it must be at least 1")
    return count


@dataclass(frozen=True, slots=True)
class QueueSettings:
    """`at_once`: how many batches of the queue are carried at once."""

    at_once: int = setting(2, Unit.COUNT, _parse_positive)


@dataclass(frozen=True, slots=True)
class AllowedRoots:
    """Directories of this machine, absolute, that commands may touch though they do not name them."""

    readable: tuple[str, ...] = ()
    writable: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Settings:
    """All settings that are not about one node: a table each, and the directories that are allowed."""

    connection: ConnectionSettings = field(default_factory=ConnectionSettings)
    login_node: LoginNodeSettings = LoginNodeSettings()
    tree: TreeSettings = TreeSettings()
    disk: DiskSettings = DiskSettings()
    queue: QueueSettings = QueueSettings()
    notice: NoticeSettings = field(default_factory=NoticeSettings)
    ledger: LedgerSettings = LedgerSettings()
    roots: AllowedRoots = AllowedRoots()

    def tables(self) -> dict[str, Any]:
        """The tables, by their names in the file."""
        named = {each.name.replace("_", "-"): getattr(self, each.name) for each in fields(self)}
        return {name: table for name, table in named.items() if name != _ROOTS}

    def every(self) -> Iterator[tuple[str, Unit, Any]]:
        """Every setting: its name as in `connection.patience`, what it counts, and its value."""
        for name, table in self.tables().items():
            for key, each in keys_of(table).items():
                yield f"{name}.{key}", each.metadata["unit"], getattr(table, each.name)


def load_settings(home: Home) -> Settings:
    """What settings.toml says, defaults where it is silent. Raises BadConfig."""
    file = home.settings_file
    return _read(file, _data(file))


def change_setting(home: Home, name: str, value: str) -> Settings:
    """Set one value, named as in `connection.patience`. Raises BadConfig for an unknown setting or a bad value."""
    table, _, key = name.partition(".")
    known = [each for each, _, _ in Settings().every()]
    if name not in known:
        meant = f"did you mean {near}? " if (near := nearest(name, known)) else ""
        raise BadConfig(name, "there is no such setting", f"{meant}there are {', '.join(known)}")
    return _change(home, table, key, value)


def allow_root(home: Home, root: str, *, writing: bool) -> Settings:
    """Allow commands to touch a directory (absolute), only to read or for writing as well. Raises BadConfig."""
    settings = withdraw_root(home, root)
    key = "writable" if writing else "readable"
    return _change(home, _ROOTS, key, sorted((*getattr(settings.roots, key), root)))


def withdraw_root(home: Home, root: str) -> Settings:
    """Take a directory from the list again. Raises BadConfig."""
    settings = load_settings(home)
    for key in ("readable", "writable"):
        roots = getattr(settings.roots, key)
        if root in roots:
            settings = _change(home, _ROOTS, key, [each for each in roots if each != root])
    return settings


def _change(home: Home, table: str, key: str, value: str | list[str]) -> Settings:
    """Write one value into the file; its comments stay."""
    import tomlkit  # which most commands, that only read, can do without

    file = home.settings_file
    data = _data(file)
    _read(file, data)
    document = tomlkit.parse(data)
    document.setdefault(table, tomlkit.table())[key] = value
    text = tomlkit.dumps(document)
    settings = _read(file, text.encode())
    write_whole(file, text)
    return settings


def _data(file: Path) -> bytes:
    try:
        return read_small(file, ours=True)
    except FileNotFoundError:
        return b""
    except OSError as error:
        raise BadConfig(str(file), str(error)) from error


@functools.lru_cache(maxsize=2)  # a command asks for them some ten times
def _read(file: Path, data: bytes) -> Settings:
    try:
        tables = parse_toml(data)
    except ValueError as error:
        raise BadConfig(str(file), str(error)) from error
    usual = Settings()
    known = (*usual.tables(), _ROOTS)
    if unknown := sorted(set(tables) - set(known)):
        raise BadConfig(str(file), f"unknown table {unknown[0]!r}", f"there are [{'], ['.join(known)}]")
    found = {name: _values(file, name, tables.get(name, {}), table) for name, table in usual.tables().items()}
    read = {name.replace("-", "_"): replace(usual.tables()[name], **values) for name, values in found.items()}
    return Settings(**read, roots=_roots(file, tables.get(_ROOTS, {})))


def _roots(file: Path, table: object) -> AllowedRoots:
    """The table of roots. Raises BadConfig."""
    if not isinstance(table, dict) or set(table) - {field.name for field in fields(AllowedRoots)}:
        raise BadConfig(str(file), "roots is no table of readable and writable directories")
    for roots in table.values():
        if not isinstance(roots, list) or not all(isinstance(each, str) and each.startswith("/") for each in roots):
            raise BadConfig(str(file), "roots: each must be a list of absolute paths")
    return AllowedRoots(**{name: tuple(roots) for name, roots in table.items()})


def _values(file: Path, name: str, table: object, usual: Any) -> dict[str, Any]:
    """The values of a table. Raises BadConfig."""
    if not isinstance(table, dict):
        raise BadConfig(str(file), f"{name} is no table")
    known, values = keys_of(usual), dict[str, Any]()
    for key, value in table.items():
        if key not in known:
            raise BadConfig(str(file), f"unknown setting {key!r}", f"[{name}] knows {', '.join(sorted(known))}")
        try:
            values[known[key].name] = read_value(known[key], value)
        except ValueError as error:
            raise BadConfig(str(file), f"{name}.{key}: {error}") from error
    return values
