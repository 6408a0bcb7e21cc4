"""The tar format: what a member is, and members to header blocks. `tar_reader.py` reads them back.

Written is what POSIX.1-2001 calls pax interchange: a ustar header, preceded by an extended one where a name, a
time or a size does not fit. Sparse files take the form that is known as GNU sparse 1.0.

Names are bytes, times nanoseconds since the epoch.
"""

import zlib
from functools import lru_cache
from typing import List, NamedTuple, Optional, Tuple

BLOCK = 512
#: The end of an archive: two blocks of zeros.
END = bytes(2 * BLOCK)


FILE, DIRECTORY, LINK, HARD_LINK = "file", "directory", "link", "hard link"
FIFO, DEVICE, OTHER = "fifo", "device", "other"

Regions = Tuple[Tuple[int, int], ...]


class Damaged(Exception):
    """The archive is damaged; `at`: offset in the tar stream."""

    def __init__(self, at: int, why: str) -> None:
        super().__init__("byte %d: %s" % (at, why))
        self.at = at
        self.why = why


class NoHeader(Damaged):
    """There is no header where one must be."""


class Member(NamedTuple):
    """One member.

    `size` is that of the file, `stored` how much of it the archive holds (less than `size` in a sparse file, whose
    `regions` of data are (offset, size)); `offset` is where that begins in the tar stream, None while unknown.
    """

    name: bytes
    kind: str
    size: int
    mode: int
    mtime_ns: int
    target: bytes = b""
    uid: int = 0
    gid: int = 0
    owner: bytes = b""
    group: bytes = b""
    regions: Optional[Regions] = None
    stored: int = 0
    offset: Optional[int] = None


def padding(size: int) -> int:
    """Bytes that are missing to a whole block."""
    return -size % BLOCK


_TYPES = {FILE: b"0", HARD_LINK: b"1", LINK: b"2", DIRECTORY: b"5"}
_LARGEST_NUMBER = 0o77777777777  # 8,589,934,591: bytes, or seconds up to the year 2242
_LARGEST_ID = 0o7777777
_AFTER_SUM = b"%b%bustar\x0000%b%b0000000\x000000000\0" + bytes(167)


def encode(member: Member) -> bytes:
    """The header blocks of a member, up to its contents. The map of a sparse file is among them."""
    name = member.name + b"/" if member.kind == DIRECTORY else member.name
    seconds, fraction = divmod(member.mtime_ns, 1_000_000_000)
    own = _after_sum(_TYPES[member.kind], member.target, member.owner, member.group)
    records: List[Tuple[bytes, bytes]] = []
    if not _fits(name):
        records.append((b"path", name))
    if not _fits(member.target):
        records.append((b"linkpath", member.target))
    if fraction or not 0 <= seconds <= _LARGEST_NUMBER:
        records.append((b"mtime", _decimal(member.mtime_ns)))
        seconds = min(max(seconds, 0), _LARGEST_NUMBER)
    if member.uid > _LARGEST_ID:
        records.append((b"uid", b"%d" % member.uid))
    if member.gid > _LARGEST_ID:
        records.append((b"gid", b"%d" % member.gid))
    in_front = b""
    stored = member.stored
    if member.regions is not None:
        in_front = _sparse_map(member.regions, member.size)
        stored += len(in_front)
        records = [record for record in records if record[0] != b"path"]
        records += [
            (b"GNU.sparse.major", b"1"),
            (b"GNU.sparse.minor", b"0"),
            (b"GNU.sparse.name", name),
            (b"GNU.sparse.realsize", b"%d" % member.size),
        ]
        name = b"GNUSparseFile.0/" + name.rpartition(b"/")[2]
    if stored > _LARGEST_NUMBER:
        records.append((b"size", b"%d" % stored))
    header = _header(name, member.mode, member.uid, member.gid, stored, seconds, own)
    return b"".join((_extended(records), header, in_front)) if records else header


#: The size of what `common_head` makes: an extended header, its one block, and the plain header.
COMMON_HEAD = 3 * BLOCK
_AFTER_MTIME = bytes(padding(30))


def common_head(
    name: bytes, size: int, mode: int, mtime_ns: int, whose: Tuple[int, int, bytes, bytes]
) -> Optional[Tuple[bytes, ...]]:
    """What `encode` makes of a file like most, in pieces, which are copied once; None for one that is otherwise.

    Most have a short name in ASCII, and nothing else that does not fit the plain header but a fraction of a second.
    `whose`: the numbers of account and group, and their names.
    """
    uid, gid, owner, group = whose
    seconds, fraction = divmod(mtime_ns, 1_000_000_000)
    fits = len(name) <= 100 and size <= _LARGEST_NUMBER and uid <= _LARGEST_ID >= gid and _is_ascii(name)
    if not (fits and fraction and 1_000_000_000 <= seconds <= _LARGEST_NUMBER):
        return None
    after, its_sum = _after_sum(b"0", b"", owner, group)
    before = b"%b%b%011o\0%011o\0" % (name.ljust(100, b"\0"), _rights(mode, uid, gid), size, seconds)
    told = b"%06o\0 " % ((zlib.adler32(before) & 0xFFFF) + 255 + its_sum)
    return _extended_header(30), b"30 mtime=%d.%09d\n" % (seconds, fraction), _AFTER_MTIME, before, told, after


def _header(name: bytes, mode: int, uid: int, gid: int, stored: int, seconds: int, after: Tuple[bytes, int]) -> bytes:
    told = stored if stored <= _LARGEST_NUMBER else 0
    before = b"%b%b%011o\0%011o\0" % (name[:100].ljust(100, b"\0"), _rights(mode, uid, gid), told, seconds)
    return b"%b%06o\0 %b" % (before, (zlib.adler32(before) & 0xFFFF) + 255 + after[1], after[0])


@lru_cache(maxsize=256)
def _rights(mode: int, uid: int, gid: int) -> bytes:
    return b"%07o\0%07o\0%07o\0" % (mode & 0o7777, min(uid, _LARGEST_ID), min(gid, _LARGEST_ID))


@lru_cache(maxsize=256)
def _after_sum(kind: bytes, target: bytes, owner: bytes, group: bytes) -> Tuple[bytes, int]:
    """What follows the checksum, and its sum. From file to file it is mostly the same."""
    after = _AFTER_SUM % (
        kind,
        target[:100].ljust(100, b"\0"),
        owner[:31].ljust(32, b"\0"),
        group[:31].ljust(32, b"\0"),
    )
    return after, byte_sum(after[:256]) + byte_sum(after[256:])


def byte_sum(part: bytes) -> int:
    """The sum of at most 256 bytes, at C speed: the low half of Adler-32 is one more than that, modulo 65521."""
    return (zlib.adler32(part) & 0xFFFF) - 1


def _fits(name: bytes) -> bool:
    """Whether a name needs no extended header.

    Plain headers are ASCII, strictly; but what is not UTF-8 either has no better place as long as it is short.
    """
    return len(name) <= 100 and (_is_ascii(name) or not _is_utf8(name))


def _is_ascii(name: bytes) -> bool:
    try:
        return name.isascii()
    except AttributeError:  # before Python 3.7
        return all(byte < 128 for byte in name)


def _decimal(ns: int) -> bytes:
    """Nanoseconds as the decimal seconds of a pax record."""
    whole, fraction = divmod(abs(ns), 1_000_000_000)
    digits = (b"%d.%09d" % (whole, fraction)).rstrip(b"0").rstrip(b".")
    return b"-" + digits if ns < 0 else digits


def _record(key: bytes, value: bytes) -> bytes:
    """`LENGTH KEY=VALUE`, where the length counts its own digits."""
    rest = b" %b=%b\n" % (key, value)
    length = len(rest) + len(b"%d" % len(rest))
    if len(b"%d" % length) + len(rest) != length:
        length += 1
    return b"%d%b" % (length, rest)


def _extended(records: List[Tuple[bytes, bytes]]) -> bytes:
    """An extended header for the next member; names that are not UTF-8 are declared as such."""
    if len(records) > 1 or records[0][0] != b"mtime":
        for key, value in records:
            if key in (b"path", b"linkpath", b"GNU.sparse.name") and not _is_utf8(value):
                records.insert(0, (b"hdrcharset", b"BINARY"))
                break
    body = b"".join([_record(key, value) for key, value in records])
    return b"".join((_extended_header(len(body)), body, bytes(padding(len(body)))))


@lru_cache(maxsize=256)
def _extended_header(size: int) -> bytes:
    return _header(b"PaxHeaders/next", 0o644, 0, 0, size, 0, _after_sum(b"x", b"", b"", b""))


def _is_utf8(name: bytes) -> bool:
    try:
        name.decode("utf-8")
    except UnicodeDecodeError:
        return False
    return True


def _sparse_map(regions: Regions, size: int) -> bytes:
    if not regions or sum(regions[-1]) < size:
        regions += ((size, 0),)  # GNU tar takes the size from the map
    text = b"%d\n" % len(regions) + b"".join([b"%d\n%d\n" % region for region in regions])
    return text + bytes(padding(len(text)))


def is_header(block: bytes) -> bool:
    """Whether a block is a header, by its checksum. Some old programs summed signed bytes."""
    if len(block) < BLOCK:
        return False
    digits = block[148:156].partition(b"\0")[0].strip(b" \0")
    try:
        told = int(digits, 8)
    except ValueError:
        return False
    rest = block[:148] + b" " * 8 + block[156:]
    plain = byte_sum(rest[:256]) + byte_sum(rest[256:])
    return told == plain or told == plain - 256 * sum(byte > 127 for byte in rest)
