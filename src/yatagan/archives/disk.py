"""Names in one open directory, and the disk that they are on. Whatever is swapped above it makes no difference.

Kept to the standard library and to what Python 3.6 understands, since the helper learns it.
"""

import errno
import os
import stat
import time
from typing import Any, Optional

from yatagan.archives.tar import LINK, Member

#: What disks say that have no hard links.
NO_LINKS = (errno.EPERM, errno.EOPNOTSUPP)


def time_ns() -> int:
    """The time in nanoseconds, also before Python 3.7."""
    return time.time_ns() if hasattr(time, "time_ns") else int(time.time() * 1e9)


def look(directory: int, name: bytes) -> Optional[os.stat_result]:
    """What has a name in an open directory, links not followed; None when nothing has."""
    try:
        return os.stat(name, dir_fd=directory, follow_symlinks=False)
    except FileNotFoundError:
        return None


def identity(found: Optional[os.stat_result]) -> Any:
    """What changes when a file is changed or replaced."""
    return found and (found.st_mode, found.st_size, found.st_mtime_ns, found.st_ctime_ns, found.st_ino)


def kind_of(found: os.stat_result) -> str:
    """What it is, in a word."""
    for test, kind in ((stat.S_ISREG, "file"), (stat.S_ISDIR, "directory"), (stat.S_ISLNK, "link")):
        if test(found.st_mode):
            return kind
    return "special file"


def passes_for(found: os.stat_result, member: Member, directory: int, name: bytes) -> bool:
    """Whether what is there is the member, by size and time, or a link to the same."""
    if member.kind == LINK:
        return stat.S_ISLNK(found.st_mode) and os.readlink(name, dir_fd=directory) == member.target
    step = 1 if member.mtime_ns % 1_000_000_000 else 1_000_000_000
    return (
        stat.S_ISREG(found.st_mode)
        and found.st_size == member.size
        and found.st_mtime_ns // step == member.mtime_ns // step
    )


def give_name(directory: int, part: bytes, name: bytes) -> None:
    """Rename within a directory without ever replacing anything. Raises OSError."""
    try:
        os.link(part, name, src_dir_fd=directory, dst_dir_fd=directory)
    except OSError as error:
        if error.errno not in NO_LINKS:
            raise
        # A disk without hard links: look, then rename. The moment between cannot be closed there.
        if look(directory, name) is not None:
            raise FileExistsError(errno.EEXIST, "exists") from None
        os.rename(part, name, src_dir_fd=directory, dst_dir_fd=directory)
    else:
        os.unlink(part, dir_fd=directory)


def forget(directory: int, part: bytes) -> None:
    """Remove a name, if it is there."""
    try:
        os.unlink(part, dir_fd=directory)
    except FileNotFoundError:
        pass


def sync_disk(descriptor: int) -> bool:
    """Sync the disk that a file is on, all at once; False where that cannot be trusted.

    Before Linux 5.8 it does not tell of errors.
    """
    try:
        import ctypes

        version = tuple(int(part) for part in os.uname().release.split("-")[0].split(".")[:2])
        if os.uname().sysname != "Linux" or version < (5, 8):
            return False
        if ctypes.CDLL(None, use_errno=True).syncfs(descriptor) != 0:
            raise OSError(ctypes.get_errno(), os.strerror(ctypes.get_errno()))
    except (ImportError, AttributeError, ValueError):
        return False
    return True
