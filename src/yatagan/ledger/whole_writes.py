"""Writing a ledger's files: all of the bytes, durably, or none."""

from __future__ import annotations

import os
from contextlib import suppress
from pathlib import Path


def create(file: Path, mode: int) -> int:
    """Make a new file of exactly this mode, open for writing. Raises OSError."""
    descriptor = os.open(file, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC, mode)
    os.fchmod(descriptor, mode)
    return descriptor


def write_all(descriptor: int, data: bytes) -> None:
    """Write all of the bytes. Raises OSError."""
    while data:
        data = data[os.write(descriptor, data) :]


def append_whole(descriptor: int, size: int, data: bytes) -> None:
    """Append to a file of `size` bytes and sync it, or leave it as it was. Raises OSError."""
    try:
        write_all(descriptor, data)
        os.fsync(descriptor)
    except OSError:
        with suppress(OSError):  # else the next record cuts off what is torn
            os.ftruncate(descriptor, size)
        raise
