"""SFTP version 3 on the wire: numbers of requests, answers and codes, and their fields as bytes. No I/O."""

from __future__ import annotations

import struct
from typing import NamedTuple

# What is asked for, and what is answered.
INIT, VERSION = 1, 2
OPEN, CLOSE, READ_FILE, WRITE_FILE, LSTAT, FSTAT, SETSTAT, FSETSTAT = 3, 4, 5, 6, 7, 8, 9, 10
OPENDIR, READDIR, REMOVE, MKDIR, RMDIR, REALPATH = 11, 12, 13, 14, 15, 16
RENAME, READLINK, SYMLINK, EXTENDED = 18, 19, 20, 200
STATUS, HANDLE, DATA, NAME, ATTRS, EXTENDED_REPLY = 101, 102, 103, 104, 105, 201

#: How a file is opened.
READ, WRITE, CREATE, EXCLUSIVE = 0x01, 0x02, 0x08, 0x20

# What attributes hold, by their flags.
HAS_SIZE, HAS_OWNERS, HAS_MODE, HAS_TIMES, HAS_MORE = 0x1, 0x2, 0x4, 0x8, 0x80000000
_USUAL = HAS_SIZE | HAS_OWNERS | HAS_MODE | HAS_TIMES
_USUAL_ATTRIBUTES = struct.Struct(">4xQ8xI4xI")

# Codes of answers, also of later versions, which some servers use nevertheless.
OK, EOF, NO_SUCH_FILE, PERMISSION_DENIED, FAILURE, BAD_MESSAGE, NO_CONNECTION, CONNECTION_LOST, UNSUPPORTED = range(9)
NO_SUCH_PATH, ALREADY_EXISTS, WRITE_PROTECT = 10, 11, 12
NO_SPACE, QUOTA, NOT_A_DIRECTORY, LINK_LOOP, IS_A_DIRECTORY = 14, 15, 19, 21, 24

#: Bytes of a server's error message that are shown.
_WORDS = 300
#: More bytes than this no file has: offsets have a sign on every system.
_LARGEST = (1 << 63) - 1


class Refusal(Exception):
    """The server refused a request."""

    def __init__(self, code: int, said: str) -> None:
        super().__init__(f"{said} (code {code})")
        self.code = code
        self.said = said


class Nonsense(ConnectionError):
    """An answer that cannot belong to its request. The channel may still be sound."""


class Attributes(NamedTuple):
    """What a server knows of a name; None where it does not say. `mtime` in whole seconds."""

    size: int | None = None
    mode: int | None = None
    mtime: int | None = None


class Space(NamedTuple):
    """Of a file system: the size of a block in bytes, the blocks that are free for us, and whether it is read-only."""

    block: int
    free: int
    read_only: bool


DONE = OK.to_bytes(4, "big")
HEAD, REQUEST, NUMBER, AT = (struct.Struct(form) for form in (">BI", ">IBI", ">I", ">QI"))


def encode_string(value: bytes) -> bytes:
    """A string with its length in front."""
    return NUMBER.pack(len(value)) + value


def encode_attributes(mode: int | None, times: tuple[int, int] | None) -> bytes:
    """Attributes as a request sets them; None leaves them as they are. `times`: access and modification, in seconds."""
    flags = (HAS_MODE if mode is not None else 0) | (HAS_TIMES if times is not None else 0)
    numbers = ([mode] if mode is not None else []) + list(times or ())
    return struct.pack(f">{1 + len(numbers)}I", flags, *numbers)


def decode_numbers(form: str, packet: bytes) -> tuple[int, ...]:
    """Numbers of a packet. Raises Nonsense."""
    try:
        return struct.unpack_from(form, packet)
    except struct.error:
        raise Nonsense("an answer that is too short") from None


def decode_string(packet: bytes, at: int) -> tuple[bytes, int]:
    """A string of a packet, and the offset behind it. Raises Nonsense."""
    try:
        (length,) = NUMBER.unpack_from(packet, at)
    except struct.error:
        raise Nonsense("an answer that is too short") from None
    end = at + 4 + length
    if end > len(packet):
        raise Nonsense("an answer that is too short")
    return packet[at + 4 : end], end


def decode_attributes(packet: bytes, at: int) -> tuple[Attributes, int]:
    """Attributes of a packet, and the offset behind them. Raises Nonsense."""
    try:
        (flags,) = NUMBER.unpack_from(packet, at)
        if flags == _USUAL:
            usual = _USUAL_ATTRIBUTES.unpack_from(packet, at)
            if usual[0] <= _LARGEST:
                return Attributes(*usual), at + 32
        at, size, mode, mtime = at + 4, None, None, None
        if flags & HAS_SIZE:
            ((size,), at) = struct.unpack_from(">Q", packet, at), at + 8
        if flags & HAS_OWNERS:
            at += 8
        if flags & HAS_MODE:
            ((mode,), at) = NUMBER.unpack_from(packet, at), at + 4
        if flags & HAS_TIMES:
            ((mtime,), at) = NUMBER.unpack_from(packet, at + 4), at + 8
        if flags & HAS_MORE:
            ((count,), at) = NUMBER.unpack_from(packet, at), at + 4
            if count > len(packet):
                raise Nonsense("an answer that is too short")
            for _ in range(2 * count):
                at = decode_string(packet, at)[1]
    except struct.error:
        raise Nonsense("an answer that is too short") from None
    if size is not None and size > _LARGEST:
        raise Nonsense("a file of more bytes than there can be")
    return Attributes(size, mode, mtime), at


def decode_names(packet: bytes) -> list[tuple[bytes, Attributes]]:
    """The names of a packet, each with its attributes. Raises Nonsense."""
    (count,) = decode_numbers(">I", packet)
    names, at = [], 4
    for _ in range(count):
        name, at = decode_string(packet, at)
        at = decode_string(packet, at)[1]  # the same as a line of text, for people
        found, at = decode_attributes(packet, at)
        names.append((name, found))
    return names


def decode_refusal(packet: bytes) -> Refusal | ConnectionError:
    """The error of a status packet. Some servers send no more than a number."""
    if len(packet) < 4:
        return Nonsense("an answer that is too short")
    (code,) = NUMBER.unpack_from(packet)
    if code == OK:
        return Nonsense("an answer that holds nothing of what was asked for")
    length = min(int.from_bytes(packet[4:8], "big"), _WORDS)
    said = packet[8 : 8 + length].decode("utf-8", "backslashreplace")
    return Refusal(code, said or f"refused with code {code}")
