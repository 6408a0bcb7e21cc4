"""Files on this machine.

Every call runs in a thread, so that a slow disk never stops the event loop. Paths are walked one open directory at a
time and never through a link (`portable.directories`), so what is swapped after a path was resolved leads nowhere.
Part files are opened exclusively; a new name is given by link and unlink, which refuses a name that exists, and the
directory is synced before the caller hears of it.
"""

from __future__ import annotations

import asyncio
import itertools
import os
import pwd
import time
from collections.abc import AsyncGenerator, Awaitable, Callable, Iterator

from yatagan.config.guarded_files import follow_links
from yatagan.config.roots import Roots
from yatagan.errors import StoreError
from yatagan.faults import Fault
from yatagan.portable import directories, placing
from yatagan.stores.in_flight import InFlight
from yatagan.stores.interface import (
    STRIPE,
    Facts,
    Placement,
    Reader,
    Traits,
    Writer,
)
from yatagan.stores.local_calls import in_thread, with_umask
from yatagan.stores.local_file import LocalFile
from yatagan.stores.local_machine import LocalMachine
from yatagan.stores.system_errors import (
    facts_of,
)

#: A handful of directory entries: enough that the thread switch does not count.
_HANDFUL = 2000
#: Bytes that are being read, or written, at once: enough for a disk to have something to do.
_ON_THE_WAY = 8 << 20


#: Asked whether to go through a link of another account: the link, and where the path leads.
Follows = Callable[[bytes, bytes], bool]


def never(link: bytes, target: bytes) -> bool:
    """The default: such links are not followed."""
    return False


class LocalStore:
    """This machine as a store. `base` is where relative paths start; `umask` another one than the process has.

    What is resolved must lie within `roots`, if there are any; `writing` tells what for. Then `follows` is asked
    besides whether to go through a link that another account made, given the link and where all of the path leads.
    """

    name = ""
    max_rate = None
    lone_round_trip = None
    quiet_seconds = 0.0
    traits = Traits(
        here=True, time_step_ns=1, syncs=True, read_size=STRIPE, write_size=STRIPE, walks=True, names_last=True
    )

    def __init__(
        self,
        base: bytes,
        roots: Roots | None = None,
        *,
        writing: bool = False,
        umask: int | None = None,
        follows: Follows = never,
    ) -> None:
        self._base = base
        self._roots = roots
        self._writing = writing
        self._umask = umask
        self._follows = follows
        self._closed = False
        self.flow = InFlight(_ON_THE_WAY)
        self.machine = LocalMachine(umask, self._alive)

    def _alive(self) -> None:
        """Asked by a thread that works for long: it is not waited for when the store is closed."""
        if self._closed:
            raise StoreError(Fault.CONNECTION_LOST)

    async def resolve(self, path: bytes, *, follow: bool = False) -> bytes:
        """LEADS_OUT, ONLY_READ or FOREIGN_LINK when it must not be touched."""
        whole = os.path.normpath(os.path.join(self._base, path))
        parent, name = os.path.split(whole)
        last = b"" if follow or not name else name
        real, foreign = await in_thread(path, follow_links, parent if last else whole)
        real = os.path.join(real, last) if last else real
        if foreign is not None and self._roots is not None and not self._follows(foreign, real):
            raise StoreError(Fault.FOREIGN_LINK, foreign, detail=os.fsdecode(real))
        if self._roots is not None:
            objection = self._roots.objection(whole, real, writing=self._writing)
            if objection is not None:
                raise StoreError(objection, whole, detail=os.fsdecode(real))
        return real

    async def look(self, path: bytes) -> Facts | None:
        try:
            return facts_of(await in_thread(path, directories.look_at, path))
        except StoreError as error:
            if error.fault in (Fault.MISSING, Fault.NOT_A_DIRECTORY):
                return None
            raise

    look_closely = look

    async def entries(self, path: bytes) -> AsyncGenerator[list[tuple[bytes, Facts]], None]:
        directory = await in_thread(path, directories.open_to_list, path)
        try:  # entries are looked at through the descriptor, which must stay open
            with os.scandir(directory) as scan:
                while handful := await in_thread(path, self._take, scan):
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

        def read() -> bytes:
            with directories.parent_of(path) as (directory, name):
                return os.readlink(name, dir_fd=directory)

        return await in_thread(path, read)

    async def owner(self, path: bytes) -> str:

        def name() -> str:
            with directories.parent_of(path) as (directory, base):
                number = os.stat(base, dir_fd=directory, follow_symlinks=False).st_uid
            try:
                return pwd.getpwuid(number).pw_name
            except KeyError:
                return str(number)

        return await in_thread(path, name)

    async def group(self, path: bytes) -> int | None:

        def number() -> int:
            with directories.parent_of(path) as (directory, base):
                return os.stat(base, dir_fd=directory, follow_symlinks=False).st_gid

        return await in_thread(path, number)

    async def free_space(self, path: bytes) -> int | None:
        try:
            found = await in_thread(path, os.statvfs, path)
        except StoreError:
            return None
        return found.f_bavail * found.f_frsize

    async def clock_ns(self) -> int | None:
        return time.time_ns()

    async def open(self, path: bytes) -> Reader:
        return LocalFile(await in_thread(path, directories.open_regular, path, os.O_RDONLY), path, self.flow)

    async def create_part(self, path: bytes, mode: int = 0o600) -> Writer:

        def create() -> int:
            with with_umask(self._umask):
                return directories.create(path, mode)

        return LocalFile(await in_thread(path, create), path, self.flow)

    async def reopen_part(self, path: bytes) -> Writer:
        return LocalFile(await in_thread(path, directories.open_regular, path, os.O_RDWR), path, self.flow)

    async def copy_part(self, old: bytes, new: bytes, size: int, mode: int = 0o600) -> None:
        """Never needed here: a local writer ends with its process."""
        raise StoreError(Fault.UNSUPPORTED, new)

    async def make_directory(self, path: bytes, mode: int) -> None:

        def make() -> None:
            with directories.parent_of(path) as (directory, name):
                with with_umask(self._umask):
                    os.mkdir(name, mode, dir_fd=directory)
                directories.sync_directory(directory)

        await in_thread(path, make)

    async def sync_directory(self, path: bytes) -> bool:
        await in_thread(path, _sync, path)
        return True

    async def make_link(self, path: bytes, target: bytes) -> None:

        def make() -> None:
            with directories.parent_of(path) as (directory, name):
                os.symlink(target, name, dir_fd=directory)

        await in_thread(path, make)

    async def set_facts(self, path: bytes, *, mode: int | None, mtime_ns: int | None) -> None:

        def change() -> None:
            if number := placing.set_by_name(path, mode, mtime_ns):
                raise OSError(number, os.strerror(number))

        await in_thread(path, change)

    async def is_real(self, directory: bytes, top: bytes) -> bool:
        try:
            os.close(await in_thread(directory, directories.enter, directory))
        except StoreError as error:
            if error.fault in (Fault.MISSING, Fault.NOT_A_DIRECTORY, Fault.IS_LINK):
                return False
            raise
        return True

    async def place(self, part: Writer, wanted: Placement) -> Fault | None:
        assert isinstance(part, LocalFile)
        try:
            return await asyncio.to_thread(part.place_here, wanted)
        finally:
            await part.close()

    async def keep(self, path: bytes, kept: bytes) -> None:

        def keep() -> None:
            with directories.parent_of(path) as (source, name), directories.parent_of(kept) as (target, new):
                directories.keep(source, name, target, new)
                directories.sync_directory(target)

        await in_thread(path, keep)

    async def rename(self, path: bytes, new: bytes) -> None:

        def rename() -> None:
            with directories.parent_of(path) as (source, name), directories.parent_of(new) as (target, name_there):
                directories.give_name(source, name, target, name_there)
                directories.sync_directory(target)

        await in_thread(new, rename)

    async def remove(self, path: bytes) -> None:

        def remove() -> None:
            with directories.parent_of(path) as (directory, name):
                os.unlink(name, dir_fd=directory)

        await in_thread(path, remove)

    async def remove_directory(self, path: bytes) -> None:

        def remove() -> None:
            with directories.parent_of(path) as (directory, name):
                os.rmdir(name, dir_fd=directory)

        await in_thread(path, remove)

    def expect(self, size: int, *, limited: bool) -> None:
        pass

    async def recorded(self, path: bytes) -> str:
        return ""

    def witness(self) -> str:
        """The lock on the batch already shows that the earlier process has ended."""
        return "local"

    def note_writers(self, noted: Callable[[str], Awaitable[None]]) -> None:
        pass

    async def writers_gone(self, witness: str) -> bool:
        return True

    async def close(self) -> None:
        self._closed = True


class LocalSource:
    """Opens the local store; it never fails."""

    def __init__(
        self,
        base: bytes,
        roots: Roots | None = None,
        *,
        writing: bool = False,
        umask: int | None = None,
        follows: Follows = never,
    ) -> None:
        self._base = base
        self._roots = roots
        self._writing = writing
        self._umask = umask
        self._follows = follows

    async def open(self) -> LocalStore:
        return LocalStore(self._base, self._roots, writing=self._writing, umask=self._umask, follows=self._follows)

    def pins(self) -> dict[str, tuple[str, int]]:
        return {}


def _sync(path: bytes) -> None:
    """Sync a directory, as far as its disk can. Raises OSError."""
    descriptor = directories.open_to_list(path)
    try:
        directories.sync_directory(descriptor)
    finally:
        os.close(descriptor)
