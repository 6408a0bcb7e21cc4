"""Files on this machine.

Every call runs in a thread, so that a slow disk never stops the event loop. Paths are walked one open directory at a
time and never through a link (`portable.directories`), so what is swapped after a path was resolved leads nowhere.
Part files are opened exclusively; a new name is given by link and unlink, which refuses a name that exists, and the
directory is synced before the caller hears of it.
"""

from __future__ import annotations

import asyncio
import errno
import itertools
import os
import pwd
import threading
import time
from collections.abc import AsyncGenerator, Awaitable, Callable, Iterator, Sequence
from contextlib import contextmanager
from typing import Any, ParamSpec, TypeVar

from yatagan.config.roots import Roots
from yatagan.errors import Fault, StoreError
from yatagan.portable import directories, placing, small_files
from yatagan.portable.block_sums import Match
from yatagan.portable.small_files import BundledFile
from yatagan.stores.in_flight import InFlight
from yatagan.stores.interface import (
    STRIPE,
    Digested,
    Extracted,
    Facts,
    NodeBlocks,
    NodeDigest,
    Piece,
    Placement,
    Reader,
    SmallFile,
    Traits,
    Writer,
)
from yatagan.stores.system_errors import (
    SYSTEM_FAULTS,
    digested,
    facts_of,
    facts_to_list,
    fault_of,
    gathered,
    known_facts,
    placing_fault,
    unloaded,
)

P = ParamSpec("P")
T = TypeVar("T")

#: A handful of directory entries: enough that the thread switch does not count.
_HANDFUL = 2000
#: How far behind the clock a part file's mark is: no write leaves such a time by itself.
_MARK_BEHIND_NS = 3600 * 1_000_000_000 + 123_456_789
#: Bytes that are being read, or written, at once: enough for a disk to have something to do.
_ON_THE_WAY = 8 << 20


def _holes(descriptor: int, size: int) -> Iterator[tuple[int, int]]:
    """Where a file has no blocks on its disk."""
    at = 0
    while at < size and (begin := os.lseek(descriptor, at, os.SEEK_HOLE)) < size:
        try:
            at = os.lseek(descriptor, begin, os.SEEK_DATA)
        except OSError as error:
            if error.errno != errno.ENXIO:
                raise
            at = size  # there is nothing but the hole
        yield begin, at


def _quiet() -> None:
    """Nobody here needs a sign of life."""


async def _thread(path: bytes, function: Callable[P, T], *args: P.args, **kwargs: P.kwargs) -> T:
    try:
        return await asyncio.to_thread(function, *args, **kwargs)
    except OSError as error:
        raise fault_of(error, path) from error
    except ValueError as error:  # a NUL byte in a name
        raise StoreError(Fault.REFUSED, path, detail=str(error)) from error


class LocalFile:
    """An open local file, for reading or as a part file.

    A part file carries a mark while it is written: a modification time of our choice, set again after each write of
    ours. Whoever else writes to it, or cuts it short, leaves another time, and that is seen before our next write.
    """

    def __init__(self, descriptor: int, path: bytes, flow: InFlight, *, is_part: bool = False) -> None:
        self._descriptor = descriptor
        self._path = path
        self._mark = 0
        self._touched = not is_part
        #: Where the next bytes go when they come in order, and what was left out before.
        self._next = os.fstat(descriptor).st_size if is_part else 0
        self._gaps: list[tuple[int, int]] = []
        self.flow = flow
        if is_part:
            self._set_mark(time.time_ns() - _MARK_BEHIND_NS)

    def _set_mark(self, mark: int) -> None:
        try:
            os.utime(self._descriptor, ns=(mark, mark))
            self._mark = os.fstat(self._descriptor).st_mtime_ns  # as finely as the disk keeps it
        except OSError:
            self._touched = True

    def _look_for_others(self) -> None:
        found = os.fstat(self._descriptor)
        self._touched |= found.st_mtime_ns != self._mark or found.st_nlink != 1

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
        self._look_for_others()
        if offset > self._next:
            self._gaps.append((self._next, offset))
        view = memoryview(data)
        while view:
            count = os.pwrite(self._descriptor, view, offset)
            view, offset = view[count:], offset + count
        self._next = max(self._next, offset)
        self._set_mark(self._mark)

    async def is_untouched(self, size: int) -> bool:
        """See `Writer.is_untouched`. A hole where we have written is what is left of a file that was cut short."""

        def look() -> bool:
            self._look_for_others()
            if self._touched or os.fstat(self._descriptor).st_size != size:
                return False
            return all(
                any(start <= begin and end <= stop for start, stop in self._gaps)
                for begin, end in _holes(self._descriptor, size)
            )

        return await _thread(self._path, look)

    async def sync(self) -> bool:
        """See `Writer.sync`."""
        await _thread(self._path, os.fsync, self._descriptor)
        return True

    def place_here(self, wanted: Placement) -> Fault | None:
        """See `Store.place`; in any thread. The file is known by its descriptor, whatever its name stands for."""
        given = placing.Placing(
            wanted.part,
            wanted.path,
            wanted.size,
            known_facts(wanted.known),
            wanted.mode,
            wanted.mtime_ns if wanted.mtime_ns is not None else time.time_ns(),  # in place of the mark
            known_facts(wanted.seen),
            wanted.kept,
        )
        try:
            unset = placing.place(self._descriptor, given)
        except OSError as error:
            raise StoreError(placing_fault(error.errno or 0), wanted.path, detail=error.strerror or "") from error
        return SYSTEM_FAULTS.get(unset, Fault.REFUSED) if unset else None

    async def close(self) -> None:
        """See `Reader.close` and `Writer.close`."""
        if self._descriptor >= 0:
            descriptor, self._descriptor = self._descriptor, -1
            await _thread(self._path, os.close, descriptor)


class LocalStore:
    """This machine as a store. `base` is where relative paths start; `umask` another one than the process has.

    What is resolved must lie within `roots`, if there are any; `writing` tells what for.
    """

    name = ""
    max_rate = None
    lone_round_trip = None
    traits = Traits(
        time_step_ns=1,
        digests=True,
        quick=True,
        syncs=True,
        read_size=STRIPE,
        write_size=STRIPE,
        parcels=True,
        walks=True,
    )

    def __init__(
        self, base: bytes, roots: Roots | None = None, *, writing: bool = False, umask: int | None = None
    ) -> None:
        self._base = base
        self._roots = roots
        self._writing = writing
        self._umask = umask
        self._closed = False
        self.flow = InFlight(_ON_THE_WAY)

    def _alive(self) -> None:
        """Asked by a thread that works for long: nobody waits for it when the store is closed."""
        if self._closed:
            raise StoreError(Fault.LINE_LOST)

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
            return facts_of(await _thread(path, directories.look_at, path))
        except StoreError as error:
            if error.fault in (Fault.MISSING, Fault.NOT_A_DIRECTORY):
                return None
            raise

    look_closely = look

    async def entries(self, path: bytes) -> AsyncGenerator[list[tuple[bytes, Facts]], None]:
        """See `Store.entries`."""
        directory = await _thread(path, directories.open_to_list, path)
        try:  # entries are looked at through the descriptor, which must stay open
            with os.scandir(directory) as scan:
                while handful := await _thread(path, self._take, scan):
                    yield handful
        finally:
            os.close(directory)

    @staticmethod
    def _take(scan: Iterator[os.DirEntry[str]]) -> list[tuple[bytes, Facts]]:
        taken = []
        for entry in itertools.islice(scan, _HANDFUL):
            try:
                taken.append((os.fsencode(entry.name), facts_of(entry.stat(follow_symlinks=False))))
            except FileNotFoundError:
                continue  # removed between the two looks
        return taken

    async def read_link(self, path: bytes) -> bytes:
        """See `Store.read_link`."""

        def read() -> bytes:
            with directories.parent_of(path) as (directory, name):
                return os.readlink(name, dir_fd=directory)

        return await _thread(path, read)

    async def owner(self, path: bytes) -> str:
        """See `Store.owner`."""

        def name() -> str:
            with directories.parent_of(path) as (directory, base):
                number = os.stat(base, dir_fd=directory, follow_symlinks=False).st_uid
            try:
                return pwd.getpwuid(number).pw_name
            except KeyError:
                return str(number)

        return await _thread(path, name)

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
        return LocalFile(await _thread(path, directories.open_regular, path, os.O_RDONLY), path, self.flow)

    async def create_part(self, path: bytes, mode: int = 0o600) -> Writer:
        """See `Store.create_part`."""

        def create() -> int:
            with _umask(self._umask):
                return directories.create(path, mode)

        return LocalFile(await _thread(path, create), path, self.flow, is_part=True)

    async def reopen_part(self, path: bytes) -> Writer:
        """See `Store.reopen_part`."""
        return LocalFile(await _thread(path, directories.open_regular, path, os.O_RDWR), path, self.flow, is_part=True)

    async def copy_part(self, old: bytes, new: bytes, size: int, mode: int = 0o600) -> None:
        """See `Store.copy_part`. Never needed here: a local writer ends with its process."""
        raise StoreError(Fault.UNSUPPORTED, new)

    async def reuse(self, old: bytes, part: bytes, runs: Sequence[Match]) -> list[bool]:
        """See `Store.reuse`. Here files are open to everybody."""
        raise StoreError(Fault.UNSUPPORTED, part)

    async def make_directory(self, path: bytes, mode: int) -> None:
        """See `Store.make_directory`."""

        def make() -> None:
            with directories.parent_of(path) as (directory, name):
                with _umask(self._umask):
                    os.mkdir(name, mode, dir_fd=directory)
                directories.sync_directory(directory)

        await _thread(path, make)

    async def make_link(self, path: bytes, target: bytes) -> None:
        """See `Store.make_link`."""

        def make() -> None:
            with directories.parent_of(path) as (directory, name):
                os.symlink(target, name, dir_fd=directory)

        await _thread(path, make)

    async def set_facts(self, path: bytes, *, mode: int | None, mtime_ns: int | None) -> None:
        """See `Store.set_facts`."""

        def change() -> None:
            descriptor = directories.open_to_list(path)
            try:
                number = placing.set_facts(descriptor, mode, mtime_ns)
            finally:
                os.close(descriptor)
            if number:
                raise OSError(number, os.strerror(number))

        await _thread(path, change)

    async def is_real(self, directory: bytes, top: bytes) -> bool:
        """See `Store.is_real`."""
        try:
            os.close(await _thread(directory, directories.enter, directory))
        except StoreError as error:
            if error.fault in (Fault.MISSING, Fault.NOT_A_DIRECTORY, Fault.IS_LINK):
                return False
            raise
        return True

    async def place(self, part: Writer, wanted: Placement) -> Fault | None:
        """See `Store.place`."""
        assert isinstance(part, LocalFile)
        try:
            return await asyncio.to_thread(part.place_here, wanted)
        finally:
            await part.close()

    async def keep(self, path: bytes, kept: bytes) -> None:
        """See `Store.keep`."""

        def keep() -> None:
            with directories.parent_of(path) as (source, name), directories.parent_of(kept) as (target, new):
                directories.keep(source, name, target, new)
                directories.sync_directory(target)

        await _thread(path, keep)

    async def rename(self, path: bytes, new: bytes) -> None:
        """See `Store.rename`."""

        def rename() -> None:
            with directories.parent_of(path) as (source, name), directories.parent_of(new) as (target, name_there):
                directories.give_name(source, name, target, name_there)
                directories.sync_directory(target)

        await _thread(new, rename)

    async def remove(self, path: bytes) -> None:
        """See `Store.remove`."""

        def remove() -> None:
            with directories.parent_of(path) as (directory, name):
                os.unlink(name, dir_fd=directory)

        await _thread(path, remove)

    async def remove_directory(self, path: bytes) -> None:
        """See `Store.remove_directory`."""

        def remove() -> None:
            with directories.parent_of(path) as (directory, name):
                os.rmdir(name, dir_fd=directory)

        await _thread(path, remove)

    async def digest(self, path: bytes, algorithm: str, seen: Facts | None = None) -> NodeDigest:
        """See `Store.digest`."""
        (made,) = await self.digests([(path, None)], algorithm)
        if made.facts is None:
            raise StoreError(made.fault or Fault.REFUSED, path)
        return NodeDigest(made.digest, made.facts)

    async def digests(self, files: Sequence[tuple[bytes, Facts | None]], algorithm: str) -> list[Digested]:
        """See `Store.digests`."""
        known = [(path, facts_to_list(facts)) for path, facts in files]
        return [digested(*each) for each in await asyncio.to_thread(small_files.digests, known, algorithm, self._alive)]

    async def blocks(self, path: bytes, block: int) -> NodeBlocks:
        """See `Store.blocks`."""
        raise StoreError(Fault.UNSUPPORTED, path)

    def expect(self, size: int) -> None:
        """See `Readable.expect`."""

    async def recorded(self, path: bytes) -> str:
        """See `Store.recorded`."""
        return ""

    async def gather(self, paths: Sequence[bytes], most: int) -> list[SmallFile]:
        """See `Store.gather`."""
        return [gathered(*each) for each in await asyncio.to_thread(small_files.gather, list(paths), most, _quiet)]

    async def unload(self, bundle: bytes, parcels_: Sequence[BundledFile]) -> list[Extracted]:
        """See `Store.unload`."""

        def unload() -> list[tuple[int, int]]:
            with _umask(self._umask):
                return small_files.unload(bundle, list(parcels_), _quiet)

        return [unloaded(*each) for each in await _thread(bundle, unload)]

    async def finish(self, parcels_: Sequence[BundledFile]) -> list[Extracted]:
        """See `Store.finish`."""
        return [unloaded(*each) for each in await _thread(b"", small_files.finish, list(parcels_), _quiet)]

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
        self._closed = True


_ONE_UMASK = threading.Lock()


@contextmanager
def _umask(umask: int | None) -> Iterator[None]:
    """Files that are made meanwhile get this umask, which a process has only one of; None leaves it as it is."""
    if umask is None:
        yield
        return
    with _ONE_UMASK:
        before = os.umask(umask)
        try:
            yield
        finally:
            os.umask(before)


class LocalSource:
    """Opens the local store; it never fails."""

    def __init__(
        self, base: bytes, roots: Roots | None = None, *, writing: bool = False, umask: int | None = None
    ) -> None:
        self._base = base
        self._roots = roots
        self._writing = writing
        self._umask = umask

    async def open(self) -> LocalStore:
        """See `Source.open`."""
        return LocalStore(self._base, self._roots, writing=self._writing, umask=self._umask)

    def pins(self) -> dict[str, tuple[str, int]]:
        """See `Source.pins`."""
        return {}
