"""Host keys: known, unknown or changed.

Keys accepted through Yatagan live in a known_hosts file of its own; the user's
`~/.ssh/known_hosts` is read too and never written. The format is OpenSSH's.
"""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path

import asyncssh

from yatagan.config.home import Home


def fingerprint(key: asyncssh.SSHKey) -> str:
    """SHA-256 fingerprint as OpenSSH shows it (RFC 4648 base64 without padding)."""
    return key.get_fingerprint("sha256")


def known_name(host: str, port: int) -> str:
    """A host as known_hosts files spell it."""
    return host if port == 22 else f"[{host}]:{port}"


@dataclass(frozen=True, slots=True)
class Sight:
    """The key that a server showed, and what we knew of that server before."""

    host: str
    port: int
    fingerprint: str
    algorithm: str
    line: str
    expected: tuple[str, ...]


class KnownHosts:
    """Our known keys and the user's, as one."""

    def __init__(self, home: Home) -> None:
        self.file = home.known_hosts
        self._text = "\n".join(_read(file) for file in (self.file, home.ssh / "known_hosts"))
        self.entries = asyncssh.import_known_hosts(self._text)

    def see(self, host: str, addr: str, port: int, key: asyncssh.SSHKey) -> Sight:
        """What to tell of a key that is not among the trusted ones."""
        known = self.entries.match(host, addr, port)[0]
        public = key.export_public_key("openssh").decode().split()
        line = f"{known_name(host, port)} {public[0]} {public[1]}"
        expected = tuple(fingerprint(known_key) for known_key in known)
        return Sight(host, port, fingerprint(key), public[0], line, expected)


def accept(file: Path, line: str) -> None:
    """Remember a key. One line is appended and synced, so a torn write can spoil only itself."""
    file.parent.mkdir(parents=True, exist_ok=True)
    with file.open("a", encoding="utf-8") as stream:
        stream.write(line + "\n")
        stream.flush()
        os.fsync(stream.fileno())


def _read(file: Path) -> str:
    try:
        return file.read_text(encoding="utf-8", errors="replace")
    except OSError:
        return ""
