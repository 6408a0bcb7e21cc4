"""Whose signatures a group trusts: a file in the allowed-signers form of the OpenSSH key tool, and one of revoked keys.

    jo namespaces="yatagan-ledger",valid-before="20271231Z" ssh-ed25519 AAAA…

A key that is revoked is refused whenever it signed: a thief can write any time into a record. The dates of a key are
compared with the time of the record.
"""

from __future__ import annotations

import base64
import binascii
import fnmatch
import os
import re
import stat
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import TypeVar

from yatagan.errors import BadConfig
from yatagan.ledger.directory import LedgerDirectory
from yatagan.ledger.handles import ROOT
from yatagan.ledger.signatures import NAMESPACE, BadSignature, Signature, SignatureFault, algorithm_of
from yatagan.ledger.whole_writes import append_whole

T = TypeVar("T")

#: One option and what ends it. Read one after the other, in time that grows with the line.
_OPTION = re.compile(r'([A-Za-z-]++)(?:="((?:[^"\\]|\\.)*+)")?(,|\s++)')
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

    def __init__(self, allowed: bytes, revoked: bytes) -> None:
        self.odd: list[tuple[str, int]] = []
        self.keys = list(self._understood("allowed_signers", allowed, parse_trusted))
        self.revoked = set(self._understood("revoked_keys", revoked, public_key))

    @classmethod
    def of(cls, directory: LedgerDirectory) -> Signers:
        """Those of a ledger. Raises OSError, NotBelieved for a file that is there and cannot be read."""
        return cls(directory.keys("allowed_signers"), directory.keys("revoked_keys"))

    def _understood(self, name: str, data: bytes, read: Callable[[str], T]) -> Iterator[T]:
        """What `read` makes of the lines of a file; it raises ValueError for those that go to `odd`."""
        for number, line in enumerate(data.decode("utf-8", "replace").splitlines(), 1):
            if line.strip() and not line.lstrip().startswith("#"):
                try:
                    yield read(line.strip())
                except ValueError:
                    self.odd.append((name, number))

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
        options, rest = _options(rest.lstrip())
        if set(options) - {"namespaces", "valid-after", "valid-before"}:
            raise
        key = public_key(rest)
    namespaces = tuple(each for each in options.get("namespaces", "").split(",") if each)
    after, before = _moment(options, "valid-after"), _moment(options, "valid-before")
    return TrustedKey(tuple(names.strip('"').split(",")), key, namespaces, after, before)


def _options(text: str) -> tuple[dict[str, str], str]:
    """The options at the beginning of a line's rest, by name, and what follows them. Raises ValueError."""
    options: dict[str, str] = {}
    at, more = 0, True
    while more:
        match = _OPTION.match(text, at)
        if match is None:
            raise ValueError("no option")
        options[match[1].lower()] = (match[2] or "").replace('\\"', '"')
        at, more = match.end(), match[3] == ","
    return options, text[at:]


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


def add_trusted(
    ledger: LedgerDirectory, name: str, key: bytes, after: datetime | None, before: datetime | None
) -> None:
    """Add a line for a key. Raises ValueError for a name that makes no sense there, BadConfig for a disk that fails."""
    if not _NAME.fullmatch(name):
        raise ValueError(f"{name!r} is no name: letters, digits and . _ @ + - make one")
    options = [f'namespaces="{NAMESPACE}"']
    options += [
        f'{option}="{when.astimezone(UTC):%Y%m%d%H%M%SZ}"'
        for option, when in (("valid-after", after), ("valid-before", before))
        if when is not None
    ]
    _append(ledger, "allowed_signers", f"{name} {','.join(options)} {written_key(key)}\n")


def add_revoked(ledger: LedgerDirectory, key: bytes) -> None:
    """Add a revoked key. Raises BadConfig where it cannot be written."""
    _append(ledger, "revoked_keys", written_key(key) + "\n")


def _append(ledger: LedgerDirectory, name: str, line: str) -> None:
    """Add a line; all who may read the ledger may read the file, whatever the umask."""
    try:
        ledger.make()
        mode = ledger.file_mode()
        descriptor = ledger.handles.open_file(ROOT, name, os.O_RDWR | os.O_APPEND | os.O_CREAT, mode)
        try:
            found = os.fstat(descriptor)
            if found.st_uid == os.geteuid() and found.st_mode & mode != mode:
                os.fchmod(descriptor, stat.S_IMODE(found.st_mode) | mode)
            torn = found.st_size and os.pread(descriptor, 1, found.st_size - 1) != b"\n"
            append_whole(descriptor, found.st_size, b"\n" * bool(torn) + line.encode())
        finally:
            os.close(descriptor)
        ledger.handles.sync(ROOT)
    except OSError as error:
        raise BadConfig(str(ledger.path / name), f"cannot be written: {error.strerror}") from error


def _moment(options: dict[str, str], name: str) -> datetime | None:
    """A time as the key tool writes it; with Z in UTC, else in the zone of this machine. Raises ValueError."""
    text = options.get(name)
    if text is None:
        return None
    digits = text.removesuffix("Z")
    when = datetime.strptime(digits, _TIMES.get(len(digits), "%Y"))
    return when.replace(tzinfo=UTC) if text.endswith("Z") else when.astimezone()
