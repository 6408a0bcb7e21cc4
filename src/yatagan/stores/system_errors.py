"""Errors and facts of the operating system in our terms, from here and from the helper on a node."""

from __future__ import annotations

import errno
import stat
from collections.abc import Sequence
from os import stat_result

from yatagan.errors import StoreError
from yatagan.faults import Fault
from yatagan.portable import small_files
from yatagan.portable.directories import NOT_REGULAR
from yatagan.portable.placing import KEPT_TAKEN, PART_CHANGED
from yatagan.stores.interface import Digested, Extracted, Facts, Kind, SmallFile

SYSTEM_FAULTS = {
    errno.ENOENT: Fault.MISSING,
    errno.EEXIST: Fault.EXISTS,
    errno.ENOTEMPTY: Fault.EXISTS,
    errno.EACCES: Fault.DENIED,
    errno.EPERM: Fault.DENIED,
    errno.EROFS: Fault.READ_ONLY,
    errno.ENOSPC: Fault.NO_SPACE,
    errno.EDQUOT: Fault.NO_SPACE,
    errno.ELOOP: Fault.IS_LINK,
    errno.EISDIR: Fault.IS_DIRECTORY,
    errno.ENOTDIR: Fault.NOT_A_DIRECTORY,
    errno.ENAMETOOLONG: Fault.NAME_TOO_LONG,
    errno.EIO: Fault.DISK,
    errno.EBUSY: Fault.BUSY,
    errno.EAGAIN: Fault.BUSY,
    errno.ETXTBSY: Fault.BUSY,
    errno.EMFILE: Fault.BUSY,
    errno.ENFILE: Fault.BUSY,
    errno.ENOMEM: Fault.BUSY,
    errno.ENOBUFS: Fault.BUSY,
    errno.ENOLCK: Fault.BUSY,
    errno.ETIMEDOUT: Fault.STALE,
    errno.ESTALE: Fault.STALE,
    errno.EOPNOTSUPP: Fault.UNSUPPORTED,
    errno.EXDEV: Fault.UNSUPPORTED,
    errno.ERANGE: Fault.TIME_RANGE,
}


def fault_of(error: OSError, path: bytes) -> StoreError:
    """The StoreError for an OSError."""
    if error.errno == errno.EOPNOTSUPP and error.strerror == NOT_REGULAR:
        return StoreError(Fault.SPECIAL, path)
    fault = SYSTEM_FAULTS.get(error.errno or 0, Fault.REFUSED)
    return StoreError(fault, path, detail=error.strerror or str(error))


def kind_of(mode: int) -> Kind:
    """The kind that a POSIX mode names."""
    for test, kind in (
        (stat.S_ISREG, Kind.FILE),
        (stat.S_ISDIR, Kind.DIRECTORY),
        (stat.S_ISLNK, Kind.LINK),
        (stat.S_ISFIFO, Kind.FIFO),
        (stat.S_ISSOCK, Kind.SOCKET),
    ):
        if test(mode):
            return kind
    return Kind.DEVICE if stat.S_ISBLK(mode) or stat.S_ISCHR(mode) else Kind.UNKNOWN


def facts_of(status: stat_result) -> Facts:
    """Facts from a stat result."""
    return Facts(
        kind_of(status.st_mode),
        status.st_size,
        status.st_mtime_ns,
        stat.S_IMODE(status.st_mode),
        status.st_ctime_ns,
        status.st_ino,
    )


def facts_from_row(found: Sequence[int]) -> Facts:
    """Facts from a row of ours (`directories.facts`): mode, size, mtime, ctime, inode."""
    mode, size, mtime_ns, changed_ns, inode = found
    return Facts(kind_of(mode), size, mtime_ns, stat.S_IMODE(mode), changed_ns, inode)


def facts_to_list(facts: Facts | None) -> list[int]:
    """The reverse, for a regular file; empty where ctime or inode is unknown."""
    if facts is None or facts.changed_ns is None or facts.inode is None:
        return []
    return [stat.S_IFREG | facts.mode, facts.size, facts.mtime_ns, facts.changed_ns, facts.inode]


def digested(outcome: int, digest: str, found: Sequence[int]) -> Digested:
    """A result of `small_files.digests`."""
    if outcome == small_files.PLACED and found:
        return Digested(digest, facts_from_row(found))
    return Digested("", None, _fault_of_outcome(outcome))


def small_file(outcome: int, contents: bytes, found: Sequence[int]) -> SmallFile:
    """A result of `small_files.read_small`."""
    if outcome == small_files.PLACED and found:
        return SmallFile(contents, facts_from_row(found))
    return SmallFile(b"", None, _fault_of_outcome(outcome))


def extracted(outcome: int, unset: int) -> Extracted:
    """A result of `small_files.extract` or `small_files.finish`."""
    note = SYSTEM_FAULTS.get(unset, Fault.REFUSED) if unset else None
    if outcome in (small_files.PLACED, small_files.THERE):
        return Extracted(there=outcome == small_files.THERE, unset=note)
    return Extracted(fault=_fault_of_outcome(outcome))


def _fault_of_outcome(outcome: int) -> Fault:
    ours = {small_files.DIFFERENT: Fault.DIGEST_DIFFERS, small_files.CHANGED: Fault.SOURCE_CHANGED}
    return ours.get(outcome) or SYSTEM_FAULTS.get(outcome, Fault.REFUSED)


#: Errors that mean something else where a part file gets its name.
_PLACING_FAULTS = {PART_CHANGED: Fault.PART_CHANGED, KEPT_TAKEN: Fault.KEPT_TAKEN}


def placing_fault(number: int) -> Fault:
    """The fault for the error number with which a part file got no name."""
    return _PLACING_FAULTS.get(number) or SYSTEM_FAULTS.get(number, Fault.REFUSED)


def known_facts(facts: Facts | None) -> list[int | None] | None:
    """Facts in the form that `portable/placing.py` takes."""
    if facts is None:
        return None
    kind = {Kind.FILE: stat.S_IFREG, Kind.LINK: stat.S_IFLNK, Kind.DIRECTORY: stat.S_IFDIR}.get(facts.kind, 0)
    return [kind | facts.mode, facts.size, facts.mtime_ns, facts.changed_ns, facts.inode]
