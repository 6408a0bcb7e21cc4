"""Checksum lists of a ledger, each a file under its own SHA-256. Anyone checks them with the standard commands."""

from __future__ import annotations

import hashlib
import os
import secrets
from collections.abc import Iterable, Iterator
from contextlib import suppress
from itertools import chain
from pathlib import Path

from yatagan.ledger.directory import LedgerDirectory
from yatagan.ledger.handles import LISTS
from yatagan.ledger.whole_writes import create, write_all

_BLOCK = 1 << 20


def write_list(directory: LedgerDirectory, lines: Iterable[bytes]) -> str:
    """Keep the lines of a checksum list, durably. Returns its SHA-256, or "" for no lines. Raises OSError."""
    rest = iter(lines)
    first = next(rest, None)
    if first is None:
        return ""
    files, new = directory.handles, f".new-{secrets.token_hex(8)}"
    try:
        descriptor = files.create(LISTS, new, directory.file_mode())
        try:
            digest, size = _write(descriptor, chain((first,), rest))
            if is_there(directory, digest, size):
                files.remove(LISTS, new)  # the same files were put on record before
                return digest
            os.fsync(descriptor)
        finally:
            os.close(descriptor)
        files.rename(LISTS, new, digest)
    except BaseException:
        with suppress(OSError):
            files.remove(LISTS, new)
        raise
    files.sync(LISTS)
    return digest


def is_there(directory: LedgerDirectory, digest: str, size: int | None = None) -> bool:
    """Whether a list, of so many bytes if that is known, is in the ledger.

    What another account has put there under this name is read: it may have been faster, or it may mean harm.
    """
    try:
        found = directory.handles.stat(LISTS, digest)
    except OSError:
        return False
    if found.st_uid == os.geteuid() and size is not None:
        return found.st_size == size
    return directory.list_digest(digest) == digest


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
