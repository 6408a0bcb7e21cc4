"""An SFTP channel to a node: version 3 (draft-ietf-secsh-filexfer-02), with extensions of OpenSSH's server.

Every method sends one request and waits for its answer; many may be in flight. Paths are bytes. Raises `Refusal`, with
the server's code and words, or ConnectionError for a channel that has ended or talks nonsense.

Only SSH is the library's. Its file client describes every packet for a log, makes an object with twenty fields for
every listed name, and copies what arrives three times. Without that a file of 4 KiB and a listing take two thirds of
the time, and downloads are a third faster.
"""

from __future__ import annotations

import asyncio
import struct
from collections.abc import Awaitable, Callable
from typing import Protocol

import asyncssh

from yatagan.futures import fail
from yatagan.nodes import sftp_packets as wire
from yatagan.nodes.sftp_packets import Attributes, Nonsense, Refusal, Space
from yatagan.nodes.transport import Turn, say_nothing_of_packets

#: The longest answer that is believed to be one: a block of a file, with what belongs to it.
_LONGEST = (4 << 20) + 1024
#: Extensions and the versions in which we know them.
_KNOWN = {
    b"posix-rename@openssh.com": b"1",
    b"statvfs@openssh.com": b"2",
    b"hardlink@openssh.com": b"1",
    b"fsync@openssh.com": b"1",
    b"limits@openssh.com": b"1",
    b"copy-data": b"1",
    b"lsetstat@openssh.com": b"1",
    b"users-groups-by-id@openssh.com": b"1",
}
#: Servers that take the two paths of a symbolic link the other way round than they say in the draft.
_TURNED_ROUND = ("OpenSSH", "paramiko")
#: Where Linux shows what changes with every start of it, and the number of the process that looks.
_BOOT, _SELF = b"/proc/sys/kernel/random/boot_id", b"/proc/self"
#: Requests are never smaller than this, whatever the server says that it takes, nor are answers waited for longer
#: (seconds) while a channel begins.
_LEAST, BEGINNING = 1 << 10, 30.0
#: The largest request where the server tells no limits: every server takes packets of 34,000 bytes.
_SAFE = 32 << 10


class NotFiles(ConnectionError):
    """What arrived is not SFTP: most likely text that a start-up file prints."""


class Channel(Protocol):
    """Where requests are written."""

    def write(self, data: bytes, /) -> None:
        """Send it."""

    def close(self) -> None:
        """End it, when everything has gone out."""

    def abort(self) -> None:
        """End it."""


class SftpClient(asyncssh.SSHClientSession[bytes]):
    """One channel. `read_size`, `write_size`: the largest requests; `extensions`: those that both sides know."""

    def __init__(self) -> None:
        self._channel: Channel | None = None
        self._waiting: dict[int, tuple[asyncio.Future[bytes], int]] = {}
        self._next = 0
        self._pieces: list[bytes] = []
        self._held = 0
        self._wanted = 4
        self._turn = Turn(self._send)
        self._turned_round = False
        self._ended: asyncio.Future[None] = asyncio.get_running_loop().create_future()
        self._greeting: asyncio.Future[tuple[int, bytes]] = asyncio.get_running_loop().create_future()
        self._error: ConnectionError | None = None
        self.read_size = self.write_size = _SAFE
        self.extensions: frozenset[bytes] = frozenset()

    @classmethod
    async def open(
        cls, connection: asyncssh.SSHClientConnection, like: SftpClient | None = None, patience: float = BEGINNING
    ) -> SftpClient:
        """Open a channel. `like`: another one to the same server, whose limits hold for this one too.

        Raises ConnectionError, TimeoutError, or asyncssh.Error.
        """

        async def begin(files: SftpClient) -> Channel:
            channel, _ = await connection.create_session(lambda: files, subsystem="sftp", encoding=None)
            say_nothing_of_packets(channel)
            return channel

        return await cls.over(begin, str(connection.get_extra_info("server_version", "")), like, patience)

    @classmethod
    async def over(
        cls,
        begin: Callable[[SftpClient], Awaitable[Channel]],
        server: str = "",
        like: SftpClient | None = None,
        patience: float = BEGINNING,
    ) -> SftpClient:
        """What `begin` makes a channel for, and hands to it what comes. Raises ConnectionError, or what `begin` does.

        `server`: its software, in its own words. Of one that is `like` another need not be asked what it takes.
        `patience`: seconds until it must have answered; TimeoutError then.
        """
        files = cls()
        if like is not None:
            files.read_size, files.write_size = like.read_size, like.write_size
            files._turned_round = like._turned_round
        else:
            files._turned_round = any(each in server for each in _TURNED_ROUND)
        async with asyncio.timeout(patience):
            channel = files._channel = await begin(files)
            try:
                await files._greet(limits=like is None)
            except BaseException:
                channel.abort()
                raise
        return files

    async def _greet(self, *, limits: bool) -> None:
        assert self._channel is not None
        self._channel.write(struct.pack(">IBI", 5, wire.INIT, 3))
        version, greeting = await self._greeting
        if version < 3:
            raise NotFiles(f"the server speaks version {version}")
        found, at = set(), 0
        while at < len(greeting):
            name, at = wire.decode_string(greeting, at)
            value, at = wire.decode_string(greeting, at)
            if _KNOWN.get(name) == value:
                found.add(name)
        self.extensions = frozenset(found)
        if limits and b"limits@openssh.com" in found:
            try:
                told = await self._ask(wire.EXTENDED, wire.encode_string(b"limits@openssh.com"), wire.EXTENDED_REPLY)
                _, reading, writing, _ = wire.decode_numbers(">QQQQ", told)
            except (Refusal, Nonsense):
                return  # then what every server takes
            self.read_size, self.write_size = (max(each or _LONGEST, _LEAST) for each in (reading, writing))

    # -- the channel ---------------------------------------------------------------------------------------

    def data_received(self, data: bytes, datatype: asyncssh.DataType) -> None:
        """Answers come in pieces of 32 KiB, and many of them in one."""
        if datatype is not None or self._error is not None:
            return
        self._pieces.append(data)
        self._held += len(data)
        if self._held < self._wanted:
            return
        rest = self._take_block() or b"".join(self._pieces)
        at, end = 0, len(rest)
        self._wanted = 4
        while end - at >= 4:
            (length,) = wire.NUMBER.unpack_from(rest, at)
            if not 5 <= length <= _LONGEST:
                self._fail(NotFiles("what came is no answer"))
                return
            if end - at < 4 + length:
                self._wanted = 4 + length
                break
            kind, number = wire.HEAD.unpack_from(rest, at + 4)
            self._take(kind, number, rest[at + (13 if kind == wire.DATA else 9) : at + 4 + length])
            at += 4 + length
        self._pieces = [rest[at:]] if at < end else []
        self._held = end - at

    def _take_block(self) -> bytes:
        """Take a file block that arrived in several pieces, copying it once. Returns what follows it.

        Does nothing if something else has arrived.
        """
        first, surplus = self._pieces[0], self._held - self._wanted
        if len(self._pieces) == 1 or self._wanted <= 4 or len(first) < 13 or first[4] != wire.DATA:
            return b""
        last = memoryview(self._pieces[-1])
        mid = len(last) - surplus
        if mid < 0:
            return b""
        _, number = wire.HEAD.unpack_from(first, 4)
        self._take(wire.DATA, number, b"".join((memoryview(first)[13:], *self._pieces[1:-1], last[:mid])))
        self._pieces = [bytes(last[mid:])]
        self._held = surplus
        return self._pieces[0]

    def _take(self, kind: int, number: int, body: bytes) -> None:
        """Handle one answer. `body` of a file block comes without its length, which is that of the packet."""
        if kind == wire.VERSION:
            if not self._greeting.done():
                self._greeting.set_result((number, body))
            return
        future, wanted = self._waiting.pop(number, (None, 0))
        if future is None:
            self._fail(ConnectionError("an answer to no request"))
        elif not future.done():
            if kind == wire.STATUS and (wanted != wire.STATUS or body[:4] != wire.DONE):
                fail(future, wire.decode_refusal(body))
            elif kind == wanted:
                future.set_result(body)
            else:
                fail(future, Nonsense(f"an answer of another kind ({kind}) than was asked for"))

    def connection_lost(self, exc: Exception | None) -> None:
        self._fail(ConnectionError(str(exc) if exc else "the channel was closed"))
        if not self._ended.done():
            self._ended.set_result(None)

    def eof_received(self) -> bool:
        """The server has ended."""
        return False

    def _fail(self, error: ConnectionError) -> None:
        """End all outstanding requests with an error."""
        self._error = self._error or error
        waiting, self._waiting = self._waiting, {}
        for future, _ in waiting.values():
            fail(future, ConnectionError(str(error)))
        fail(self._greeting, error)
        if self._channel is not None:
            self._channel.abort()

    def exit(self) -> None:
        """Close it."""
        if self._channel is not None:
            self._turn.send()
            self._channel.close()

    async def wait_closed(self) -> None:
        """Wait until the channel has ended."""
        await asyncio.shield(self._ended)

    async def _ask(self, kind: int, body: bytes, wanted: int = wire.STATUS, data: bytes | memoryview = b"") -> bytes:
        """Send one request, with `data` at its end. Returns the body of the answer. Raises Refusal, ConnectionError."""
        if self._error is not None:
            raise ConnectionError(str(self._error))
        number = self._next
        self._next = (number + 1) & 0xFFFFFFFF
        future: asyncio.Future[bytes] = asyncio.get_running_loop().create_future()
        self._waiting[number] = future, wanted
        self._turn.put(wire.REQUEST.pack(5 + len(body) + len(data), kind, number) + body)
        if data:
            self._turn.put(data)
        return await future

    def _send(self, data: bytes) -> None:
        if self._error is None and self._channel is not None:
            try:
                self._channel.write(data)
            except OSError as error:  # it was closed meanwhile
                self._fail(ConnectionError(str(error)))

    # -- requests ------------------------------------------------------------------------------------------

    async def realpath(self, path: bytes) -> bytes:
        """The absolute path, with links followed as far as the server does."""
        names = wire.decode_names(await self._ask(wire.REALPATH, wire.encode_string(path), wire.NAME))
        if len(names) != 1 or not names[0][0].startswith(b"/") or b"\0" in names[0][0]:
            raise Nonsense("a path was answered with several, or none")
        return names[0][0]

    async def lstat(self, path: bytes) -> Attributes:
        """The attributes of a name, links not followed."""
        return wire.decode_attributes(await self._ask(wire.LSTAT, wire.encode_string(path), wire.ATTRS), 0)[0]

    async def owner(self, path: bytes) -> str:
        """The account that owns a name, or its number; "" where the server tells neither."""
        numbers = await self._owners(path)
        if numbers is None:
            return ""
        number, _ = numbers
        try:
            body = wire.encode_string(wire.NUMBER.pack(number)) + wire.encode_string(b"")
            names = await self._extended(b"users-groups-by-id@openssh.com", body, wire.EXTENDED_REPLY)
        except Refusal:
            return str(number)
        name, _ = wire.decode_string(wire.decode_string(names, 0)[0], 0)
        return name.decode("utf-8", "backslashreplace") or str(number)

    async def group(self, path: bytes) -> int | None:
        """The number of the group that owns a name; None where the server does not tell."""
        numbers = await self._owners(path)
        return numbers[1] if numbers is not None else None

    async def _owners(self, path: bytes) -> tuple[int, int] | None:
        """The numbers of the account and the group that own a name."""
        packet = await self._ask(wire.LSTAT, wire.encode_string(path), wire.ATTRS)
        (flags,) = wire.decode_numbers(">I", packet)
        if not flags & wire.HAS_OWNERS:
            return None
        user, group = wire.decode_numbers(">II", packet[12 if flags & wire.HAS_SIZE else 4 :])
        return user, group

    async def open_directory(self, path: bytes) -> bytes:
        """Open a directory. Returns a handle for `names`."""
        return wire.decode_string(await self._ask(wire.OPENDIR, wire.encode_string(path), wire.HANDLE), 0)[0]

    async def names(self, handle: bytes) -> list[tuple[bytes, Attributes]]:
        """The next entries of an open directory; empty at its end."""
        try:
            return wire.decode_names(await self._ask(wire.READDIR, wire.encode_string(handle), wire.NAME))
        except Refusal as refusal:
            if refusal.code == wire.EOF:
                return []
            raise

    async def readlink(self, path: bytes) -> bytes:
        """The target of a symbolic link."""
        names = wire.decode_names(await self._ask(wire.READLINK, wire.encode_string(path), wire.NAME))
        if len(names) != 1 or b"\0" in names[0][0]:
            raise Nonsense("a link's target that is none")
        return names[0][0]

    async def open_file(self, path: bytes, flags: int, mode: int | None = None) -> bytes:
        """Open a file. Returns its handle. `mode`: permission bits of a file that is created."""
        body = wire.encode_string(path) + struct.pack(">I", flags) + wire.encode_attributes(mode, None)
        return wire.decode_string(await self._ask(wire.OPEN, body, wire.HANDLE), 0)[0]

    async def close(self, handle: bytes) -> None:
        """Close a handle."""
        await self._ask(wire.CLOSE, wire.encode_string(handle))

    async def fstat(self, handle: bytes) -> Attributes:
        """The attributes of an open file."""
        return wire.decode_attributes(await self._ask(wire.FSTAT, wire.encode_string(handle), wire.ATTRS), 0)[0]

    async def read(self, handle: bytes, offset: int, size: int) -> bytes:
        """At most `size` bytes; empty at the end of the file."""
        try:
            data = await self._ask(wire.READ_FILE, wire.encode_string(handle) + wire.AT.pack(offset, size), wire.DATA)
            if len(data) > size:
                raise Nonsense("more bytes than were asked for")
            return data
        except Refusal as refusal:
            if refusal.code == wire.EOF:
                return b""
            raise

    async def write(self, handle: bytes, offset: int, data: bytes | memoryview) -> None:
        """Write all of `data`."""
        await self._ask(wire.WRITE_FILE, wire.encode_string(handle) + wire.AT.pack(offset, len(data)), data=data)

    async def mkdir(self, path: bytes, mode: int) -> None:
        """Make a directory with these permission bits."""
        await self._ask(wire.MKDIR, wire.encode_string(path) + wire.encode_attributes(mode, None))

    async def symlink(self, target: bytes, path: bytes) -> None:
        """Make a symbolic link."""
        first, second = (target, path) if self._turned_round else (path, target)
        await self._ask(wire.SYMLINK, wire.encode_string(first) + wire.encode_string(second))

    async def setstat(self, path: bytes, mode: int | None, times: tuple[int, int] | None) -> None:
        """Permission bits, and times of access and modification in whole seconds; None leaves them.

        Through a link only where the server has no request that refuses to follow one.
        """
        facts = wire.encode_attributes(mode, times)
        if b"lsetstat@openssh.com" in self.extensions:
            await self._extended(b"lsetstat@openssh.com", wire.encode_string(path) + facts)
        else:
            await self._ask(wire.SETSTAT, wire.encode_string(path) + facts)

    async def fsetstat(self, handle: bytes, mode: int | None, times: tuple[int, int] | None) -> None:
        """The same for an open file."""
        await self._ask(wire.FSETSTAT, wire.encode_string(handle) + wire.encode_attributes(mode, times))

    async def rename(self, path: bytes, new: bytes) -> None:
        """Rename; refused where the new name is taken."""
        await self._ask(wire.RENAME, wire.encode_string(path) + wire.encode_string(new))

    async def remove(self, path: bytes) -> None:
        """Remove a file or link."""
        await self._ask(wire.REMOVE, wire.encode_string(path))

    async def rmdir(self, path: bytes) -> None:
        """Remove an empty directory."""
        await self._ask(wire.RMDIR, wire.encode_string(path))

    async def served_by(self) -> tuple[str, int]:
        """The boot id of the server's machine and the number of its process; ("", 0) where they are not shown."""
        try:
            handle, process = await asyncio.gather(self.open_file(_BOOT, wire.READ), self.readlink(_SELF))
            boot, _ = await asyncio.gather(self.read(handle, 0, 100), self.close(handle))
        except Refusal:
            return "", 0
        return (boot.decode("ascii", "replace").strip(), int(process)) if process.isdigit() else ("", 0)

    # -- extensions ----------------------------------------------------------------------------------------

    async def _extended(self, name: bytes, body: bytes, wanted: int = wire.STATUS) -> bytes:
        if name not in self.extensions:
            raise Refusal(wire.UNSUPPORTED, f"{name.decode()} is not offered")
        return await self._ask(wire.EXTENDED, wire.encode_string(name) + body, wanted)

    async def posix_rename(self, path: bytes, new: bytes) -> None:
        """Rename atomically, over what has the name."""
        await self._extended(b"posix-rename@openssh.com", wire.encode_string(path) + wire.encode_string(new))

    async def link(self, path: bytes, new: bytes) -> None:
        """Give a file a second name."""
        await self._extended(b"hardlink@openssh.com", wire.encode_string(path) + wire.encode_string(new))

    async def fsync(self, handle: bytes) -> None:
        """Sync an open file."""
        await self._extended(b"fsync@openssh.com", wire.encode_string(handle))

    async def space(self, path: bytes) -> Space:
        """The space on the file system of a path (the extension's flag 1: read-only)."""
        packet = await self._extended(b"statvfs@openssh.com", wire.encode_string(path), wire.EXTENDED_REPLY)
        _, block, _, _, free, *_, flags = wire.decode_numbers(">QQQQQQQQQQ", packet)
        return Space(block, free, bool(flags & 1))

    async def copy_data(self, source: bytes, offset: int, size: int, target: bytes, at: int) -> None:
        """Copy bytes from one open file to another, on the server."""
        body = (
            wire.encode_string(source)
            + struct.pack(">QQ", offset, size)
            + wire.encode_string(target)
            + struct.pack(">Q", at)
        )
        await self._extended(b"copy-data", body)
