"""Files reached by open directories, one name at a time and never through a link.

A path that led to the right place a moment ago may lead elsewhere now: a program moves a directory away and puts a link
in its place. So no path is handed to the system as a whole here. It is walked from the root down, each directory
opened below the one before it, and whatever is then done to a file names that open directory. The paths must be
absolute and without links to begin with, as a store's `resolve` makes them.

Runs here and on nodes: kept to the standard library and to what Python 3.6 understands.
"""

import errno
import os
import stat
import time
from contextlib import contextmanager
from typing import Dict, Iterator, List, Optional, Set, Tuple

#: What disks say that have no hard links.
NO_LINKS = (errno.EPERM, errno.EOPNOTSUPP)

#: What is said of a FIFO, a socket or a device where a file was to be opened.
NOT_REGULAR = "not a regular file"
_READ = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
#: To pass through a directory needs no right to list it, where the system has a way to say so.
_PASS = getattr(os, "O_PATH", os.O_RDONLY) | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC


def enter(path: bytes) -> int:
    """Open the directory at an absolute path. Returns its descriptor.

    Raises OSError: ELOOP where a link is on the way, ENOTDIR where something else is, ENOENT where nothing is.
    """
    try:
        return _walk(path, _PASS)
    except FileNotFoundError:
        # A disk that is only mounted on demand does not wake for those who merely pass.
        return _walk(path, _READ)


def _walk(path: bytes, flags: int) -> int:
    if not path.startswith(b"/"):
        raise OSError(errno.EINVAL, "not an absolute path", path)
    directory = os.open(b"/", flags)
    for name in path.split(b"/"):
        if name in (b"", b"."):
            continue
        try:
            below = open_below(directory, name, flags)
        finally:
            os.close(directory)
        directory = below
    return directory


def open_below(directory: int, name: bytes, flags: int = _PASS) -> int:
    """Open a directory in an open one. Raises OSError as `enter` does."""
    if name == b"..":
        raise OSError(errno.EINVAL, "a path that climbs", name)
    try:
        return os.open(name, flags, dir_fd=directory)
    except OSError as error:
        if error.errno == errno.ENOTDIR:
            found = look(directory, name)
            if found is not None and stat.S_ISLNK(found.st_mode):
                raise OSError(errno.ELOOP, os.strerror(errno.ELOOP), name) from None
        raise


@contextmanager
def parent_of(path: bytes) -> Iterator[Tuple[int, bytes]]:
    """The open directory that holds a path, and the path's last name."""
    above, name = os.path.split(path.rstrip(b"/"))
    if name in (b"", b".", b".."):
        raise OSError(errno.EINVAL, "not the path of an entry", path)
    directory = enter(above)
    try:
        yield directory, name
    finally:
        os.close(directory)


def look(directory: int, name: bytes) -> Optional[os.stat_result]:
    """The stat result of a name in an open directory, links not followed; None if nothing has it."""
    try:
        return os.stat(name, dir_fd=directory, follow_symlinks=False)
    except FileNotFoundError:
        return None


def look_at(path: bytes) -> os.stat_result:
    """The stat result of a path, links not followed. Raises OSError."""
    if not path.strip(b"/"):
        return os.lstat(b"/")
    with parent_of(path) as (directory, name):
        return os.stat(name, dir_fd=directory, follow_symlinks=False)


def look_in(path: bytes, names: List[bytes]) -> List[Optional[os.stat_result]]:
    """The stat results of names in a directory, links not followed; None for what is not there. Raises OSError."""
    directory = enter(path)
    try:
        return [look(directory, name) for name in names]
    finally:
        os.close(directory)


def open_regular(path: bytes, flags: int) -> int:
    """Open a regular file, never through a link, never waiting on a FIFO. Raises OSError."""
    with parent_of(path) as (directory, name):
        return open_regular_in(directory, name, flags)


def open_regular_in(directory: int, name: bytes, flags: int) -> int:
    """As `open_regular`, in an open directory."""
    descriptor = os.open(name, flags | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC, dir_fd=directory)
    if not stat.S_ISREG(os.fstat(descriptor).st_mode):
        os.close(descriptor)
        raise OSError(errno.EOPNOTSUPP, NOT_REGULAR)
    return descriptor


def create(path: bytes, mode: int) -> int:
    """Create a file for reading and writing. Raises OSError, EEXIST when the name is taken."""
    with parent_of(path) as (directory, name):
        return create_in(directory, name, mode)


def create_in(directory: int, name: bytes, mode: int) -> int:
    """As `create`, in an open directory."""
    flags = os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
    return os.open(name, flags, mode, dir_fd=directory)


class LastDirectory:
    """Opens files for reading one after the other; the directory of the last one stays open for the next.

    Files are mostly read directory by directory, and walking to each takes as long as reading a small one. A directory
    that is moved away meanwhile is read where it is now.
    """

    def __init__(self) -> None:
        self._path = b""
        self._directory = -1

    def enter(self, path: bytes) -> int:
        """The open directory at an absolute path, which is closed here. Raises OSError as `enter` does."""
        if self._directory < 0 or path != self._path:
            directory = enter(path)
            self.close()
            self._path, self._directory = path, directory
        return self._directory

    def open_regular(self, path: bytes) -> int:
        """A descriptor of a regular file, as `open_regular` gives it."""
        above, name = os.path.split(path)
        return open_regular_in(self.enter(above), name, os.O_RDONLY)

    def look_at(self, path: bytes) -> os.stat_result:
        """What has a path, links not followed. Raises OSError."""
        above, name = os.path.split(path.rstrip(b"/"))
        return os.stat(name, dir_fd=self.enter(above), follow_symlinks=False) if name else os.lstat(b"/")

    def read_link(self, path: bytes) -> bytes:
        """Where a link points. Raises OSError."""
        above, name = os.path.split(path)
        return os.readlink(name, dir_fd=self.enter(above))

    def close(self) -> None:
        """Close the directory."""
        directory, self._directory = self._directory, -1
        if directory >= 0:
            os.close(directory)

    def __del__(self) -> None:
        self.close()


class OpenDirectories:
    """Several directories that stay open while many files are worked on; none is entered twice.

    Whatever is done goes to the directory that was entered, though it be moved away meanwhile: `moved` tells.
    """

    def __init__(self) -> None:
        self._open: Dict[bytes, int] = {}

    def parent_of(self, path: bytes) -> Tuple[int, bytes]:
        """The open directory that holds a path, and the name in it. Raises OSError as `enter` does."""
        above, name = os.path.split(path)
        directory = self._open.get(above)
        if directory is None:
            directory = self._open[above] = enter(above)
        return directory, name

    def moved(self) -> Set[bytes]:
        """Paths that no longer lead to the directories that were entered by them."""
        found = set()
        for path, directory in self._open.items():
            try:
                now = enter(path)
            except OSError:
                found.add(path)
                continue
            if not is_same_file(os.fstat(now), os.fstat(directory)):
                found.add(path)
            os.close(now)
        return found

    def sync(self) -> None:
        """Sync every directory that is open, where its disk can."""
        for directory in self._open.values():
            try:
                sync_directory(directory)
            except OSError:
                pass  # the names are then as safe as the disk's own habits make them

    def close(self) -> None:
        """Close all of them."""
        for directory in self._open.values():
            os.close(directory)
        self._open.clear()


def open_to_list(path: bytes) -> int:
    """A descriptor of a directory that can be listed and synced. Raises OSError as `enter` does."""
    if not path.strip(b"/"):
        return os.open(b"/", _READ)
    with parent_of(path) as (directory, name):
        return open_below(directory, name, _READ)


def sync_directory(directory: int) -> None:
    """Sync an open directory, where its disk can. Raises OSError."""
    try:
        descriptor = os.open(b".", os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC, dir_fd=directory)
    except PermissionError:
        return  # one may write into it, but not list it
    try:
        os.fsync(descriptor)
    except OSError as error:
        if error.errno not in (errno.EINVAL, errno.EOPNOTSUPP):
            raise
    finally:
        os.close(descriptor)


def give_name(source: int, old: bytes, target: int, new: bytes) -> None:
    """Move an entry from one open directory to another, never replacing anything. Raises OSError.

    EEXIST when the name is taken.
    """
    try:
        os.link(old, new, src_dir_fd=source, dst_dir_fd=target, follow_symlinks=False)
    except OSError as error:
        if error.errno not in NO_LINKS:
            raise
        # A directory, or a disk without hard links: look, then rename. The moment between cannot be closed there.
        if look(target, new) is not None:
            raise FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST)) from None
        os.rename(old, new, src_dir_fd=source, dst_dir_fd=target)
    else:
        os.unlink(old, dir_fd=source)


def keep(source: int, name: bytes, target: int, kept: bytes) -> None:
    """Give what is about to be replaced a second name, by hard link, or by moving it where there are none.

    Raises OSError, EEXIST when the second name is taken.
    """
    try:
        os.link(name, kept, src_dir_fd=source, dst_dir_fd=target, follow_symlinks=False)
    except OSError as error:
        if error.errno not in NO_LINKS:
            raise
        give_name(source, name, target, kept)


def forget(directory: int, name: bytes) -> None:
    """Remove a name from an open directory, if it is there."""
    try:
        os.unlink(name, dir_fd=directory)
    except FileNotFoundError:
        pass


def facts(found: os.stat_result) -> List[int]:
    """Mode, size, mtime and ctime in ns, inode. A file that was changed or replaced differs in one of them."""
    return [found.st_mode, found.st_size, found.st_mtime_ns, found.st_ctime_ns, found.st_ino]


def is_same_file(one: Optional[os.stat_result], other: Optional[os.stat_result]) -> bool:
    """Whether two stat results are of the same file."""
    return one is not None and other is not None and (one.st_dev, one.st_ino) == (other.st_dev, other.st_ino)


def kind_of(found: os.stat_result) -> str:
    """The kind of a file as a word."""
    for test, kind in ((stat.S_ISREG, "file"), (stat.S_ISDIR, "directory"), (stat.S_ISLNK, "link")):
        if test(found.st_mode):
            return kind
    return "special file"


def time_ns() -> int:
    """The time in nanoseconds, also before Python 3.7."""
    return time.time_ns() if hasattr(time, "time_ns") else int(time.time() * 1e9)  # novermin


def sync_disk(descriptor: int) -> bool:
    """Sync the whole disk of an open file. Returns False where that cannot be trusted.

    Before Linux 5.8 it does not report errors.
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
