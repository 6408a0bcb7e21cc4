"""zip archives, read as if they were tar: members in order, contents as they come."""

from __future__ import annotations

import io
import stat
import struct
import time
import zipfile
import zlib
from collections.abc import Iterator

from yatagan.archives.compression import Bytes, check_proportion
from yatagan.portable.tar import DEVICE, DIRECTORY, FIFO, FILE, LINK, Damaged, Member

_PIECE = 1 << 20
#: Longest target of a link.
_TARGET = 4096
#: Extra field that holds times as Unix has them.
_TIMES = 0x5455
_UTF8 = 0x800


class _SeekableBytes(io.RawIOBase):
    """Bytes as the file object that `zipfile` wants."""

    def __init__(self, source: Bytes) -> None:
        self._source = source
        self._at = 0

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def seek(self, offset: int, whence: int = io.SEEK_SET) -> int:
        base = {io.SEEK_SET: 0, io.SEEK_CUR: self._at, io.SEEK_END: self._source.size}[whence]
        self._at = max(0, base + offset)
        return self._at

    def tell(self) -> int:
        return self._at

    def readinto(self, buffer: bytearray | memoryview) -> int:  # type: ignore[override]
        data = self._source.read_at(self._at, len(buffer))
        buffer[: len(data)] = data
        self._at += len(data)
        return len(data)


class ZipReader:
    """Reads a zip archive. Raises Damaged when its central directory cannot be read."""

    def __init__(self, source: Bytes, ratio: int) -> None:
        self._ratio = ratio
        self._given = 0
        self._taken = 0
        try:
            self._zip = zipfile.ZipFile(io.BufferedReader(_SeekableBytes(source), 1 << 16))
        except (zipfile.BadZipFile, NotImplementedError, ValueError, struct.error) as error:
            raise Damaged(
                source.size, f"its table of contents, which is at its end, cannot be read ({error})"
            ) from None
        self._infos = iter(self._zip.infolist())
        self._present: zipfile.ZipInfo | None = None
        self.at = 0

    def members(self) -> Iterator[Member]:
        for info in self._infos:
            self._present = info
            self.at = info.header_offset
            yield self._member(info)

    def _member(self, info: zipfile.ZipInfo) -> Member:
        mode = info.external_attr >> 16 if info.create_system == 3 else 0
        kind = _kind(info, mode)
        encoded = info.orig_filename.encode("utf-8" if info.flag_bits & _UTF8 else "cp437", "surrogateescape")
        name = encoded.partition(b"\0")[0]
        target = b""
        if kind == LINK:
            if info.file_size > _TARGET:
                raise Damaged(info.header_offset, "a link's target is too long to be one")
            target = b"".join(data for _, data in self.contents())
        size = info.file_size if kind == FILE else 0
        permissions = stat.S_IMODE(mode) if mode else (0o755 if kind == DIRECTORY else 0o644)
        return Member(name.rstrip(b"/"), kind, size, permissions, _mtime_ns(info), target, stored=size)

    def contents(self) -> Iterator[tuple[int, bytes]]:
        """Raises Damaged, also for what is encrypted or compressed in an unknown way, and Bomb."""
        info = self._present
        assert info is not None
        self._taken += info.compress_size
        at = 0
        try:
            with self._zip.open(info) as stream:
                while data := stream.read(_PIECE):
                    self._given += len(data)
                    check_proportion(self._given, self._taken, self._ratio)
                    yield at, data
                    at += len(data)
        except RuntimeError:
            raise Damaged(info.header_offset, "a member is encrypted") from None
        except NotImplementedError:
            raise Damaged(info.header_offset, "a member is compressed in a way that we cannot read") from None
        except (zipfile.BadZipFile, zlib.error, OSError, EOFError, ValueError, struct.error) as error:
            raise Damaged(info.header_offset, f"a member is damaged ({error})") from None
        if at != info.file_size:
            raise Damaged(info.header_offset, "a member is shorter than it should be")

    def resume(self) -> bool:
        """`members` simply goes on."""
        return True


def _kind(info: zipfile.ZipInfo, mode: int) -> str:
    if info.orig_filename.endswith("/"):
        return DIRECTORY
    for test, kind in ((stat.S_ISLNK, LINK), (stat.S_ISDIR, DIRECTORY), (stat.S_ISFIFO, FIFO)):
        if test(mode):
            return kind
    return DEVICE if stat.S_ISCHR(mode) or stat.S_ISBLK(mode) or stat.S_ISSOCK(mode) else FILE


def _mtime_ns(info: zipfile.ZipInfo) -> int:
    """A member's modification time: the Unix one if there is one, else the maker's local clock in steps of 2 s."""
    extra, at = info.extra, 0
    while at + 4 <= len(extra):
        kind, size = struct.unpack_from("<HH", extra, at)
        if kind == _TIMES and size >= 5 and at + 9 <= len(extra) and extra[at + 4] & 1:
            seconds: int = struct.unpack_from("<i", extra, at + 5)[0]
            return seconds * 1_000_000_000
        at += 4 + size
    try:
        return int(time.mktime((*info.date_time, 0, 0, -1))) * 1_000_000_000
    except (OverflowError, ValueError):
        return 0
