"""Checksum lists of a ledger, each a file under its own SHA-256. Anyone checks them with the standard commands."""

from __future__ import annotations

import hashlib
import os
import secrets
from collections.abc import Iterable
from pathlib import Path

from yatagan.config.home import sync_directory
from yatagan.ledger.directory import LedgerDirectory


def write_list(directory: LedgerDirectory, lines: Iterable[bytes]) -> str:
    """Keep the lines of a checksum list, durably. Returns its SHA-256, or "" for no lines. Raises OSError."""
    new = directory.lists / f".new-{secrets.token_hex(8)}"
    try:
        digest = spool(new, lines, directory.file_mode())
        if not digest:
            new.unlink()
            return ""
        os.replace(new, directory.lists / digest)
    except BaseException:
        new.unlink(missing_ok=True)
        raise
    sync_directory(directory.lists)
    return digest


def spool(file: Path, lines: Iterable[bytes], mode: int = 0o600) -> str:
    """Write lines into a new file and sync it. Returns its SHA-256, or "" for no lines. Raises OSError."""
    value, empty = hashlib.sha256(), True
    descriptor = os.open(file, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC, mode)
    with os.fdopen(descriptor, "wb") as stream:
        for line in lines:
            empty = False
            value.update(line)
            stream.write(line)
        stream.flush()
        os.fchmod(descriptor, mode)
        os.fsync(descriptor)
    return "" if empty else value.hexdigest()
