"""A disk that forgets: what a practice node's power cut undoes.

A disk writes in its own time. What was not synced before the power goes may be there afterwards, or
not, or in part. Here it is remembered what clients have written and named since the last sync. When the power goes,
some of that is taken back, drawn from a seed: written extents become zeros, names are as they were before, and files
that were replaced are there again. In one directory names are taken back in the reverse order of their making, as a
disk with a journal does it.
"""

from __future__ import annotations

import contextlib
import os
import random
import shutil
from collections import defaultdict
from collections.abc import Callable
from pathlib import Path


class ForgetfulDisk:
    """What clients have done to the files of one node and not synced. `aside`: where replaced files are held."""

    def __init__(self, aside: Path) -> None:
        self._aside = aside
        self._number = 0
        #: By inode: a descriptor of our own, and the extents written.
        self._written: dict[tuple[int, int], tuple[int, list[tuple[int, int]]]] = {}
        #: By inode: the name that clients have given it last.
        self._names: dict[tuple[int, int], str] = {}
        self._named: dict[bytes, list[Callable[[], None]]] = defaultdict(list)

    def wrote(self, descriptor: int, offset: int, size: int) -> None:
        """Bytes were written to an open file."""
        key = _inode(descriptor)
        if key not in self._written:
            self._written[key] = (os.dup(descriptor), [])
            self._names[key] = _name(descriptor)
        self._written[key][1].append((offset, size))

    def synced(self, descriptor: int) -> None:
        """An open file was synced."""
        if (found := self._written.pop(_inode(descriptor), None)) is not None:
            os.close(found[0])

    def synced_directory(self, path: bytes) -> None:
        """A directory was synced: the names in it stay."""
        self._named.pop(path, None)

    def made(self, path: bytes) -> None:
        """A directory or a link got a name that was free."""
        self._named[os.path.dirname(path)].append(lambda: _forget(path))

    def renaming(self, old: bytes, new: bytes) -> None:
        """A name is about to change. What has the new name is held aside, so that it can come back."""
        before: Path | None = None
        if os.path.lexists(new):
            self._aside.mkdir(parents=True, exist_ok=True)
            self._number += 1
            before = self._aside / str(self._number)
            os.link(new, before, follow_symlinks=False)
        found = os.lstat(old)
        inode = found.st_ino
        if (key := (found.st_dev, inode)) in self._names:
            self._names[key] = os.fsdecode(new)

        def undo() -> None:
            with contextlib.suppress(FileNotFoundError):
                if os.lstat(new).st_ino == inode and not os.path.lexists(old):
                    os.rename(new, old)
                    if before is not None:
                        os.rename(before, new)

        self._named[os.path.dirname(new)].append(undo)

    def lose_power(self, seed: int) -> None:
        """Forget some of what was not synced."""
        rng = random.Random(seed)
        for key, (descriptor, extents) in self._written.items():
            # What commands have named, they have synced before.
            if _name(descriptor) == self._names[key]:
                _zero(descriptor, [extent for extent in extents if rng.random() < 0.5])
            os.close(descriptor)
        for undone in self._named.values():
            for _ in range(rng.randint(0, len(undone))):
                with contextlib.suppress(OSError):  # what was in it has gone otherwise
                    undone.pop()()
        self._written.clear()
        self._names.clear()
        self._named.clear()
        shutil.rmtree(self._aside, ignore_errors=True)


class OpenDirectory:
    """A directory that was opened as if it were a file, to be synced."""

    def __init__(self, path: bytes) -> None:
        self.path = path
        self._descriptor = os.open(path, os.O_RDONLY | os.O_DIRECTORY)

    def fileno(self) -> int:
        return self._descriptor

    def flush(self) -> None:
        pass

    def close(self) -> None:
        os.close(self._descriptor)


def _zero(descriptor: int, extents: list[tuple[int, int]]) -> None:
    """Make extents zeros, and show nothing of that in the times."""
    found = os.fstat(descriptor)
    for offset, size in extents:
        os.pwrite(descriptor, bytes(size), offset)
    os.utime(descriptor, ns=(found.st_atime_ns, found.st_mtime_ns))


def _name(descriptor: int) -> str:
    """The present name of an open file; "" where the system does not say."""
    try:
        return os.readlink(f"/proc/self/fd/{descriptor}")
    except OSError:
        return ""


def _inode(descriptor: int) -> tuple[int, int]:
    found = os.fstat(descriptor)
    return found.st_dev, found.st_ino


def _forget(path: bytes) -> None:
    """A name is gone, and all below it."""
    if os.path.isdir(path) and not os.path.islink(path):
        shutil.rmtree(path, ignore_errors=True)
    else:
        os.unlink(path)
