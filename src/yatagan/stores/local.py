"""Files on this machine.

Every call runs in a thread, so that a slow disk never stops the event loop. Part files are opened
exclusively and never through a link; a new name is given by link and unlink, which refuses a name
that exists, and the directory is synced before the caller hears of it.
"""

from __future__ import annotations

import asyncio
import errno
import itertools
import os
import stat
import time
from collections.abc import AsyncIterator, Awaitable, Callable, Iterator, Sequence
from typing import Any, ParamSpec, TypeVar

from yatagan.config.roots import Roots
from yatagan.digests.blocks import Run
from yatagan.errors import Fault, StoreError
from yatagan.nodes.helper import parcels
from yatagan.nodes.helper.parcels import Parcel
from yatagan.stores.flow import Room
from yatagan.stores.interface import (
    STRIPE,
    Digested,
    Facts,
    Gathered,
    Kind,
    NodeBlocks,
    NodeDigest,
    Piece,
    Reader,
    Traits,
    Unloaded,
    Writer,
)

P = ParamSpec("P")
T = TypeVar("T")

SYSTEM_FAULTS = {
    errno.ENOENT: Fault.MISSING,
    errno.EEXIST: Fault.EXISTS,
    errno.ENOTEMPTY: Fault.EXISTS,
    errno.EACCES: Fault.DENIED,
    errno.EPERM: Fault.DENIED,
    errno.EROFS: Fault.READ_ONLY,
    errno.ENOSPC: Fault.NO_ROOM,
    errno.EDQUOT: Fault.NO_ROOM,
    errno.ELOOP: Fault.IS_LINK,
    errno.EISDIR: Fault.IS_DIRECTORY,
    errno.ENOTDIR: Fault.NOT_A_DIRECTORY,
    errno.ENAMETOOLONG: Fault.NAME_TOO_LONG,
    errno.EIO: Fault.DISK,
    errno.EOPNOTSUPP: Fault.UNSUPPORTED,
    errno.EXDEV: Fault.UNSUPPORTED,
}

#: A handful of directory entries: enough that the thread switch does not count.
_HANDFUL = 2000
#: Bytes that are being read, or written, at once: enough for a disk to have something to do.
_ON_THE_WAY = 8 << 20


def fault_of(error: OSError, path: bytes) -> StoreError:
    """Our error for one of the operating system's."""
    fault = SYSTEM_FAULTS.get(error.errno or 0, Fault.REFUSED)
    return StoreError(fault, path, detail=error.strerror or str(error))


def kind_of(mode: int) -> Kind:
    """The kind that the type bits of a POSIX mode stand for."""
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


def facts_of(status: os.stat_result) -> Facts:
    """Our facts from a stat result."""
    return Facts(
        kind_of(status.st_mode),
        status.st_size,
        status.st_mtime_ns,
        stat.S_IMODE(status.st_mode),
        status.st_ctime_ns,
        status.st_ino,
    )


def facts_from_list(found: Sequence[int]) -> Facts:
    """Our facts from what the helper and `parcels` tell: mode, size, mtime, ctime, inode."""
    mode, size, mtime_ns, changed_ns, inode = found
    return Facts(kind_of(mode), size, mtime_ns, stat.S_IMODE(mode), changed_ns, inode)


def facts_to_list(facts: Facts | None) -> list[int]:
    """The reverse for a regular file; nothing where what `parcels` needs is not known."""
    if facts is None or facts.changed_ns is None or facts.inode is None:
        return []
    return [stat.S_IFREG | facts.mode, facts.size, facts.mtime_ns, facts.changed_ns, facts.inode]


def digested(outcome: int, digest: str, found: Sequence[int]) -> Digested:
    """Our word for what `parcels.digests` says of a file."""
    if outcome == parcels.PLACED:
        return Digested(digest, facts_from_list(found))
    return Digested("", None, _fault_of_outcome(outcome))


def gathered(outcome: int, contents: bytes, found: Sequence[int]) -> Gathered:
    """Our word for what `parcels.gather` says of a file."""
    if outcome == parcels.PLACED:
        return Gathered(contents, facts_from_list(found))
    return Gathered(b"", None, _fault_of_outcome(outcome))


def unloaded(outcome: int, unset: int) -> Unloaded:
    """Our word for what `parcels.unload` says of a parcel."""
    note = SYSTEM_FAULTS.get(unset, Fault.REFUSED) if unset else None
    if outcome in (parcels.PLACED, parcels.THERE):
        return Unloaded(there=outcome == parcels.THERE, unset=note)
    return Unloaded(fault=_fault_of_outcome(outcome))


def _fault_of_outcome(outcome: int) -> Fault:
    ours = {parcels.DIFFERENT: Fault.DIGEST_DIFFERS, parcels.CHANGED: Fault.SOURCE_CHANGED}
    return ours.get(outcome) or SYSTEM_FAULTS.get(outcome, Fault.REFUSED)


def _quiet() -> None:
    """Nobody here needs a sign of life."""


async def _thread(path: bytes, function: Callable[P, T], *args: P.args, **kwargs: P.kwargs) -> T:
    try:
        return await asyncio.to_thread(function, *args, **kwargs)
    except OSError as error:
        raise fault_of(error, path) from error


def open_regular(path: bytes, flags: int) -> int:
    """A descriptor of a regular file, not through a link and without waiting on a FIFO. Raises OSError."""
    descriptor = os.open(path, flags | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC)
    if not stat.S_ISREG(os.fstat(descriptor).st_mode):
        os.close(descriptor)
        raise OSError(errno.EOPNOTSUPP, "not a regular file")
    return descriptor


class LocalFile:
    """An open local file, for reading or as a part file."""

    def __init__(self, descriptor: int, path: bytes, flow: Room) -> None:
        self._descriptor = descriptor
        self._path = path
        self.flow = flow

    async def facts(self) -> Facts:
        """See `Reader.facts`."""
        return facts_of(await _thread(self._path, os.fstat, self._descriptor))

    async def read(self, offset: int, size: int) -> bytes:
        """See `Reader.read`."""
        return await asyncio.to_thread(self.read_here, offset, size)

    def read_here(self, offset: int, size: int) -> bytes:
        """See `Reader.read_here`."""
        try:
            return os.pread(self._descriptor, size, offset)
        except OSError as error:
            raise fault_of(error, self._path) from error

    async def write(self, offset: int, data: Piece) -> None:
        """See `Writer.write`."""
        await asyncio.to_thread(self.write_here, offset, data)

    def write_here(self, offset: int, data: Piece) -> None:
        """See `Writer.write_here`."""
        try:
            self._write_all(offset, data)
        except OSError as error:
            raise fault_of(error, self._path) from error

    def copy_here(self, source: Reader, offset: int, size: int) -> bool:
        """See `Writer.copy_here`. Disks that can share blocks between files then do."""
        if not isinstance(source, LocalFile) or not hasattr(os, "copy_file_range"):
            return False
        end = offset + size
        try:
            while offset < end:
                count = os.copy_file_range(source._descriptor, self._descriptor, end - offset, offset, offset)
                if not count:
                    return False
                offset += count
        except OSError as error:
            if error.errno in (errno.EXDEV, errno.EINVAL, errno.ENOSYS, errno.EOPNOTSUPP):
                return False
            raise fault_of(error, self._path) from error
        return True

    def _write_all(self, offset: int, data: Piece) -> None:
        view = memoryview(data)
        while view:
            count = os.pwrite(self._descriptor, view, offset)
            view, offset = view[count:], offset + count

    async def sync(self) -> bool:
        """See `Writer.sync`."""
        await _thread(self._path, os.fsync, self._descriptor)
        return True

    async def close(self) -> None:
        """See `Reader.close` and `Writer.close`."""
        if self._descriptor >= 0:
            descriptor, self._descriptor = self._descriptor, -1
            await _thread(self._path, os.close, descriptor)


class LocalStore:
    """This machine as a store. `base` is where relative paths start.

    What is resolved must lie within `roots`, if there are any; `writing` tells what for.
    """

    name = ""
    max_rate = None
    lone_round_trip = None
    traits = Traits(
        time_step_ns=1, digests=True, quick=True, syncs=True, read_size=STRIPE, write_size=STRIPE, parcels=True
    )

    def __init__(self, base: bytes, roots: Roots | None = None, *, writing: bool = False) -> None:
        self._base = base
        self._roots = roots
        self._writing = writing
        self.flow = Room(_ON_THE_WAY)

    async def resolve(self, path: bytes, *, follow: bool = False) -> bytes:
        """See `Store.resolve`. LEADS_OUT or ONLY_READ when it must not be touched."""
        whole = os.path.normpath(os.path.join(self._base, path))
        parent, name = os.path.split(whole)
        if follow or not name:
            real = await _thread(path, os.path.realpath, whole)
        else:
            real = os.path.join(await _thread(path, os.path.realpath, parent), name)
        if self._roots is not None:
            objection = self._roots.objection(whole, real, writing=self._writing)
            if objection is not None:
                raise StoreError(objection, whole, detail=os.fsdecode(real))
        return real

    async def look(self, path: bytes) -> Facts | None:
        """See `Store.look`."""
        try:
            return facts_of(await _thread(path, os.lstat, path))
        except StoreError as error:
            if error.fault in (Fault.MISSING, Fault.NOT_A_DIRECTORY):
                return None
            raise

    look_closely = look

    async def entries(self, path: bytes) -> AsyncIterator[list[tuple[bytes, Facts]]]:
        """See `Store.entries`."""
        scan = await _thread(path, os.scandir, path)
        with scan:
            while handful := await _thread(path, self._take, scan):
                yield handful

    @staticmethod
    def _take(scan: Iterator[os.DirEntry[bytes]]) -> list[tuple[bytes, Facts]]:
        taken = []
        for entry in itertools.islice(scan, _HANDFUL):
            try:
                taken.append((entry.name, facts_of(entry.stat(follow_symlinks=False))))
            except FileNotFoundError:
                continue  # removed between the two looks
        return taken

    async def read_link(self, path: bytes) -> bytes:
        """See `Store.read_link`."""
        return await _thread(path, os.readlink, path)

    async def room(self, path: bytes) -> int | None:
        """See `Store.room`."""
        try:
            found = await _thread(path, os.statvfs, path)
        except StoreError:
            return None
        return found.f_bavail * found.f_frsize

    async def clock_ns(self) -> int | None:
        """See `Store.clock_ns`."""
        return time.time_ns()

    async def open(self, path: bytes) -> Reader:
        """See `Store.open`."""
        return LocalFile(await _thread(path, open_regular, path, os.O_RDONLY), path, self.flow)

    async def create_part(self, path: bytes, mode: int = 0o600) -> Writer:
        """See `Store.create_part`."""
        flags = os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
        return LocalFile(await _thread(path, os.open, path, flags, mode), path, self.flow)

    async def reopen_part(self, path: bytes) -> Writer:
        """See `Store.reopen_part`."""
        return LocalFile(await _thread(path, open_regular, path, os.O_RDWR), path, self.flow)

    async def copy_part(self, old: bytes, new: bytes, size: int, mode: int = 0o600) -> None:
        """See `Store.copy_part`. Never needed here: a local writer ends with its process."""
        raise StoreError(Fault.UNSUPPORTED, new)

    async def reuse(self, old: bytes, part: bytes, runs: Sequence[Run]) -> list[bool]:
        """See `Store.reuse`. Here files are open to everybody."""
        raise StoreError(Fault.UNSUPPORTED, part)

    async def make_directory(self, path: bytes, mode: int) -> None:
        """See `Store.make_directory`."""
        await _thread(path, os.mkdir, path, mode)

    async def make_link(self, path: bytes, target: bytes) -> None:
        """See `Store.make_link`."""
        await _thread(path, os.symlink, target, path)

    async def set_facts(self, path: bytes, *, mode: int | None, mtime_ns: int | None) -> None:
        """See `Store.set_facts`."""

        def change() -> None:
            if stat.S_ISLNK(os.lstat(path).st_mode):
                raise OSError(errno.ELOOP, "a link is in the way")
            if mode is not None:
                os.chmod(path, mode)
            if mtime_ns is not None:
                os.utime(path, ns=(time.time_ns(), mtime_ns))

        await _thread(path, change)

    async def place_new(self, part: bytes, final: bytes) -> None:
        """See `Store.place_new`."""
        await _thread(final, _give_name, part, final)

    async def place_over(self, part: bytes, final: bytes) -> None:
        """See `Store.place_over`."""

        def place() -> None:
            os.rename(part, final)
            _sync_directory(final)

        await _thread(final, place)

    async def keep(self, path: bytes, kept: bytes) -> None:
        """See `Store.keep`."""

        def keep() -> None:
            try:
                os.link(path, kept, follow_symlinks=False)
            except OSError as error:
                if error.errno not in (errno.EPERM, errno.EOPNOTSUPP):
                    raise
                if os.path.lexists(kept):
                    raise FileExistsError(errno.EEXIST, "exists") from None
                os.rename(path, kept)

        await _thread(path, keep)

    async def rename(self, path: bytes, new: bytes) -> None:
        """See `Store.rename`."""
        await _thread(new, _give_name, path, new)

    async def remove(self, path: bytes) -> None:
        """See `Store.remove`."""
        await _thread(path, os.unlink, path)

    async def remove_directory(self, path: bytes) -> None:
        """See `Store.remove_directory`."""
        await _thread(path, os.rmdir, path)

    async def digest(self, path: bytes, algorithm: str, seen: Facts | None = None) -> NodeDigest:
        """See `Store.digest`."""
        (made,) = await self.digests([(path, None)], algorithm)
        if made.facts is None:
            raise StoreError(made.fault or Fault.REFUSED, path)
        return NodeDigest(made.digest, made.facts)

    async def digests(self, files: Sequence[tuple[bytes, Facts | None]], algorithm: str) -> list[Digested]:
        """See `Store.digests`."""
        known = [(path, facts_to_list(facts)) for path, facts in files]
        return [digested(*each) for each in await asyncio.to_thread(parcels.digests, known, algorithm, _quiet)]

    async def blocks(self, path: bytes, block: int) -> NodeBlocks:
        """See `Store.blocks`."""
        raise StoreError(Fault.UNSUPPORTED, path)

    def expect(self, size: int) -> None:
        """See `Readable.expect`."""

    async def recorded(self, path: bytes) -> str:
        """See `Store.recorded`."""
        return ""

    async def gather(self, paths: Sequence[bytes], most: int) -> list[Gathered]:
        """See `Store.gather`."""
        return [gathered(*each) for each in await asyncio.to_thread(parcels.gather, list(paths), most, _quiet)]

    async def unload(self, bundle: bytes, parcels_: Sequence[Parcel]) -> list[Unloaded]:
        """See `Store.unload`."""
        return [unloaded(*each) for each in await _thread(bundle, parcels.unload, bundle, list(parcels_), _quiet)]

    async def finish(self, parcels_: Sequence[Parcel]) -> list[Unloaded]:
        """See `Store.finish`."""
        return [unloaded(*each) for each in await _thread(b"", parcels.finish, list(parcels_), _quiet)]

    async def work(self, modules: tuple[str, ...], what: str, path: bytes, values: dict[str, Any]) -> dict[str, Any]:
        """See `Store.work`. Never needed here: whoever wants it is here too."""
        raise StoreError(Fault.UNSUPPORTED, path)

    async def same_disk(self, token: bytes) -> bool:
        """See `Store.same_disk`."""
        return True

    def witness(self) -> str:
        """See `Store.witness`. The lock on the batch already shows that the earlier process has ended."""
        return "local"

    def note_writers(self, noted: Callable[[str], Awaitable[None]]) -> None:
        """See `Store.note_writers`."""

    async def writers_gone(self, witness: str) -> bool:
        """See `Store.writers_gone`."""
        return True

    async def close(self) -> None:
        """See `Store.close`."""


def _give_name(path: bytes, new: bytes) -> None:
    """Rename without ever replacing anything. Raises OSError."""
    try:
        os.link(path, new, follow_symlinks=False)
    except OSError as error:
        if error.errno not in (errno.EPERM, errno.EOPNOTSUPP):
            raise
        # A directory, or a disk without hard links: look, then rename. The moment between cannot be closed there.
        if os.path.lexists(new):
            raise FileExistsError(errno.EEXIST, "exists") from None
        os.rename(path, new)
    else:
        os.unlink(path)
    _sync_directory(new)


def _sync_directory(path: bytes) -> None:
    descriptor = os.open(os.path.dirname(path), os.O_RDONLY | os.O_DIRECTORY)
    try:
        os.fsync(descriptor)
    except OSError as error:
        if error.errno not in (errno.EINVAL, errno.EOPNOTSUPP):
            raise
    finally:
        os.close(descriptor)


class LocalSource:
    """Opens the local store; it never fails."""

    def __init__(self, base: bytes, roots: Roots | None = None, *, writing: bool = False) -> None:
        self._base = base
        self._roots = roots
        self._writing = writing

    async def open(self) -> LocalStore:
        """See `Source.open`."""
        return LocalStore(self._base, self._roots, writing=self._writing)

    def pins(self) -> dict[str, tuple[str, int]]:
        """See `Source.pins`."""
        return {}
