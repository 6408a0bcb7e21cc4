"""Host keys, and lines of known_hosts files."""

from __future__ import annotations

from functools import cache
from pathlib import Path

import asyncssh


@cache
def key(name: str = "a", kind: str = "ssh-ed25519") -> asyncssh.SSHKey:
    return asyncssh.generate_private_key(kind).convert_to_public()


def spell(found: asyncssh.SSHKey) -> str:
    return " ".join(found.export_public_key("openssh").decode().split()[:2])


def written(tmp_path: Path, *lines: str) -> list[Path]:
    file = tmp_path / "known_hosts"
    file.write_bytes("\n".join(lines).encode("utf-8", "surrogateescape"))
    return [file]
