"""Giving a part file on a node its final name: by the helper, which walks, or by SFTP, which has only whole paths.

Over SFTP alone what the names stand for is looked at before and after the rename.
"""

from __future__ import annotations

import asyncio
import posixpath
from collections.abc import Coroutine
from dataclasses import replace
from typing import Any, Protocol, TypeVar

from yatagan.errors import StoreError
from yatagan.faults import MACHINE_FAULTS, Fault
from yatagan.nodes.sftp_client import SftpClient
from yatagan.stores.coalescing import Shared
from yatagan.stores.helper_machine import HelperMachine
from yatagan.stores.interface import Facts, Kind, Placement, Store, Writer
from yatagan.stores.sftp_file import SftpFile, is_sayable

T = TypeVar("T")


class AskingStore(Store, Protocol):
    """A store that is asked over SFTP, with what it takes to send it a request."""

    replaces: bool

    @property
    def files(self) -> SftpClient:
        """The channel of the least loaded lane."""

    @property
    def machine(self) -> HelperMachine | None:
        pass

    async def ask(self, request: Coroutine[Any, Any, T], path: bytes, *, writing: bool = False) -> T:
        pass

    async def look_on(self, files: SftpClient, path: bytes) -> Facts | None:
        pass


class SftpPlacing:
    """Gives part files of one store their final names."""

    def __init__(self, store: AskingStore) -> None:
        self._store = store
        self._checking = Shared(self._check_directory)

    async def place(self, part: Writer, wanted: Placement) -> Fault | None:
        """Facts are set by the open handle; the helper, where there is one, follows no link.

        Without it the part file's name is looked at before and after the rename: SFTP can rename by paths alone.
        """
        assert isinstance(part, SftpFile)
        if self._store.machine is not None and self._store.machine.disk_is_same:
            known, unset = wanted.known, None
            if known is None:
                unset = await self._set_facts_of_part(part, wanted)
                known = await part.facts()
            await part.close()
            refused, still_unset = await self._store.machine.place(replace(wanted, known=known))
            if refused is not None:
                raise StoreError(refused, wanted.path, store=self._store.name)
            return still_unset
        known, found, unset = await self._close_part(part, wanted)
        if known.size != wanted.size or not _is_still(found, known):
            raise StoreError(Fault.PART_CHANGED, wanted.path, store=self._store.name)
        await self._place_by_name(wanted, known)
        return unset

    async def _set_facts_of_part(self, part: SftpFile, wanted: Placement) -> Fault | None:
        """Set a part file's facts by its handle. Returns why they could not be set, or None."""
        if wanted.mode is None and wanted.mtime_ns is None:
            return None
        try:
            await part.set_facts(wanted.mode, wanted.mtime_ns)
        except StoreError as error:
            if error.fault in MACHINE_FAULTS:
                raise
            return error.fault
        return None if is_sayable(wanted.mtime_ns) else Fault.TIME_RANGE

    async def _close_part(self, part: SftpFile, wanted: Placement) -> tuple[Facts, Facts | None, Fault | None]:
        """Set a part file's facts and close it. Returns its facts by handle, by name, and why facts could not be set.

        A server must handle requests for one file in the order in which they were sent (filexfer-02, section 6.1), so
        on one channel all of it takes a single round trip.
        """
        if (files := part.only_channel) is None:
            unset = await self._set_facts_of_part(part, wanted)
            known = await part.facts()
            await part.close()
            found, _ = await asyncio.gather(self._store.look(wanted.part), self._check_above(wanted))
            return known, found, unset
        unset, known, _, found, _ = await asyncio.gather(
            self._set_facts_of_part(part, wanted),
            part.facts(),
            part.close(),
            self._store.look_on(files, wanted.part),
            self._check_above(wanted),
        )
        return known, found, unset

    async def _place_by_name(self, wanted: Placement, known: Facts) -> None:
        """Rename, and look at the final name and the directories above it afterwards."""
        there = await self._store.look(wanted.path) if wanted.seen is not None else None
        if there is not None:
            await self._keep_seen(wanted, there)
        if there is not None and self._store.replaces:
            rename = self._store.files.posix_rename(wanted.part, wanted.path)
            await self._store.ask(rename, wanted.path, writing=True)
        else:  # also where the server cannot replace: then `keep` has moved the old file away
            await self._store.rename(wanted.part, wanted.path)
        final, _ = await asyncio.gather(self._store.look(wanted.path), self._check_above(wanted))
        if not _is_still(final, known):
            raise StoreError(Fault.PART_CHANGED, wanted.path, store=self._store.name)

    async def _check_above(self, wanted: Placement) -> None:
        """Raise StoreError, IS_LINK, unless the directory of a file is reached without any link."""
        await self._checking.ask(wanted.top + b"\0" + posixpath.dirname(wanted.path))

    async def _check_directory(self, asked: bytes) -> None:
        top, _, directory = asked.partition(b"\0")
        if not await self._store.is_real(directory, top):
            raise StoreError(Fault.IS_LINK, directory, store=self._store.name)

    async def _keep_seen(self, wanted: Placement, there: Facts) -> None:
        assert wanted.seen is not None
        if not there.same_as(wanted.seen):
            raise StoreError(Fault.EXISTS, wanted.path, store=self._store.name)
        try:
            await self._store.keep(wanted.path, wanted.kept)
        except StoreError as error:
            if error.fault is not Fault.EXISTS:
                raise
            earlier = await self._store.look(wanted.kept)  # of an earlier try that was interrupted
            if earlier is None or not earlier.named_again(there):
                raise StoreError(Fault.KEPT_TAKEN, wanted.kept, store=self._store.name) from error
        await self._store.sync_directory(posixpath.dirname(wanted.kept))  # before its first name goes


def _is_still(found: Facts | None, known: Facts) -> bool:
    """Whether a name stands for the file with these facts, as far as SFTP says."""
    if found is None or found.kind is not Kind.FILE:
        return False
    return (found.size, found.mtime_ns, found.mode) == (known.size, known.mtime_ns, known.mode)
