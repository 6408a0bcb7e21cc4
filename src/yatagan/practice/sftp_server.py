"""The file service of a practice node: SFTP below one directory, with faults.

It keeps to what a common server does where that matters here: a plain rename refuses a name that
exists, links are stored as they are given, and nothing leads out of the node's root.
"""

from __future__ import annotations

import os
import posixpath
from collections.abc import AsyncIterator
from typing import Any

import asyncssh

from yatagan.practice.node_faults import Trouble
from yatagan.practice.power import ForgetfulDisk, OpenDirectory

#: Largest request of a client. The library copies on the node in larger blocks, which no client sees.
_REQUEST = 255 << 10


def _attributes(found: os.stat_result) -> asyncssh.SFTPAttrs:
    """As version 3 has them: of times it tells 32 bits."""
    attrs = asyncssh.SFTPAttrs.from_local(found)
    attrs.atime, attrs.mtime = ((time or 0) & 0xFFFFFFFF for time in (attrs.atime, attrs.mtime))
    return attrs


def _as_spelled(path: bytes, root: bytes) -> bytes:
    """The path under the names that are there, where they differ in case alone. Raises SFTPNoSuchFile for a colon."""
    found = root
    for name in path[len(root) :].split(b"/")[1:]:
        if b":" in name:
            raise asyncssh.SFTPNoSuchFile("no such file")
        listed = os.listdir(found) if os.path.isdir(found) else []
        alike = [each for each in listed if each.lower() == name.lower()]
        found = posixpath.join(found, alike[0] if alike else name)
    return found


class PracticeFiles(asyncssh.SFTPServer):
    """Files below `root`. With `hidden_root` clients see the root as /, otherwise by its real path."""

    def __init__(self, chan: Any, root: bytes, hidden_root: bool, trouble: Trouble, disk: ForgetfulDisk) -> None:
        super().__init__(chan)
        self._disk = disk
        self._root = os.path.realpath(root)
        self._hidden = hidden_root
        self._trouble = trouble

    def map_path(self, path: bytes) -> bytes:
        """The real path; refused when it leads out of the root, by dots or by a link on the way."""
        if self._hidden:
            inside = posixpath.normpath(posixpath.join(b"/", path)).lstrip(b"/")
            real = posixpath.join(self._root, inside)
        else:
            real = posixpath.normpath(posixpath.join(self._root, path))
        above = os.path.realpath(posixpath.dirname(real)) if real != self._root else self._root
        if above != self._root and not above.startswith(self._root + b"/"):
            raise asyncssh.SFTPPermissionDenied("outside this account")
        return _as_spelled(real, self._root) if self._trouble.now.foreign_names else real

    def reverse_map_path(self, path: bytes) -> bytes:
        """The path as clients see it."""
        return path[len(self._root) :] or b"/" if self._hidden else path

    async def open(self, path: bytes, pflags: int, attrs: asyncssh.SFTPAttrs) -> object:
        await self._trouble.before_request()
        if pflags == asyncssh.FXF_READ and os.path.isdir(real := self.map_path(path)):
            return OpenDirectory(real)
        return super().open(path, pflags, attrs)

    def fsync(self, file_obj: Any) -> None:
        os.fsync(file_obj.fileno())
        if isinstance(file_obj, OpenDirectory):
            self._disk.synced_directory(file_obj.path)
        else:
            self._disk.synced(file_obj.fileno())

    async def read(self, file_obj: object, offset: int, size: int) -> bytes:
        await self._trouble.before_request()
        data = super().read(file_obj, offset, size)
        assert isinstance(data, bytes)
        if size <= _REQUEST:
            await self._trouble.carry(len(data), written=False)
        return data

    async def write(self, file_obj: object, offset: int, data: bytes) -> int:
        await self._trouble.before_request()
        room = self._trouble.room
        if room is not None and room < len(data):
            raise asyncssh.SFTPFailure("Failure")
        if len(data) <= _REQUEST:
            await self._trouble.carry(len(data), written=True)
        written = super().write(file_obj, offset, data)
        assert isinstance(written, int)
        self._disk.wrote(file_obj.fileno(), offset, written)  # type: ignore[attr-defined]
        return written

    async def lstat(self, path: bytes) -> Any:
        await self._trouble.before_request()
        return _attributes(os.lstat(self.map_path(path)))

    def fstat(self, file_obj: Any) -> Any:
        file_obj.flush()
        return _attributes(os.fstat(file_obj.fileno()))

    async def setstat(self, path: bytes, attrs: asyncssh.SFTPAttrs) -> None:
        await self._trouble.before_request()
        super().setstat(path, attrs)

    async def scandir(self, path: bytes) -> AsyncIterator[asyncssh.SFTPName]:
        await self._trouble.before_request()
        with os.scandir(self.map_path(path)) as entries:
            for entry in entries:
                yield asyncssh.SFTPName(entry.name, attrs=_attributes(entry.stat(follow_symlinks=False)))

    async def rename(self, oldpath: bytes, newpath: bytes) -> None:
        await self._trouble.before_request()
        old, new = self.map_path(oldpath), self.map_path(newpath)
        if os.path.islink(old) or os.path.isdir(old):
            if os.path.lexists(new):
                raise asyncssh.SFTPFailure("Failure")
            self._disk.renaming(old, new)
            os.rename(old, new)
            return
        if not os.path.lexists(new):
            self._disk.renaming(old, new)
        try:
            os.link(old, new, follow_symlinks=False)
        except FileExistsError:
            raise asyncssh.SFTPFailure("Failure") from None
        os.unlink(old)
        await self._trouble.after_rename()

    def posix_rename(self, oldpath: bytes, newpath: bytes) -> None:
        self._disk.renaming(self.map_path(oldpath), self.map_path(newpath))
        super().posix_rename(oldpath, newpath)

    def link(self, oldpath: bytes, newpath: bytes) -> None:
        super().link(oldpath, newpath)
        self._disk.made(self.map_path(newpath))

    def readlink(self, path: bytes) -> bytes:
        return os.readlink(self.map_path(path))

    def symlink(self, oldpath: bytes, newpath: bytes) -> None:
        os.symlink(oldpath, self.map_path(newpath))
        self._disk.made(self.map_path(newpath))

    def mkdir(self, path: bytes, attrs: asyncssh.SFTPAttrs) -> None:
        try:
            super().mkdir(path, attrs)
        except FileExistsError:
            raise asyncssh.SFTPFailure("Failure") from None
        self._disk.made(self.map_path(path))

    def statvfs(self, path: bytes) -> asyncssh.SFTPVFSAttrs:
        found = asyncssh.SFTPVFSAttrs.from_local(os.statvfs(self.map_path(path)))
        if (room := self._trouble.room) is not None:
            found.bavail = found.bfree = min(found.bavail, room // max(1, found.frsize))
        return found
