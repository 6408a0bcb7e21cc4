"""Giving a part file its final name: the last look at it, its facts, and the rename that makes it count.

The part file is known by an open descriptor, so it does not matter what its name stands for by now: whatever is under
that name and is not the open file, or was changed since it was proven, gets no final name. The same goes for the
directory, which is entered without following a link.

Runs here and on nodes: kept to the standard library and to what Python 3.6 understands.
"""

import errno
import os
import stat
from typing import List, NamedTuple, Optional

from yatagan.portable.directories import (
    forget,
    give_name,
    is_same_file,
    keep,
    look,
    open_regular_in,
    parent_of,
    sync_directory,
    time_ns,
)

#: The error when the part file is not what it was: changed, replaced or gone. It must be carried anew.
PART_CHANGED = errno.ESTALE
#: The error when another file has the name under which the replaced one should be kept.
KEPT_TAKEN = errno.EBUSY

#: Facts as lists: mode with the kind's bits, size, mtime in ns, and ctime in ns and inode where they are known.
KnownFacts = List[Optional[int]]


class Placing(NamedTuple):
    """What becomes of a part file.

    `known` are the facts by which it was proven, None where it was not looked at. `mode` (permission bits) and
    `mtime_ns` are set, None leaves them. `seen` are the facts of the file that is replaced, None where the name must be
    free; that file is kept under `kept`, whose directory exists.
    """

    part: bytes
    path: bytes
    size: int
    known: Optional[KnownFacts]
    mode: Optional[int]
    mtime_ns: Optional[int]
    seen: Optional[KnownFacts]
    kept: bytes


def place_by_name(wanted: Placing) -> int:
    """As `place`, for a part file that is not open yet."""
    with parent_of(wanted.part) as (directory, name):
        try:
            try:
                descriptor = open_regular_in(directory, name, os.O_RDONLY)
            except PermissionError:
                descriptor = open_regular_in(directory, name, os.O_WRONLY)  # an earlier try has set its mode already
        except OSError as error:
            if error.errno not in (errno.ENOENT, errno.ELOOP, errno.EOPNOTSUPP, errno.EISDIR):
                raise
            raise OSError(PART_CHANGED, "the part file is gone, or something else has its name") from None
    try:
        return place(descriptor, wanted)
    finally:
        os.close(descriptor)


def place(descriptor: int, wanted: Placing) -> int:
    """Set the facts of an open part file and give it its final name; the number of the error if facts stay unset, or 0.

    Raises OSError and does nothing: PART_CHANGED, KEPT_TAKEN, or EEXIST where the name is taken by something that was
    not seen. Doing it again after a crash does no harm.
    """
    with parent_of(wanted.path) as (directory, name):
        part = os.path.basename(wanted.part)
        if _is_placed(descriptor, directory, part, name):
            forget(directory, part)
            sync_directory(directory)
            return 0
        _check_part(descriptor, directory, part, wanted)
        unset = set_facts(descriptor, wanted.mode, wanted.mtime_ns)
        found = look(directory, name)
        if wanted.seen is None or found is None:
            give_name(directory, part, directory, name)
            _verify(descriptor, directory, name, made=True)
        else:
            _keep(directory, name, found, wanted)
            os.rename(part, name, src_dir_fd=directory, dst_dir_fd=directory)
            _verify(descriptor, directory, name, made=False)
        sync_directory(directory)
        return unset


def _is_placed(descriptor: int, directory: int, part: bytes, name: bytes) -> bool:
    """Whether the final name is the open file already, because we were killed before the part name was removed."""
    now, there = os.fstat(descriptor), look(directory, part)
    return is_same_file(look(directory, name), now) and (there is None or is_same_file(there, now))


def _check_part(descriptor: int, directory: int, part: bytes, wanted: Placing) -> None:
    """Raise OSError, PART_CHANGED, unless the part file's one name is the open file, complete and unchanged."""
    now = os.fstat(descriptor)
    if not is_same_file(look(directory, part), now):
        raise OSError(PART_CHANGED, "something else has the part file's name")
    if now.st_size != wanted.size or now.st_nlink != 1:
        raise OSError(PART_CHANGED, "the part file has another size, or a second name")
    if wanted.known is not None and not agrees(now, wanted.known):
        raise OSError(PART_CHANGED, "the part file was changed after it was proven")


def _verify(descriptor: int, directory: int, name: bytes, made: bool) -> None:
    """Check that the named file is ours, since the part name may have been swapped; if we `made` it, remove it else."""
    if not is_same_file(look(directory, name), os.fstat(descriptor)):
        if made:
            forget(directory, name)
        raise OSError(PART_CHANGED, "something else had the part file's name")


def _keep(directory: int, name: bytes, found: os.stat_result, wanted: Placing) -> None:
    """Keep the file that is replaced. Raises OSError, EEXIST when it is not the one that was seen."""
    assert wanted.seen is not None
    with parent_of(wanted.kept) as (below, kept):
        there = look(below, kept)
        if is_same_file(there, found):
            return  # an earlier try came so far
        if not agrees(found, wanted.seen):
            raise OSError(errno.EEXIST, "it is not what was there")
        if there is not None:
            raise OSError(KEPT_TAKEN, "another file is kept under this name")
        keep(directory, name, below, kept)
        sync_directory(below)


def agrees(found: os.stat_result, known: KnownFacts) -> bool:
    """Whether a file has these facts, as far as they are known. Without a ctime, times count in whole seconds."""
    mode, size, mtime_ns, changed_ns, inode = known
    if stat.S_IFMT(found.st_mode) != stat.S_IFMT(mode or 0) or found.st_size != size or mtime_ns is None:
        return False
    if changed_ns is None:
        return found.st_mtime_ns // 1000000000 == mtime_ns // 1000000000
    return (found.st_mtime_ns, found.st_ctime_ns, found.st_ino) == (mtime_ns, changed_ns, inode)


def set_by_name(path: bytes, mode: Optional[int], mtime_ns: Optional[int]) -> int:
    """Set mode and modification time of a file or directory. Returns an error number, or 0. Raises OSError for a link.

    It is never opened, so that no right to read it is needed: an open name is all that the system wants (open(2),
    O_PATH), and no link can take its place meanwhile.
    """
    with parent_of(path) as (directory, name):
        descriptor = os.open(name, getattr(os, "O_PATH", os.O_RDONLY) | os.O_NOFOLLOW | os.O_CLOEXEC, dir_fd=directory)
        try:
            kind = os.fstat(descriptor).st_mode
            if not (stat.S_ISREG(kind) or stat.S_ISDIR(kind)):
                raise OSError(errno.ELOOP, os.strerror(errno.ELOOP), path)
            through = "/proc/self/fd/%d" % descriptor
            try:
                if mode is not None:
                    os.chmod(through, mode)
                if mtime_ns is not None:
                    os.utime(through, ns=(time_ns(), mtime_ns))
            except OSError as error:
                return error.errno or errno.EIO
            except OverflowError:
                return errno.ERANGE
        finally:
            os.close(descriptor)
    return 0


def set_facts(descriptor: int, mode: Optional[int], mtime_ns: Optional[int]) -> int:
    """Set mode and modification time of an open file, its access time to now. Returns an error number, or 0."""
    try:
        if mode is not None:
            os.fchmod(descriptor, mode)
        if mtime_ns is not None:
            os.utime(descriptor, ns=(time_ns(), mtime_ns))
    except OSError as error:
        return error.errno or errno.EIO
    except OverflowError:
        return errno.ERANGE
    return 0
