"""What kind of disk a directory is on."""

from __future__ import annotations

import os
from pathlib import Path

#: File systems of other machines, and of memory, by the names that /proc/mounts gives them.
_NETWORK = ("nfs", "cifs", "smb", "lustre", "gpfs", "beegfs", "ceph", "fuse.", "afs", "9p", "panfs")
_MEMORY = ("tmpfs", "ramfs")


def file_system(path: Path) -> str:
    """The kind of the file system that a path is on, as /proc/mounts names it; "" where that cannot be known."""
    try:
        mounts = Path("/proc/mounts").read_text(encoding="utf-8", errors="surrogateescape").splitlines()
    except OSError:
        return ""
    best, kind = "", ""
    real = os.path.realpath(path)
    for line in mounts:
        fields = line.split(" ")
        point = fields[1].replace("\\040", " ")
        if (real == point or real.startswith(point.rstrip("/") + "/")) and len(point) >= len(best):
            best, kind = point, fields[2]
    return kind


def on_network(path: Path) -> bool:
    """Whether a directory is on another machine's disk."""
    return file_system(path).startswith(_NETWORK)


def in_memory(path: Path) -> bool:
    """Whether a directory is gone when the machine restarts."""
    return file_system(path).startswith(_MEMORY)
