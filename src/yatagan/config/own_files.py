"""Writing files of ours: whole or not at all, in directories that are this account's alone, whatever the umask."""

from __future__ import annotations

import errno
import os
from pathlib import Path

from yatagan.errors import BadConfig

_PRIVATE = 0o700


def make_private(directory: Path) -> None:
    """Make a directory and those above it that are missing, each for this account alone. Raises OSError."""
    missing, above = [], directory
    while not os.path.lexists(above):
        missing.append(above)
        above = above.parent
    for each in reversed(missing):
        try:
            os.mkdir(each, _PRIVATE)
        except FileExistsError:  # another process of ours was faster
            continue
    if not directory.is_dir():
        raise NotADirectoryError(errno.ENOTDIR, os.strerror(errno.ENOTDIR), str(directory))


def open_private(file: Path, flags: int) -> int:
    """Open a file of ours, made with mode 0600 where it is missing, in a directory that is made too. Raises OSError."""
    make_private(file.parent)
    return os.open(file, flags | os.O_CREAT | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600)


def sync_directory(directory: Path) -> None:
    """Sync a directory, so that names in it are durable. Raises OSError."""
    descriptor = os.open(directory, os.O_RDONLY | os.O_DIRECTORY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)


def write_whole(file: Path, text: str) -> None:
    """Write a small file atomically and durably. Raises BadConfig.

    Through a link of ours: who keeps settings in a repository of their own finds them changed there.
    """
    try:
        make_private(file.parent)
        replace_file(file.resolve(), text.encode("utf-8"), durable=True)
    except OSError as error:
        raise BadConfig(str(file), f"cannot be written: {error.strerror}") from error


def replace_file(file: Path, data: bytes, *, durable: bool) -> None:
    """Write a small file of mode 0600 atomically; synced only if `durable`. Raises OSError."""
    import tempfile  # which most commands can do without

    handle, temporary = tempfile.mkstemp(dir=file.parent, prefix=f".{file.stem}-")
    try:
        with os.fdopen(handle, "wb") as stream:
            stream.write(data)
            if durable:
                stream.flush()
                os.fsync(stream.fileno())
        os.replace(temporary, file)
        if durable:
            sync_directory(file.parent)
    except OSError:
        os.unlink(temporary)
        raise
