"""Whose signatures a group trusts: a file in the allowed-signers form of the OpenSSH key tool, and one of revoked keys.

    jo namespaces="yatagan-ledger",valid-before="20271231Z" ssh-ed25519 AAAA…

A key that is revoked is refused whenever it signed: a thief can write any time into a record. The dates of a key are
compared with the time of the record.
"""

from __future__ import annotations

import base64
import binascii
import fnmatch
import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import TypeVar

from yatagan.config.own_files import sync_directory
from yatagan.errors import BadConfig
from yatagan.ledger.signatures import NAMESPACE, BadSignature, Signature, SignatureFault, algorithm_of

T = TypeVar("T")

_OPTION = re.compile(r'([A-Za-z-]+)(?:="((?:[^"\\]|\\.)*)")?')
_OPTIONS = re.compile(r'((?:[A-Za-z-]+(?:="(?:[^"\\]|\\.)*")?,?)+)\s+(.*)')
_TIMES = {8: "%Y%m%d", 12: "%Y%m%d%H%M", 14: "%Y%m%d%H%M%S"}
_NAME = re.compile(r"[A-Za-z0-9._@+-]{1,80}")


@dataclass(frozen=True, slots=True)
class TrustedKey:
    """A line of the file: whose key it is, for which namespaces (patterns; empty: all), and from when to when."""

    names: tuple[str, ...]
    key: bytes
    namespaces: tuple[str, ...] = ()
    after: datetime | None = None
    before: datetime | None = None

    def refuses(self, when: datetime) -> SignatureFault | None:
        """Why it does not hold for a record of that time; None if it does."""
        if self.namespaces and not any(fnmatch.fnmatchcase(NAMESPACE, each) for each in self.namespaces):
            return SignatureFault.KEY_NOT_FOR_LEDGERS
        if self.after is not None and when < self.after:
            return SignatureFault.TOO_EARLY
        if self.before is not None and when >= self.before:
            return SignatureFault.TOO_LATE
        return None


class Signers:
    """The trusted keys of a group, and the revoked ones. `odd`: lines that are not understood, as (file, line)."""

    def __init__(self, allowed: Path, revoked: Path) -> None:
        self.odd: list[tuple[str, int]] = []
        self.keys = list(self._understood(allowed, parse_trusted))
        self.revoked = set(self._understood(revoked, public_key))

    def _understood(self, file: Path, read: Callable[[str], T]) -> Iterator[T]:
        """What `read` makes of the lines of a file; it raises ValueError for those that go to `odd`."""
        for number, line in _lines(file):
            try:
                yield read(line)
            except ValueError:
                self.odd.append((file.name, number))

    def name(self, signature: Signature, when: datetime) -> str:
        """Whose key has signed a record of that time; "" where no key is trusted. Raises BadSignature."""
        if signature.key in self.revoked:
            raise BadSignature(SignatureFault.REVOKED)
        if not self.keys:
            return ""
        refusal = SignatureFault.UNKNOWN_KEY
        for key in self.keys:
            if key.key == signature.key:
                found = key.refuses(when)
                if found is None:
                    return key.names[0]
                refusal = found
        raise BadSignature(refusal)


def parse_trusted(line: str) -> TrustedKey:
    """A line of an allowed-signers file. Raises ValueError for what is not understood, authorities among that."""
    names, _, rest = line.partition(" ")
    options: dict[str, str] = {}
    try:
        key = public_key(rest)
    except ValueError:
        match = _OPTIONS.match(rest.lstrip())
        if match is None:
            raise
        options = {name.lower(): value.replace('\\"', '"') for name, value in _OPTION.findall(match[1])}
        if set(options) - {"namespaces", "valid-after", "valid-before"}:
            raise
        key = public_key(match[2])
    namespaces = tuple(each for each in options.get("namespaces", "").split(",") if each)
    after, before = _moment(options, "valid-after"), _moment(options, "valid-before")
    return TrustedKey(tuple(names.strip('"').split(",")), key, namespaces, after, before)


def public_key(text: str) -> bytes:
    """The key, in wire form, of a line as in a `.pub` file. Raises ValueError."""
    words = text.split()
    if len(words) < 2:
        raise ValueError("no public key")
    try:
        data = base64.b64decode(words[1], validate=True)
    except binascii.Error as error:
        raise ValueError("no public key") from error
    if algorithm_of(data) != words[0].encode() or len(data) <= len(words[0]) + 4:
        raise ValueError("no public key")
    return data


def written_key(key: bytes) -> str:
    """The reverse of `public_key`."""
    return f"{algorithm_of(key).decode('ascii')} {base64.b64encode(key).decode('ascii')}"


def add_trusted(file: Path, name: str, key: bytes, after: datetime | None, before: datetime | None) -> None:
    """Add a line for a key. Raises ValueError for a name that makes no sense there, BadConfig for a disk that fails."""
    if not _NAME.fullmatch(name):
        raise ValueError(f"{name!r} is no name: letters, digits and . _ @ + - make one")
    options = [f'namespaces="{NAMESPACE}"']
    options += [
        f'{option}="{when.astimezone(UTC):%Y%m%d%H%M%SZ}"'
        for option, when in (("valid-after", after), ("valid-before", before))
        if when is not None
    ]
    _append(file, f"{name} {','.join(options)} {written_key(key)}\n")


def add_revoked(file: Path, key: bytes) -> None:
    """Add a revoked key. Raises BadConfig where it cannot be written."""
    _append(file, written_key(key) + "\n")


def _append(file: Path, line: str) -> None:
    try:
        file.parent.mkdir(parents=True, exist_ok=True)
        with file.open("a", encoding="utf-8") as stream:
            stream.write(line)
        sync_directory(file.parent)
    except OSError as error:
        raise BadConfig(str(file), f"cannot be written: {error.strerror}") from error


def _moment(options: dict[str, str], name: str) -> datetime | None:
    """A time as the key tool writes it; with Z in UTC, else in the zone of this machine. Raises ValueError."""
    text = options.get(name)
    if text is None:
        return None
    digits = text.removesuffix("Z")
    when = datetime.strptime(digits, _TIMES.get(len(digits), "%Y"))
    return when.replace(tzinfo=UTC) if text.endswith("Z") else when.astimezone()


def _lines(file: Path) -> Iterator[tuple[int, str]]:
    """The lines that say something, with their numbers. A file that is missing has none."""
    try:
        text = file.read_text(encoding="utf-8", errors="replace")
    except OSError:
        return
    for number, line in enumerate(text.splitlines(), 1):
        if line.strip() and not line.lstrip().startswith("#"):
            yield number, line.strip()
