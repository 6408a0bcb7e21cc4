"""An open file of this machine, read or written by any thread through its descriptor."""

from __future__ import annotations

import asyncio
import errno
import os
import time
from collections.abc import Iterator

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

#: How far behind the clock a part file's mark is: no write leaves such a time by itself.
_MARK_BEHIND_NS = 3600 * 1_000_000_000 + 123_456_789


def _holes(descriptor: int, size: int) -> Iterator[tuple[int, int]]:
    """The holes of an open file, as (begin, end)."""
    at = 0
    while at < size and (begin := os.lseek(descriptor, at, os.SEEK_HOLE)) < size:
        try:
            at = os.lseek(descriptor, begin, os.SEEK_DATA)
        except OSError as error:
            if error.errno != errno.ENXIO:
                raise
            at = size  # there is nothing but the hole
        yield begin, at


class LocalFile:
    """An open local file, for reading or as a part file.

    While it is written a part file carries a mark: a modification time of our choice, set again after each of our
    writes. Whoever else writes to it or truncates it leaves another time, which is seen before our next write.
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
        return facts_of(await in_thread(self._path, os.fstat, self._descriptor))

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

        return await in_thread(self._path, look)

    async def sync(self) -> bool:
        """See `Writer.sync`."""
        await in_thread(self._path, os.fsync, self._descriptor)
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
            await in_thread(self._path, os.close, descriptor)
