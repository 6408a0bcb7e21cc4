"""What this machine remembers of ledgers, in the state directory: whose writer it is, and what it has seen of others.

    HOST/seen                   the newest record of each writer's file that a check has seen
    HOST/LEDGER/writer.json     the name of the writer that this account and machine are in one ledger
    HOST/LEDGER/head            the newest record of its file; locked while one appends
    HOST/LEDGER/named           what its records have named of other writers' files
    HOST/LEDGER/waiting/        records that could not be written yet, with their checksum lists

HOST stands for this machine: a home on the network has a directory for each, so that two machines never write to one
file. LEDGER stands for a ledger's directory. Names of writers are random, so that what was seen of one holds in every
copy of the ledger.
"""

from __future__ import annotations

import contextlib
import fcntl
import getpass
import hashlib
import json
import os
import platform
import re
import secrets
import time
from collections.abc import Iterator
from functools import cache
from pathlib import Path
from typing import Any, NamedTuple

from yatagan.config.guarded_files import parse_json, read_small
from yatagan.config.own_files import make_private, replace_file
from yatagan.ledger.records import WRITER, Head

#: Bytes of one of these files: a line for each writer that was ever seen.
_LARGEST = 1 << 26
#: Seconds between looks at a lock that another process holds.
_LOOKS = 0.02


class OwnHead(NamedTuple):
    """The newest record that this machine has appended to its own file, and how many bytes the file had after it."""

    size: int
    head: Head


class LedgerMemory:
    """What is remembered for one ledger by this machine. Makes its directory when it first writes."""

    def __init__(self, state: Path, ledger: Path) -> None:
        self.state = state
        self._host = state / _host_key()
        real = os.path.realpath(ledger)
        self.directory = self._host / hashlib.sha256(os.fsencode(real)).hexdigest()[:16]
        self.waiting = self.directory / "waiting"
        self._ledger = real

    def writer(self) -> str | None:
        """The name of our writer; None before its first record."""
        found = _read(self.directory / "writer.json")
        name = found.get("writer", "")
        return name if isinstance(name, str) and WRITER.fullmatch(name) else None

    def new_writer(self, lock: int) -> str:
        """Make a name for our writer, to be used from now on. `lock` is held. Raises OSError."""
        account = re.sub(r"[^A-Za-z0-9_-]+", "-", user())[:40] or "account"
        name = f"{account}-{secrets.token_hex(8)}"
        data = json.dumps({"writer": name, "ledger": self._ledger}).encode()
        replace_file(self.directory / "writer.json", data, durable=True)
        os.ftruncate(lock, 0)
        return name

    @contextlib.contextmanager
    def locked(self, until: float) -> Iterator[int]:
        """Hold the lock of our writer; gives the open file of its head. `until`: a monotonic time.

        Raises OSError, TimeoutError among them.
        """
        make_private(self.directory)
        descriptor = os.open(self.directory / "head", os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        try:
            while True:
                try:
                    fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
                    break
                except BlockingIOError:
                    if time.monotonic() >= until:
                        raise TimeoutError("another process appends to it") from None
                    time.sleep(_LOOKS)
            yield descriptor
        finally:
            os.close(descriptor)

    def named(self) -> dict[str, OwnHead]:
        """What our records have named of other files, with the size that each file had."""
        return _heads(_bytes(self.directory / "named"))

    def keep_named(self, named: dict[str, OwnHead]) -> None:
        """Remember what our records have named. Raises OSError."""
        replace_file(self.directory / "named", _as_lines(named), durable=False)

    def seen(self) -> dict[str, Head]:
        """The newest record of every writer that any command of this account has seen, on whichever machine."""
        found: dict[str, Head] = {}
        for pattern in ("*/seen", "*/*/named", "*/*/head"):
            for file in self.state.glob(pattern):
                for writer, own in _heads(_bytes(file)).items():
                    _later(found, writer, own.head)
        return found

    def expected(self) -> set[str]:
        """The writers that this account knows to be in this ledger, on whichever machine."""
        found: set[str] = set()
        for directory in self.state.glob(f"*/{self.directory.name}"):
            found.update(_heads(_bytes(directory / "head")), _heads(_bytes(directory / "named")))
        return found

    def keep_seen(self, heads: dict[str, Head]) -> None:
        """Remember what was seen of writers; never less than before. Does nothing where that cannot be written."""
        file = self._host / "seen"
        known = {writer: own.head for writer, own in _heads(_bytes(file)).items()}
        merged = dict(known)
        for writer, head in heads.items():
            _later(merged, writer, head)
        if merged != known:
            with contextlib.suppress(OSError):
                make_private(self._host)
                lines = _as_lines({writer: OwnHead(0, head) for writer, head in merged.items()})
                replace_file(file, lines, durable=False)


def read_own_head(lock: int) -> tuple[str, OwnHead] | None:
    """Our writer and what `write_own_head` noted last; None if nothing was noted, or a crash has torn it."""
    return next(iter(_heads(os.pread(lock, 4096, 0)).items()), None)


def write_own_head(lock: int, writer: str, own: OwnHead) -> None:
    """Note the newest record of our own file. Raises OSError."""
    data = _as_lines({writer: own})
    os.pwrite(lock, data, 0)
    os.ftruncate(lock, len(data))


@cache
def user() -> str:
    """The name of this account, or its number where it has none."""
    try:
        return getpass.getuser()
    except (KeyError, OSError):
        return str(os.getuid())


def _host_key() -> str:
    """A name for this machine: names of hosts change and machine ids are cloned, so both are in it."""
    try:
        machine = Path("/etc/machine-id").read_text(errors="replace").strip()
    except OSError:
        machine = ""
    return hashlib.sha256(f"{platform.node()}\0{machine}".encode()).hexdigest()[:16]


def _later(heads: dict[str, Head], writer: str, head: Head) -> None:
    if writer not in heads or head.number > heads[writer].number:
        heads[writer] = head


def _heads(data: bytes) -> dict[str, OwnHead]:
    """The newest records of files, a line each: writer, size, number, digest. What is torn has none."""
    found = {}
    for line in data.decode("ascii", "replace").split("\n")[:-1]:
        try:
            writer, size, number, digest = line.split(" ")
            found[writer] = OwnHead(int(size), Head(int(number), digest))
        except ValueError:
            continue
    return found


def _as_lines(heads: dict[str, OwnHead]) -> bytes:
    lines = (f"{writer} {own.size} {own.head.number} {own.head.digest}\n" for writer, own in heads.items())
    return "".join(lines).encode("ascii")


def _read(file: Path) -> dict[str, Any]:
    """The fields of a small file; empty where it is missing or makes no sense. Raises OSError, NotBelieved."""
    try:
        fields = parse_json(_bytes(file))
    except ValueError:  # torn by a power cut: a new writer is safe
        return {}
    return fields if isinstance(fields, dict) else {}


def _bytes(file: Path) -> bytes:
    """What a small file holds; nothing where it is missing. Raises OSError, NotBelieved."""
    try:
        return read_small(file, ours=True, largest=_LARGEST)
    except FileNotFoundError:
        return b""
