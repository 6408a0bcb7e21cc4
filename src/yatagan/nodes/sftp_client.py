"""A file channel to a node: SFTP version 3 (draft-ietf-secsh-filexfer-02), with extensions of OpenSSH's server.

Every method is one request and its answer, and many may be under way at once. Paths are bytes. What the server refuses
is a `Refusal`, with its code and words; a channel that has ended, or talks nonsense, is a ConnectionError.
"""

from __future__ import annotations

import asyncio
import struct
from collections.abc import Awaitable, Callable
from typing import NamedTuple, Protocol

import asyncssh

from yatagan.nodes.transport import Turn, say_nothing_of_packets

# What is asked for, and what is answered.
_INIT, _VERSION = 1, 2
_OPEN, _CLOSE, _READ, _WRITE, _LSTAT, _FSTAT, _SETSTAT, _FSETSTAT = 3, 4, 5, 6, 7, 8, 9, 10
_OPENDIR, _READDIR, _REMOVE, _MKDIR, _RMDIR, _REALPATH = 11, 12, 13, 14, 15, 16
_RENAME, _READLINK, _SYMLINK, _EXTENDED = 18, 19, 20, 200
_STATUS, _HANDLE, _DATA, _NAME, _ATTRS, _EXTENDED_REPLY = 101, 102, 103, 104, 105, 201

#: How a file is opened.
READ, WRITE, CREATE, EXCLUSIVE = 0x01, 0x02, 0x08, 0x20

# What attributes hold, by their flags.
_SIZE, _OWNERS, _MODE, _TIMES, _MORE = 0x1, 0x2, 0x4, 0x8, 0x80000000
_USUAL = _SIZE | _OWNERS | _MODE | _TIMES
_USUAL_ATTRIBUTES = struct.Struct(">4xQ8xI4xI")

# Codes of answers, also of later versions, which some servers use nevertheless.
OK, EOF, NO_SUCH_FILE, PERMISSION_DENIED, FAILURE, BAD_MESSAGE, NO_CONNECTION, CONNECTION_LOST, UNSUPPORTED = range(9)
NO_SUCH_PATH, ALREADY_EXISTS, WRITE_PROTECT = 10, 11, 12
NO_SPACE, QUOTA, NOT_A_DIRECTORY, LINK_LOOP, IS_A_DIRECTORY = 14, 15, 19, 21, 24

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
#: Bytes of what a server says of an error that anybody is to read.
_WORDS = 300
#: More bytes than this no file has: offsets have a sign on every system.
_LARGEST = (1 << 63) - 1
#: Requests are never smaller than this, whatever the server says that it takes, nor are answers waited for longer
#: (seconds) while a channel begins.
_LEAST, BEGINNING = 1 << 10, 30.0
#: The largest request where the server tells no limits: every server takes packets of 34,000 bytes.
_SAFE = 32 << 10


class Refusal(Exception):
    """The server's answer is that it would not, or could not."""

    def __init__(self, code: int, said: str) -> None:
        super().__init__(f"{said} (code {code})")
        self.code = code
        self.said = said


class NotFiles(ConnectionError):
    """What came instead of answers is no file protocol: text that a start-up file prints, most likely."""


class Nonsense(ConnectionError):
    """An answer came that cannot be one to what was asked. The channel itself may still be sound."""


class Attributes(NamedTuple):
    """What a server knows of a name; None for what it does not tell. `mtime` in whole seconds."""

    size: int | None = None
    mode: int | None = None
    mtime: int | None = None


class Space(NamedTuple):
    """Of a file system: the bytes of a block, and the blocks that are free for us."""

    block: int
    free: int


class Channel(Protocol):
    """Where requests go."""

    def write(self, data: bytes, /) -> None:
        """Send it."""

    def close(self) -> None:
        """End it, when everything has gone out."""

    def abort(self) -> None:
        """End it."""


class SftpClient(asyncssh.SSHClientSession[bytes]):
    """The channel. `read_size` and `write_size`: the largest requests; `extensions`: those that we know."""

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
        """A new channel, perhaps to the same server as another one.

        Raises ConnectionError or TimeoutError, or asyncssh.Error when there is none to be had.
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
        self._channel.write(struct.pack(">IBI", 5, _INIT, 3))
        version, greeting = await self._greeting
        if version < 3:
            raise NotFiles(f"the server speaks version {version}")
        found, at = set(), 0
        while at < len(greeting):
            name, at = _string(greeting, at)
            value, at = _string(greeting, at)
            if _KNOWN.get(name) == value:
                found.add(name)
        self.extensions = frozenset(found)
        if limits and b"limits@openssh.com" in found:
            try:
                told = await self._ask(_EXTENDED, _spell(b"limits@openssh.com"), _EXTENDED_REPLY)
                _, reading, writing, _ = _numbers(">QQQQ", told)
            except (Refusal, Nonsense):
                return  # then what every server takes
            self.read_size, self.write_size = (max(each or _LONGEST, _LEAST) for each in (reading, writing))

    # -- the channel ---------------------------------------------------------------------------------------

    def data_received(self, data: bytes, datatype: asyncssh.DataType) -> None:
        """See `asyncssh.SSHClientSession`. Answers come in pieces of 32 KiB, and many of them in one."""
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
            (length,) = _NUMBER.unpack_from(rest, at)
            if not 5 <= length <= _LONGEST:
                self._fail(NotFiles("what came is no answer"))
                return
            if end - at < 4 + length:
                self._wanted = 4 + length
                break
            kind, number = _HEAD.unpack_from(rest, at + 4)
            self._take(kind, number, rest[at + (13 if kind == _DATA else 9) : at + 4 + length])
            at += 4 + length
        self._pieces = [rest[at:]] if at < end else []
        self._held = end - at

    def _take_block(self) -> bytes:
        """Take a block of a file that has come in several pieces, copied once; what came after it.

        Where what has come is something else, nothing happens.
        """
        first, surplus = self._pieces[0], self._held - self._wanted
        if len(self._pieces) == 1 or self._wanted <= 4 or len(first) < 13 or first[4] != _DATA:
            return b""
        last = memoryview(self._pieces[-1])
        mid = len(last) - surplus
        if mid < 0:
            return b""
        _, number = _HEAD.unpack_from(first, 4)
        self._take(_DATA, number, b"".join((memoryview(first)[13:], *self._pieces[1:-1], last[:mid])))
        self._pieces = [bytes(last[mid:])]
        self._held = surplus
        return self._pieces[0]

    def _take(self, kind: int, number: int, body: bytes) -> None:
        """An answer; of a block of a file without its length, which is that of the packet."""
        if kind == _VERSION:
            if not self._greeting.done():
                self._greeting.set_result((number, body))
            return
        future, wanted = self._waiting.pop(number, (None, 0))
        if future is None:
            self._fail(ConnectionError("an answer that nobody has asked for"))
        elif not future.done():
            if kind == _STATUS and (wanted != _STATUS or body[:4] != _DONE):
                future.set_exception(_refusal(body))
            elif kind == wanted:
                future.set_result(body)
            else:
                future.set_exception(Nonsense(f"an answer of another kind ({kind}) than was asked for"))

    def connection_lost(self, exc: Exception | None) -> None:
        """See `asyncssh.SSHClientSession`."""
        self._fail(ConnectionError(str(exc) if exc else "the channel was closed"))
        if not self._ended.done():
            self._ended.set_result(None)

    def eof_received(self) -> bool:
        """See `asyncssh.SSHClientSession`: the server has ended."""
        return False

    def _fail(self, error: ConnectionError) -> None:
        """Nothing will be answered any more."""
        self._error = self._error or error
        waiting, self._waiting = self._waiting, {}
        for future, _ in waiting.values():
            if not future.done():
                future.set_exception(ConnectionError(str(error)))
        if not self._greeting.done():
            self._greeting.set_exception(error)
            self._greeting.exception()  # nobody may ever ask for it
        if self._channel is not None:
            self._channel.abort()

    def exit(self) -> None:
        """Close it."""
        if self._channel is not None:
            self._turn.send()
            self._channel.close()

    async def wait_closed(self) -> None:
        """Until it has ended, whoever has ended it."""
        await asyncio.shield(self._ended)

    async def _ask(self, kind: int, body: bytes, wanted: int = _STATUS, data: bytes | memoryview = b"") -> bytes:
        """One request, `data` at its end; what its answer holds. Raises Refusal, ConnectionError."""
        if self._error is not None:
            raise ConnectionError(str(self._error))
        number = self._next
        self._next = (number + 1) & 0xFFFFFFFF
        future: asyncio.Future[bytes] = asyncio.get_running_loop().create_future()
        self._waiting[number] = future, wanted
        self._turn.put(_REQUEST.pack(5 + len(body) + len(data), kind, number) + body)
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
        """The absolute path, links followed as far as the server does."""
        names = _names(await self._ask(_REALPATH, _spell(path), _NAME))
        if len(names) != 1 or not names[0][0].startswith(b"/") or b"\0" in names[0][0]:
            raise Nonsense("a path was answered with several, or none")
        return names[0][0]

    async def lstat(self, path: bytes) -> Attributes:
        """Of a name, links not followed."""
        return _attributes(await self._ask(_LSTAT, _spell(path), _ATTRS), 0)[0]

    async def owner(self, path: bytes) -> str:
        """The account that owns a name, or its number; "" where the server tells neither."""
        packet = await self._ask(_LSTAT, _spell(path), _ATTRS)
        (flags,) = _numbers(">I", packet)
        if not flags & _OWNERS:
            return ""
        (number,) = _numbers(">I", packet[12 if flags & _SIZE else 4 :])
        try:
            body = _spell(_NUMBER.pack(number)) + _spell(b"")
            names = await self._extended(b"users-groups-by-id@openssh.com", body, _EXTENDED_REPLY)
        except Refusal:
            return str(number)
        name, _ = _string(_string(names, 0)[0], 0)
        return name.decode("utf-8", "backslashreplace") or str(number)

    async def open_directory(self, path: bytes) -> bytes:
        """A handle for `names`, to be closed."""
        return _string(await self._ask(_OPENDIR, _spell(path), _HANDLE), 0)[0]

    async def names(self, handle: bytes) -> list[tuple[bytes, Attributes]]:
        """More of what a directory holds; nothing at its end."""
        try:
            return _names(await self._ask(_READDIR, _spell(handle), _NAME))
        except Refusal as refusal:
            if refusal.code == EOF:
                return []
            raise

    async def readlink(self, path: bytes) -> bytes:
        """Where a symbolic link points."""
        names = _names(await self._ask(_READLINK, _spell(path), _NAME))
        if len(names) != 1 or b"\0" in names[0][0]:
            raise Nonsense("a link's target that is none")
        return names[0][0]

    async def open_file(self, path: bytes, flags: int, mode: int | None = None) -> bytes:
        """A handle. `mode`: permission bits of a file that is made."""
        body = _spell(path) + struct.pack(">I", flags) + _spell_attributes(mode, None)
        return _string(await self._ask(_OPEN, body, _HANDLE), 0)[0]

    async def close(self, handle: bytes) -> None:
        """Let go of a handle."""
        await self._ask(_CLOSE, _spell(handle))

    async def fstat(self, handle: bytes) -> Attributes:
        """Of an open file."""
        return _attributes(await self._ask(_FSTAT, _spell(handle), _ATTRS), 0)[0]

    async def read(self, handle: bytes, offset: int, size: int) -> bytes:
        """At most so many bytes; none at the end of the file."""
        try:
            data = await self._ask(_READ, _spell(handle) + _AT.pack(offset, size), _DATA)
            if len(data) > size:
                raise Nonsense("more bytes than were asked for")
            return data
        except Refusal as refusal:
            if refusal.code == EOF:
                return b""
            raise

    async def write(self, handle: bytes, offset: int, data: bytes | memoryview) -> None:
        """All of it."""
        await self._ask(_WRITE, _spell(handle) + _AT.pack(offset, len(data)), data=data)

    async def mkdir(self, path: bytes, mode: int) -> None:
        """A directory with these permission bits."""
        await self._ask(_MKDIR, _spell(path) + _spell_attributes(mode, None))

    async def symlink(self, target: bytes, path: bytes) -> None:
        """A symbolic link at a path."""
        first, second = (target, path) if self._turned_round else (path, target)
        await self._ask(_SYMLINK, _spell(first) + _spell(second))

    async def setstat(self, path: bytes, mode: int | None, times: tuple[int, int] | None) -> None:
        """Permission bits, and times of access and modification in whole seconds; None leaves them.

        Through a link only where the server has no request that refuses to follow one.
        """
        facts = _spell_attributes(mode, times)
        if b"lsetstat@openssh.com" in self.extensions:
            await self._extended(b"lsetstat@openssh.com", _spell(path) + facts)
        else:
            await self._ask(_SETSTAT, _spell(path) + facts)

    async def fsetstat(self, handle: bytes, mode: int | None, times: tuple[int, int] | None) -> None:
        """The same, of an open file."""
        await self._ask(_FSETSTAT, _spell(handle) + _spell_attributes(mode, times))

    async def rename(self, path: bytes, new: bytes) -> None:
        """Refused where the new name is taken."""
        await self._ask(_RENAME, _spell(path) + _spell(new))

    async def remove(self, path: bytes) -> None:
        """A file or link."""
        await self._ask(_REMOVE, _spell(path))

    async def rmdir(self, path: bytes) -> None:
        """An empty directory."""
        await self._ask(_RMDIR, _spell(path))

    async def served_by(self) -> tuple[str, int]:
        """This start of the machine that serves, and the process there; ("", 0) where it does not show them."""
        try:
            handle, process = await asyncio.gather(self.open_file(_BOOT, READ), self.readlink(_SELF))
            boot, _ = await asyncio.gather(self.read(handle, 0, 100), self.close(handle))
        except Refusal:
            return "", 0
        return (boot.decode("ascii", "replace").strip(), int(process)) if process.isdigit() else ("", 0)

    # -- extensions ----------------------------------------------------------------------------------------

    async def _extended(self, name: bytes, body: bytes, wanted: int = _STATUS) -> bytes:
        if name not in self.extensions:
            raise Refusal(UNSUPPORTED, f"{name.decode()} is not offered")
        return await self._ask(_EXTENDED, _spell(name) + body, wanted)

    async def posix_rename(self, path: bytes, new: bytes) -> None:
        """In one go, over what has the name."""
        await self._extended(b"posix-rename@openssh.com", _spell(path) + _spell(new))

    async def link(self, path: bytes, new: bytes) -> None:
        """A second name for a file."""
        await self._extended(b"hardlink@openssh.com", _spell(path) + _spell(new))

    async def fsync(self, handle: bytes) -> None:
        """Put an open file on its disk."""
        await self._extended(b"fsync@openssh.com", _spell(handle))

    async def space(self, path: bytes) -> Space:
        """Of the file system that a path is on."""
        packet = await self._extended(b"statvfs@openssh.com", _spell(path), _EXTENDED_REPLY)
        _, block, _, _, free = _numbers(">QQQQQ", packet)
        return Space(block, free)

    async def copy_data(self, source: bytes, offset: int, size: int, target: bytes, at: int) -> None:
        """Bytes of one open file into another."""
        body = _spell(source) + struct.pack(">QQ", offset, size) + _spell(target) + struct.pack(">Q", at)
        await self._extended(b"copy-data", body)


_DONE = OK.to_bytes(4, "big")
_HEAD, _REQUEST, _NUMBER, _AT = (struct.Struct(form) for form in (">BI", ">IBI", ">I", ">QI"))


def _spell(value: bytes) -> bytes:
    return _NUMBER.pack(len(value)) + value


def _spell_attributes(mode: int | None, times: tuple[int, int] | None) -> bytes:
    flags = (_MODE if mode is not None else 0) | (_TIMES if times is not None else 0)
    numbers = ([mode] if mode is not None else []) + list(times or ())
    return struct.pack(f">{1 + len(numbers)}I", flags, *numbers)


def _numbers(form: str, packet: bytes) -> tuple[int, ...]:
    """Numbers of a packet. Raises Nonsense."""
    try:
        return struct.unpack_from(form, packet)
    except struct.error:
        raise Nonsense("an answer that is too short") from None


def _string(packet: bytes, at: int) -> tuple[bytes, int]:
    """A string of a packet, and where it ends. Raises Nonsense."""
    try:
        (length,) = _NUMBER.unpack_from(packet, at)
    except struct.error:
        raise Nonsense("an answer that is too short") from None
    end = at + 4 + length
    if end > len(packet):
        raise Nonsense("an answer that is too short")
    return packet[at + 4 : end], end


def _attributes(packet: bytes, at: int) -> tuple[Attributes, int]:
    """Attributes of a packet, and where they end. Raises Nonsense."""
    try:
        (flags,) = _NUMBER.unpack_from(packet, at)
        if flags == _USUAL:
            usual = _USUAL_ATTRIBUTES.unpack_from(packet, at)
            if usual[0] <= _LARGEST:
                return Attributes(*usual), at + 32
        at, size, mode, mtime = at + 4, None, None, None
        if flags & _SIZE:
            ((size,), at) = struct.unpack_from(">Q", packet, at), at + 8
        if flags & _OWNERS:
            at += 8
        if flags & _MODE:
            ((mode,), at) = _NUMBER.unpack_from(packet, at), at + 4
        if flags & _TIMES:
            ((mtime,), at) = _NUMBER.unpack_from(packet, at + 4), at + 8
        if flags & _MORE:
            ((count,), at) = _NUMBER.unpack_from(packet, at), at + 4
            if count > len(packet):
                raise Nonsense("an answer that is too short")
            for _ in range(2 * count):
                at = _string(packet, at)[1]
    except struct.error:
        raise Nonsense("an answer that is too short") from None
    if size is not None and size > _LARGEST:
        raise Nonsense("a file of more bytes than there can be")
    return Attributes(size, mode, mtime), at


def _names(packet: bytes) -> list[tuple[bytes, Attributes]]:
    """The names of a packet, each with its attributes. Raises Nonsense."""
    (count,) = _numbers(">I", packet)
    names, at = [], 4
    for _ in range(count):
        name, at = _string(packet, at)
        at = _string(packet, at)[1]  # the same as a line of text, for people
        found, at = _attributes(packet, at)
        names.append((name, found))
    return names


def _refusal(packet: bytes) -> Refusal | ConnectionError:
    """What a status says. Some servers say no more than a number."""
    if len(packet) < 4:
        return Nonsense("an answer that is too short")
    (code,) = _NUMBER.unpack_from(packet)
    if code == OK:
        return Nonsense("an answer that holds nothing of what was asked for")
    length = min(int.from_bytes(packet[4:8], "big"), _WORDS)
    said = packet[8 : 8 + length].decode("utf-8", "backslashreplace")
    return Refusal(code, said or f"refused with code {code}")
