"""Many small files at once, on the machine that holds them: read, hashed, finished, or extracted from a bundle.

Outcomes are plain numbers and strings, because they travel as JSON.
"""

import errno
import os
import stat
from hashlib import new, sha256
from typing import Any, Callable, List, NamedTuple, Optional, Tuple

from yatagan.portable.directories import (
    LastDirectory,
    OpenDirectories,
    create_in,
    facts,
    forget,
    give_name,
    is_same_file,
    look,
    open_regular,
    open_regular_in,
)
from yatagan.portable.placing import set_facts

#: What became of a file, besides an error number of the system (which is above 0).
PLACED, THERE, DIFFERENT, CHANGED = 0, -1, -2, -3


class BundledFile(NamedTuple):
    """A file in a bundle, or a part file to finish: its bytes, their SHA-256, and its future.

    `part`: its name until it is complete, created with `make_mode`. `earlier`: part files of earlier tries, to be
    removed. `mode` and `mtime_ns` are set then; None leaves them.
    """

    offset: int
    size: int
    digest: str
    part: bytes
    earlier: Tuple[bytes, ...]
    path: bytes
    make_mode: int
    mode: Optional[int]
    mtime_ns: Optional[int]


#: An outcome, and the number of the error with which its facts could not be set, or 0.
FileOutcome = Tuple[int, int]


#: Files that are synced together, each with its file open: several requests of so many must not use up what a
#: process may open.
_FILES_PER_GROUP = 100


def extract(bundle: bytes, files: List[BundledFile], alive: Callable[[], None]) -> List[FileOutcome]:
    """Extract files from a bundle, each to a file of its own. Doing it again does no harm.

    Each is written to its part file and given its facts, then synced, read again and hashed, and only then named.
    Nothing is replaced: what has the name already is THERE if its contents are the same. Raises OSError when the bundle
    cannot be read.
    """
    source = open_regular(bundle, os.O_RDONLY)
    try:
        return _in_groups(files, lambda file, places: _write(source, file, places), alive, keep=False)
    finally:
        os.close(source)


def finish(files: List[BundledFile], alive: Callable[[], None]) -> List[FileOutcome]:
    """Finish complete part files: each gets its facts, is synced, read again, hashed and named.

    Nothing is replaced, and doing it again does no harm: what has its name already counts as done.
    """
    return _in_groups(files, _open_part, alive, keep=True)


def _in_groups(files: List[BundledFile], open_: Any, alive: Callable[[], None], keep: bool) -> List[FileOutcome]:
    """Open or write files, then prove and name them, group by group.

    A disk needs half the time if all of a group are written before the first is synced. Files in a directory that was
    moved away are not in place.
    """
    outcomes: List[FileOutcome] = []
    for at in range(0, len(files), _FILES_PER_GROUP):
        some, opened = files[at : at + _FILES_PER_GROUP], []
        places = OpenDirectories()
        try:
            for file in some:
                alive()
                opened.append(_attempt(lambda file=file, places=places: open_(file, places)))  # type: ignore[misc]
            found = _prove_and_name(some, opened, places, alive, keep)
            moved = places.moved()
            outcomes += [
                (errno.ELOOP, 0) if moved and os.path.dirname(file.path) in moved else outcome
                for file, outcome in zip(some, found)
            ]
            places.sync()
        finally:
            places.close()
    return outcomes


def _prove_and_name(
    files: List[BundledFile],
    opened: List[Tuple[int, Any]],
    places: OpenDirectories,
    alive: Callable[[], None],
    keep: bool,
) -> List[FileOutcome]:
    """Sync, read again and name part files that have their facts. With `keep`, one that gets no name stays."""
    outcomes: List[FileOutcome] = []
    for file, (trouble, found) in zip(files, opened):
        alive()
        if found is None:
            outcomes.append((trouble or _compare_with_there(file, places), 0))
            continue
        descriptor, unset = found
        try:
            trouble, named = _attempt(lambda: _sync_and_name(descriptor, file, places))  # noqa: B023 called at once
        finally:
            os.close(descriptor)
        if named != PLACED and (not keep or named == THERE):  # one that was placed has lost its part name by that
            _forget(file.part, places)
        outcomes.append((trouble, 0) if named is None else (named, unset))
    return outcomes


def _open_part(file: BundledFile, places: OpenDirectories) -> Optional[Tuple[int, int]]:
    """Open a part file and set its facts, as `_write` does; None if it is gone, as it is once it has its name."""
    for part in file.earlier:
        _forget(part, places)
    directory, name = places.parent_of(file.part)
    try:
        descriptor = open_regular_in(directory, name, os.O_RDWR)
    except FileNotFoundError:
        return None
    try:
        unset = set_facts(descriptor, file.mode, file.mtime_ns)
        if hasattr(os, "posix_fadvise"):
            os.posix_fadvise(descriptor, 0, 0, os.POSIX_FADV_DONTNEED)  # the disk may begin
    except BaseException:
        os.close(descriptor)
        raise
    return descriptor, unset


def _attempt(work: Callable[[], Any]) -> Tuple[int, Any]:
    """(0, the result), or (error number, None)."""
    try:
        return 0, work()
    except OSError as error:
        return error.errno or errno.EIO, None
    except _Differs:
        return DIFFERENT, None


class _Differs(Exception):
    """The bytes have another digest."""


def _write(source: int, file: BundledFile, places: OpenDirectories) -> Tuple[int, int]:
    """Write a part file and set its facts. Returns its descriptor, and the error number of its facts."""
    for part in file.earlier:
        _forget(part, places)
    data = _read(source, file.offset, file.size)
    if len(data) != file.size or sha256(data).hexdigest() != file.digest:
        raise _Differs
    directory, name = places.parent_of(file.part)
    try:
        descriptor = create_in(directory, name, file.make_mode)
    except FileExistsError:
        forget(directory, name)  # of an earlier try: its writer has ended
        descriptor = create_in(directory, name, file.make_mode)
    try:
        view = memoryview(data)
        while view:
            view = view[os.write(descriptor, view) :]
        unset = set_facts(descriptor, file.mode, file.mtime_ns)
        if hasattr(os, "posix_fadvise"):
            os.posix_fadvise(descriptor, 0, 0, os.POSIX_FADV_DONTNEED)  # the disk may begin
    except BaseException:
        os.close(descriptor)
        _forget(file.part, places)
        raise
    return descriptor, unset


def _sync_and_name(descriptor: int, file: BundledFile, places: OpenDirectories) -> int:
    os.fsync(descriptor)
    if sha256(_read(descriptor, 0, file.size + 1)).hexdigest() != file.digest:
        raise _Differs
    directory, name = places.parent_of(file.path)
    part, now = os.path.basename(file.part), os.fstat(descriptor)
    if not is_same_file(look(directory, part), now):
        raise _Differs
    try:
        give_name(directory, part, directory, name)
    except FileExistsError:
        held = _compare_with_there(file, places)
        if held == PLACED:  # by an earlier try: this part file is one too many
            forget(directory, part)
        return held
    if not is_same_file(look(directory, name), now):
        forget(directory, name)
        raise _Differs
    return PLACED


def _forget(part: bytes, places: OpenDirectories) -> None:
    try:
        forget(*places.parent_of(part))
    except OSError as error:
        if error.errno not in (errno.ENOENT, errno.ELOOP, errno.ENOTDIR):  # its directory may have gone as well
            raise


def _compare_with_there(file: BundledFile, places: OpenDirectories) -> int:
    """What has the name already: THERE if it is the same; PLACED if we put it there ourselves."""
    directory, name = places.parent_of(file.path)
    try:
        descriptor = open_regular_in(directory, name, os.O_RDONLY)
    except OSError:
        return errno.EEXIST
    try:
        if sha256(_read(descriptor, 0, file.size + 1)).hexdigest() != file.digest:
            return errno.EEXIST
        found = os.fstat(descriptor)
        ours = file.mtime_ns == found.st_mtime_ns and file.mode in (None, stat.S_IMODE(found.st_mode))
        return PLACED if ours else THERE
    finally:
        os.close(descriptor)


#: What was read of a file: an outcome, its contents, and (mode, size, mtime, ctime, inode) where it was read.
SmallContents = Tuple[int, bytes, List[int]]


def read_small(paths: List[bytes], most: int, alive: Callable[[], None]) -> List[SmallContents]:
    """Read small files, each whole and unchanged meanwhile, or CHANGED. None is read beyond `most` bytes."""
    found: List[SmallContents] = []
    last = LastDirectory()
    for path in paths:
        alive()
        try:
            descriptor = last.open_regular(path)
            try:
                before = facts(os.fstat(descriptor))
                data = _read(descriptor, 0, min(before[1], most) + 1)
                after = facts(os.fstat(descriptor))
            finally:
                os.close(descriptor)
            same = before == after and len(data) == before[1]
            found.append((PLACED if same else CHANGED, data if same else b"", after))
        except OSError as error:
            found.append((error.errno or errno.EIO, b"", []))
    last.close()
    return found


#: A file's digest, "" where nothing of it has moved, and its facts: or the outcome that says why there is none.
Digested = Tuple[int, str, List[int]]


def digests(files: List[Tuple[bytes, List[int]]], algorithm: str, alive: Callable[[], None]) -> List[Digested]:
    """Hash files. One that still has the facts of its last digest is not read again."""
    found: List[Digested] = []
    last = LastDirectory()
    for path, known in files:
        alive()
        try:
            descriptor = last.open_regular(path)
            try:
                now = facts(os.fstat(descriptor))
                found.append((PLACED, "", now) if now == known else hash_open(descriptor, algorithm, alive))
            finally:
                os.close(descriptor)
        except OSError as error:
            found.append((error.errno or errno.EIO, "", []))
    last.close()
    return found


def digest_start(path: bytes, size: int, algorithm: str, alive: Callable[[], None]) -> Digested:
    """Hash the first bytes of a file, to which more may be appended meanwhile; CHANGED for a shorter one."""
    last = LastDirectory()
    try:
        descriptor = last.open_regular(path)
        try:
            value, left = new(algorithm), size
            while left:
                piece = os.pread(descriptor, min(left, 1 << 20), size - left)
                if not piece:
                    break
                value.update(piece)
                left -= len(piece)
                alive()
            return (CHANGED if left else PLACED), value.hexdigest(), facts(os.fstat(descriptor))
        finally:
            os.close(descriptor)
    except OSError as error:
        return error.errno or errno.EIO, "", []
    finally:
        last.close()


def hash_open(descriptor: int, algorithm: str, alive: Callable[[], None]) -> Digested:
    """Sync, read and hash an open file; CHANGED if it changed meanwhile."""
    before = facts(os.fstat(descriptor))
    os.fsync(descriptor)
    value, size = new(algorithm), 0
    buffer = memoryview(bytearray(min(1 << 20, before[1] + 1)))
    while True:
        count = os.readv(descriptor, [buffer])
        if not count:
            break
        size += count
        value.update(buffer[:count])
        alive()
    after = facts(os.fstat(descriptor))
    same = before == after and size == after[1]
    return (PLACED if same else CHANGED), value.hexdigest(), after


def _read(descriptor: int, offset: int, size: int) -> bytes:
    pieces: List[Any] = []
    while size:
        piece = os.pread(descriptor, size, offset)
        if not piece:
            break
        pieces.append(piece)
        offset, size = offset + len(piece), size - len(piece)
    return pieces[0] if len(pieces) == 1 else b"".join(pieces)
