"""An open file of this machine, read or written by any thread through its descriptor."""

from __future__ import annotations

import asyncio
import errno
import os

from yatagan.errors import StoreError
from yatagan.faults import Fault
from yatagan.portable import placing
from yatagan.stores.in_flight import InFlight
from yatagan.stores.interface import (
    Facts,
    Piece,
    Placement,
    Reader,
)
from yatagan.stores.local_calls import in_thread
from yatagan.stores.system_errors import (
    SYSTEM_FAULTS,
    facts_of,
    fault_of,
    known_facts,
    placing_fault,
)
from yatagan.stores.write_lease import WriteLease


class LocalFile:
    """An open local file, for reading or as a part file.

    While a part file is written a lease can keep all others from opening it, where the kernel gives one.
    """

    def __init__(self, descriptor: int, path: bytes, flow: InFlight) -> None:
        self._descriptor = descriptor
        self._path = path
        self._lease: WriteLease | None = None
        self.flow = flow

    async def facts(self) -> Facts:
        return facts_of(await in_thread(self._path, os.fstat, self._descriptor))

    async def read(self, offset: int, size: int) -> bytes:
        return await asyncio.to_thread(self.read_here, offset, size)

    def read_here(self, offset: int, size: int) -> bytes:
        try:
            return os.pread(self._descriptor, size, offset)
        except OSError as error:
            raise fault_of(error, self._path) from error

    async def write(self, offset: int, data: Piece) -> None:
        await asyncio.to_thread(self.write_here, offset, data)

    def write_here(self, offset: int, data: Piece) -> None:
        try:
            self._write_all(offset, data)
        except OSError as error:
            raise fault_of(error, self._path) from error

    def copy_here(self, source: Reader, offset: int, size: int) -> bool:
        """Disks that can share blocks between files then do."""
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
        if self._lease is not None:
            self._lease.look()  # so that nobody waits for long
        view = memoryview(data)
        while view:
            count = os.pwrite(self._descriptor, view, offset)
            view, offset = view[count:], offset + count

    async def keep_others_out(self) -> None:
        self._lease = await in_thread(self._path, WriteLease, self._descriptor)

    async def is_untouched(self, size: int) -> bool:

        def look() -> bool:
            if self._lease is None or not self._lease.look():
                return False
            found = os.fstat(self._descriptor)
            if found.st_size != size or found.st_nlink != 1:
                self._lease.let_go()
            return self._lease.held

        return await in_thread(self._path, look)

    async def sync(self) -> bool:
        await in_thread(self._path, os.fsync, self._descriptor)
        return True

    def place_here(self, wanted: Placement) -> Fault | None:
        """In any thread. The file is known by its descriptor, whatever its name stands for."""
        given = placing.Placing(
            wanted.part,
            wanted.path,
            wanted.size,
            known_facts(wanted.known),
            wanted.mode,
            wanted.mtime_ns,
            known_facts(wanted.seen),
            wanted.kept,
        )
        try:
            unset = placing.place(self._descriptor, given)
        except OSError as error:
            raise StoreError(placing_fault(error.errno or 0), wanted.path, detail=error.strerror or "") from error
        return SYSTEM_FAULTS.get(unset, Fault.REFUSED) if unset else None

    async def close(self) -> None:
        if self._descriptor >= 0:
            descriptor, self._descriptor = self._descriptor, -1
            await in_thread(self._path, os.close, descriptor)
