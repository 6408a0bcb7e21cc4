"""Checksum lists of a ledger, each a file under its own SHA-256. Anyone checks them with the standard commands."""

from __future__ import annotations

import hashlib
import os
import secrets
from collections.abc import Iterable, Iterator
from itertools import chain
from pathlib import Path

from yatagan.config.own_files import sync_directory
from yatagan.ledger.directory import LedgerDirectory
from yatagan.ledger.whole_writes import create, write_all

_BLOCK = 1 << 20


def write_list(directory: LedgerDirectory, lines: Iterable[bytes]) -> str:
    """Keep the lines of a checksum list, durably. Returns its SHA-256, or "" for no lines. Raises OSError."""
    rest = iter(lines)
    first = next(rest, None)
    if first is None:
        return ""
    new = directory.lists / f".new-{secrets.token_hex(8)}"
    try:
        descriptor = create(new, directory.file_mode())
        try:
            digest, size = _write(descriptor, chain((first,), rest))
            if _is_there(directory.lists / digest, size):
                new.unlink()  # the same files were put on record before
                return digest
            os.fsync(descriptor)
        finally:
            os.close(descriptor)
        os.replace(new, directory.lists / digest)
    except BaseException:
        new.unlink(missing_ok=True)
        raise
    sync_directory(directory.lists)
    return digest


def spool(file: Path, lines: Iterable[bytes]) -> str:
    """Write lines into a new file and sync it. Returns its SHA-256, or "" for no lines. Raises OSError."""
    descriptor = create(file, 0o600)
    try:
        digest, size = _write(descriptor, lines)
        os.fsync(descriptor)
    finally:
        os.close(descriptor)
    return digest if size else ""


def _write(descriptor: int, lines: Iterable[bytes]) -> tuple[str, int]:
    """Write lines; their SHA-256, and how many bytes they are."""
    value, size = hashlib.sha256(), 0
    for data in _blocks(lines):
        value.update(data)
        size += len(data)
        write_all(descriptor, data)
    return value.hexdigest(), size


def _blocks(lines: Iterable[bytes]) -> Iterator[bytes]:
    """The lines, many at a time."""
    held, size = list[bytes](), 0
    for line in lines:
        held.append(line)
        size += len(line)
        if size >= _BLOCK:
            yield b"".join(held)
            held, size = [], 0
    if held:
        yield b"".join(held)


def _is_there(file: Path, size: int) -> bool:
    try:
        return os.lstat(file).st_size == size
    except OSError:
        return False
