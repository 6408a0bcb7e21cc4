"""Reading known_hosts files, in the format that sshd(8) documents ("SSH_KNOWN_HOSTS FILE FORMAT").

Each line is read on its own, so one damaged line never hides the others. A key is only decoded when its line names
the host that is looked up. Nothing here decides whether a key is accepted: `host_keys.py` does.
"""

from __future__ import annotations

import base64
import binascii
import hashlib
import hmac
import ipaddress
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path

import asyncssh

_REVOKED, _AUTHORITY = "@revoked", "@cert-authority"
#: Key types that must be readable; a line with another type is skipped, and not called damaged.
_TYPES = re.compile(r"ssh-(rsa|dss|ed25519|ed448)|ecdsa-sha2-nistp\d+")


@dataclass(frozen=True, slots=True)
class FoundKey:
    """A key, and where it was found, as `line N of FILE`."""

    key: asyncssh.SSHKey
    where: str


@dataclass(slots=True)
class KnownKeys:
    """What some files say of one host.

    `authorities` sign host certificates. `lost_revocations` are the places of lines that revoke a key which may be
    this host's, but cannot be read. `damaged` are the places of all other unreadable lines and files.
    """

    keys: list[FoundKey] = field(default_factory=list)
    authorities: list[FoundKey] = field(default_factory=list)
    revoked: list[FoundKey] = field(default_factory=list)
    lost_revocations: list[str] = field(default_factory=list)
    damaged: list[str] = field(default_factory=list)


def known_name(host: str, port: int) -> str:
    """A host as known_hosts files spell it: `[host]:port` where the port is not 22."""
    return host.lower() if port == 22 else f"[{host.lower()}]:{port}"


def look_up(files: Sequence[Path], hosts: Sequence[str], port: int) -> KnownKeys:
    """What the files say of a machine that goes by these names and addresses. Missing files say nothing.

    Lines for the name without the port count as well, but only where no line for the port holds a key.
    """
    with_port = [known_name(host, port) for host in hosts if host]
    without = [host.lower() for host in hosts if host] if port != 22 else []
    exact, loose = KnownKeys(), KnownKeys()
    for file in files:
        for number, line in _lines(file, exact.damaged):
            _read_line(line, f"line {number} of {file}", with_port, exact)
            _read_line(line, f"line {number} of {file}", without, loose)
    if not exact.keys and not exact.authorities:
        exact.keys, exact.authorities = loose.keys, loose.authorities
    # A revocation that says less precisely which port it means always counts.
    for where in loose.lost_revocations:
        if where not in exact.lost_revocations:
            exact.lost_revocations.append(where)
    exact.revoked += loose.revoked
    exact.damaged += [where for where in loose.damaged if where not in exact.damaged]
    return exact


def _lines(file: Path, damaged: list[str]) -> Iterator[tuple[int, str]]:
    """The numbered lines of a file that hold something. Bytes that are not UTF-8 stay as surrogates."""
    try:
        text = file.read_bytes().decode("utf-8", "surrogateescape")
    except FileNotFoundError:
        return
    except OSError as error:
        damaged.append(f"{file} ({error.strerror})")
        return
    for number, line in enumerate(text.split("\n"), 1):
        line = line.strip(" \t\r")
        if line and not line.startswith("#"):
            yield number, line


def _read_line(line: str, where: str, names: Sequence[str], found: KnownKeys) -> None:
    """Add what a line says of one of these names."""
    if not names:
        return
    marker = ""
    if line.startswith("@"):
        marker, _, line = line.partition(" ")
        line = line.lstrip()
    hosts, _, key = line.replace("\t", " ").partition(" ")
    kind = key.split()[0] if key.split() else ""
    unreadable = found.lost_revocations if marker == _REVOKED else found.damaged
    try:
        if not key.strip() or (marker and marker not in (_REVOKED, _AUTHORITY)):
            raise ValueError("a field is missing, or the marker is unknown")
        if not any(_names(hosts, name) for name in names):
            return
        decoded = FoundKey(asyncssh.import_public_key(key.strip()), where)
    except (ValueError, asyncssh.KeyImportError):
        if marker == _REVOKED or not kind or _TYPES.fullmatch(kind):
            unreadable.append(where)
        return
    target = {_REVOKED: found.revoked, _AUTHORITY: found.authorities}.get(marker, found.keys)
    target.append(decoded)


def _names(hosts: str, name: str) -> bool:
    """Whether the host field of a line stands for a name. Raises ValueError when the field cannot be read."""
    if hosts.startswith("|"):
        return _is_hash_of(hosts, name)
    named = False
    for pattern in hosts.lower().split(","):
        if _fits(pattern.removeprefix("!"), name):
            if pattern.startswith("!"):
                return False
            named = True
    return named


def _is_hash_of(hosts: str, name: str) -> bool:
    """Hashed names are `|1|SALT|HMAC-SHA1 of the name`, both in base64."""
    try:
        _, version, salt, digest = hosts.split("|")
        key, expected = base64.b64decode(salt, validate=True), base64.b64decode(digest, validate=True)
    except (ValueError, binascii.Error):
        raise ValueError("a hashed name that cannot be read") from None
    if version != "1" or len(expected) != hashlib.sha1().digest_size:
        raise ValueError("a hashed name of an unknown version")
    return hmac.compare_digest(hmac.new(key, name.encode("utf-8", "surrogateescape"), hashlib.sha1).digest(), expected)


def _fits(pattern: str, name: str) -> bool:
    """`*` and `?` stand for characters; a network, as in `10.0.0.0/8`, for the addresses in it."""
    if "/" in pattern:
        try:
            return ipaddress.ip_address(name) in ipaddress.ip_network(pattern, strict=False)
        except ValueError:
            return False
    translated = re.escape(pattern).replace(r"\*", ".*").replace(r"\?", ".")
    return re.fullmatch(translated, name, re.DOTALL) is not None
