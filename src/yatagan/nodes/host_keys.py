"""Host keys: which key a node may show, and what is wrong with any other.

A node with pins (`--trust`) may show those keys and no others, whatever the files say. Without pins the known_hosts
files decide: Yatagan's own, the user's, and the system's. A key that one of them revokes is never accepted.

A server shows one key on each connection: of the first type, in the order of the request, that it has. So a node
that shows the wrong key may have the right one as well, of another type; `HostKeys.another` says when it is worth
asking for that on a further connection.
"""

from __future__ import annotations

import os
from collections.abc import Sequence
from fnmatch import fnmatchcase
from pathlib import Path

import asyncssh
from asyncssh.public_key import get_default_certificate_algs, get_default_public_key_algs, get_public_key_algs

from yatagan.config.own_files import make_private
from yatagan.errors import CannotReach, ChangedHostKey, RevokedHostKey, UnknownHostKey, UnpinnedHostKey
from yatagan.nodes.known_hosts import FoundKey, KnownKeys, known_name, look_up

#: Which of its keys a server is asked for first: the one that sites publish, as OpenSSH asks for it too.
_PREFERRED = ("ssh-ed25519", "ecdsa-sha2-nistp", "rsa-sha2-")
#: Whether the library looks for a revoked key inside a certificate, too. Without that certificates do not count where
#: any key of the host is revoked.
_SEES_REVOKED = tuple(int(part) for part in asyncssh.__version__.split(".")[:3]) >= (2, 24, 1)
#: Connections on which a server is asked for its keys, at most: it has one key of each type.
_CONNECTIONS = 6


def fingerprint(key: asyncssh.SSHKey) -> str:
    """SHA-256 fingerprint as OpenSSH shows it (RFC 4648 base64 without padding)."""
    return key.get_fingerprint("sha256")


class HostKeys:
    """Judges the host keys of one node, for one login.

    `files` are known_hosts files, the first of them Yatagan's own; `pins` are fingerprints; `asked` is the user's
    `HostKeyAlgorithms`. After a refusal `objection` is the error to raise.
    """

    def __init__(self, node: str, pins: Sequence[str], files: Sequence[Path], asked: str = "") -> None:
        self._node = node
        self._pins = tuple(pin.rstrip("=") for pin in pins)
        self._files = files
        self._possible = _requested(asked)
        self._shown: set[str] = set()
        self._wanted: list[str] | None = None
        self._certificates = True
        self._found = KnownKeys()
        self.objection: CannotReach | None = None

    @property
    def damaged(self) -> list[str]:
        """The lines and files that could not be read, after the last look-up."""
        return self._found.damaged

    def look_up(self, hosts: Sequence[str], port: int) -> KnownKeys:
        """Read the known keys of a host with these names. Certificates count only if nothing is pinned."""
        self._found = look_up(self._files, hosts, port)
        revoked = [each.key for each in self._found.revoked]
        self._found.authorities = [each for each in self._found.authorities if each.key not in revoked]
        unseen = bool(revoked) and not _SEES_REVOKED
        if self._pins or self._found.lost_revocations or not self._certificates or unseen:
            self._found.authorities.clear()
        return self._found

    def algorithms(self) -> list[str]:
        """Signature algorithms for the next connection, those of acceptable keys first."""
        if self._wanted is not None:
            return self._wanted
        known = [_type_of(found.key) for found in self._found.keys] if not self._pins else []
        first = [name for name in self._possible if _type_of_algorithm(name) in known]
        plain = [*first, *(name for name in self._possible if name not in first)]
        signed = [name.decode("ascii") for name in get_default_certificate_algs()] if self._found.authorities else []
        return [*signed, *plain]

    def accepts(self, host: str, port: int, key: asyncssh.SSHKey) -> bool:
        """Whether the node may show this key; if not, `objection` says why. A pinned key is remembered."""
        self._shown.add(_type_of(key))
        self.objection = self._object(host, port, key)
        if self.objection is None and self._pins and not self._found.keys and self._files:
            accept(self._files[0], _line(host, port, key))
        return self.objection is None

    def another(self) -> bool:
        """Whether a further connection may show a key that is accepted; `algorithms` then asks for that."""
        if self.objection is None:
            # The server's certificate was not accepted: its plain key may be known.
            again, self._certificates = self._certificates and bool(self._found.authorities), False
            self._found.authorities.clear()
            return again
        if isinstance(self.objection, RevokedHostKey) or len(self._shown) >= _CONNECTIONS:
            return False
        known = {_type_of(found.key) for found in self._found.keys}
        types = {_type_of_algorithm(name) for name in self._possible} if self._pins else known
        self._wanted = [name for name in self._possible if _type_of_algorithm(name) in types - self._shown]
        return bool(self._wanted)

    def _object(self, host: str, port: int, key: asyncssh.SSHKey) -> CannotReach | None:
        found, shown, name = self._found, fingerprint(key), known_name(host, port)
        if revoked := _place_of(key, found.revoked):
            return RevokedHostKey(self._node, name, shown, revoked)
        if found.lost_revocations:
            return CannotReach(
                self._node,
                "host-key",
                f"{found.lost_revocations[0]} revokes a key that may be this one, but cannot be read",
                remedy="correct that line or remove it",
                passing=False,
            )
        if self._pins:
            if shown in self._pins:
                return None
            return UnpinnedHostKey(self._node, name, shown, self._pins, _place_of(key, found.keys))
        if _place_of(key, found.keys):
            return None
        if found.keys:
            expected = tuple(fingerprint(each.key) for each in found.keys)
            return ChangedHostKey(self._node, name, shown, expected, found.keys[0].where)
        return UnknownHostKey(self._node, name, shown, _type_of(key), _line(host, port, key))


def _place_of(key: asyncssh.SSHKey, among: Sequence[FoundKey]) -> str:
    """Where a key was found; "" if it is not among these."""
    return next((found.where for found in among if found.key == key), "")


def _type_of(key: asyncssh.SSHKey) -> str:
    return key.algorithm.decode("ascii")


def _type_of_algorithm(name: str) -> str:
    """The key type of a signature algorithm: RSA keys have several (RFC 8332)."""
    return "ssh-rsa" if name.startswith(("rsa-sha2-", "ssh-rsa")) else name


def _requested(asked: str) -> list[str]:
    """Signature algorithms of host keys, as `HostKeyAlgorithms` of ssh_config(5) changes the default."""
    possible = [name.decode("ascii") for name in get_public_key_algs()]
    default = [name.decode("ascii") for name in get_default_public_key_algs()]
    default.sort(key=lambda name: next((at for at, each in enumerate(_PREFERRED) if name.startswith(each)), 9))
    if not asked:
        return default
    sign, patterns = (asked[0], asked[1:]) if asked[0] in "^+-" else ("", asked)
    named = [name for pattern in patterns.split(",") for name in possible if fnmatchcase(name, pattern)]
    match sign:
        case "^":
            chosen = [*named, *default]
        case "+":
            chosen = [*default, *named]
        case "-":
            chosen = [name for name in default if name not in named]
        case _:
            chosen = named
    return list(dict.fromkeys(chosen)) or default


def _line(host: str, port: int, key: asyncssh.SSHKey) -> str:
    kind, data, *_ = key.export_public_key("openssh").decode().split()
    return f"{known_name(host, port)} {kind} {data}"


def accept(file: Path, line: str) -> None:
    """Remember a key. One line is appended and synced, so a torn write can spoil only itself."""
    make_private(file.parent)
    descriptor = os.open(file, os.O_RDWR | os.O_APPEND | os.O_CREAT | os.O_CLOEXEC, 0o600)
    with os.fdopen(descriptor, "rb+") as stream:
        # A line that was torn off must not swallow this one.
        torn = stream.seek(0, os.SEEK_END) and os.pread(stream.fileno(), 1, stream.tell() - 1) != b"\n"
        stream.write(b"\n" * bool(torn) + line.encode() + b"\n")
        stream.flush()
        os.fsync(stream.fileno())
