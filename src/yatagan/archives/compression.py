"""What a tar stream is compressed with: gzip, bzip2, xz and zstd read; plain, gzip and zstd written.

zstd is written in independent frames, each of the same number of bytes of the tar stream, with the seek table of the
zstd seekable format at the end, in a frame that every zstd skips: so a part can be read without what comes before it.
"""

from __future__ import annotations

import bz2
import lzma
import struct
import threading
import zlib
from collections import OrderedDict, deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from enum import StrEnum
from typing import IO, Any, Protocol, cast

from yatagan.portable.tar import Damaged
from yatagan.portable.zstd_frames import FOOTER, SEEKABLE, SKIPPABLE, even, seek_table

#: Bytes of the tar stream in one frame.
FRAME = 1 << 20
_BLOCK = 1 << 18


class Form(StrEnum):
    """What a bundle can be written as. The values are the endings of its name."""

    TAR = "tar"
    GZIP = "tar.gz"
    ZSTD = "tar.zst"


#: Levels: (least, usual, most). gzip's 1 to 3 are ISA-L's, which are fast; above come zlib's.
LEVELS = {Form.GZIP: (1, 2, 9), Form.ZSTD: (1, 3, 19)}

_ENDINGS = {b".tgz": Form.GZIP, b".tzst": Form.ZSTD, **{b"." + form.value.encode(): form for form in Form}}


def form_of(name: bytes) -> Form | None:
    """The form that a name's ending stands for, if any."""
    return next((form for ending, form in _ENDINGS.items() if name.endswith(ending)), None)


# -- writing ---------------------------------------------------------------------------------------------------


def compressed(blocks: Iterable[bytes], form: Form, level: int, threads: int) -> Iterator[bytes]:
    """A tar stream in its form. The same stream always gives the same bytes."""
    if form is Form.TAR:
        return iter(blocks)
    return _gzip(blocks, level) if form is Form.GZIP else _frames(blocks, level, threads)


def _gzip(blocks: Iterable[bytes], level: int) -> Iterator[bytes]:
    """One gzip stream, made in a thread beside the one that makes the blocks."""
    press: Any
    if level <= 3:
        from isal import isal_zlib

        press = isal_zlib.compressobj(level, wbits=31)
    else:
        press = zlib.compressobj(level, wbits=31)
    with ThreadPoolExecutor(1) as presser:
        waiting: deque[Future[bytes]] = deque()
        for block in blocks:
            waiting.append(presser.submit(press.compress, block))
            if len(waiting) > 4:
                yield waiting.popleft().result()
        waiting.append(presser.submit(press.flush))
        for future in waiting:
            yield future.result()


def _frames(blocks: Iterable[bytes], level: int, threads: int) -> Iterator[bytes]:
    import zstandard

    local = threading.local()

    def press(data: bytes) -> bytes:
        if not hasattr(local, "compressor"):
            local.compressor = zstandard.ZstdCompressor(level=level, write_checksum=True)
        made: bytes = local.compressor.compress(data)
        return made

    sizes: list[tuple[int, int]] = []
    waiting: deque[tuple[int, Future[bytes]]] = deque()

    def next_frame() -> bytes:
        size, future = waiting.popleft()
        frame = future.result()
        sizes.append((len(frame), size))
        return frame

    with ThreadPoolExecutor(threads) as pressers:
        for block in even(blocks, FRAME):
            waiting.append((len(block), pressers.submit(press, block)))
            if len(waiting) > 2 * threads:
                yield next_frame()
        while waiting:
            yield next_frame()
    yield seek_table(sizes)


# -- the seek table --------------------------------------------------------------------------------------------

#: Larger frames are not read as a whole; the file is then read from front to back.
_LARGEST_FRAME = 64 << 20
_MOST_FRAMES = 0x8000000


@dataclass(frozen=True, slots=True)
class Frames:
    """Where each frame begins, in the file and in the tar stream; both have one entry more, for the end."""

    stored: list[int]
    plain: list[int]


class Bytes(Protocol):
    """A file of which any part can be read."""

    @property
    def size(self) -> int:
        """Its size in bytes."""

    def read_at(self, offset: int, size: int) -> bytes:
        """So many bytes, fewer only at the end."""


def read_seek_table(source: Bytes) -> Frames | None:
    """The seek table of a zstd file, or None when it has none that makes sense."""
    if source.size < FOOTER.size:
        return None
    count, descriptor, magic = FOOTER.unpack(source.read_at(source.size - FOOTER.size, FOOTER.size))
    if magic != SEEKABLE or descriptor & 0x7C or count > _MOST_FRAMES:
        return None
    entry = 12 if descriptor & 0x80 else 8
    begins = source.size - FOOTER.size - count * entry - 8
    if begins < 0:
        return None
    table = source.read_at(begins, 8 + count * entry)
    if struct.unpack_from("<II", table) != (SKIPPABLE, count * entry + FOOTER.size):
        return None
    stored, plain = [0], [0]
    for at in range(8, len(table), entry):
        pressed, size = struct.unpack_from("<II", table, at)
        if max(pressed, size) > _LARGEST_FRAME:
            return None
        stored.append(stored[-1] + pressed)
        plain.append(plain[-1] + size)
    return Frames(stored, plain) if stored[-1] == begins else None


# -- reading ---------------------------------------------------------------------------------------------------


class Stream(Protocol):
    """Plain bytes, from front to back."""

    def read(self, size: int) -> bytes:
        """Up to that many bytes; none at the end. Raises Damaged."""


class Bomb(Exception):
    """Far more came out than went in: the archive seems made to fill the disk."""

    def __init__(self, ratio: int) -> None:
        super().__init__(ratio)
        self.ratio = ratio


#: Before so much has come out, no ratio is too large.
_RATIO_AFTER = 64 << 20


def check_proportion(given: int, taken: int, ratio: int) -> None:
    """Raise Bomb when more than `ratio` bytes came out for each byte that went in."""
    if given > _RATIO_AFTER and given > ratio * max(taken, 1):
        raise Bomb(ratio)


class Compression(StrEnum):
    """How a file is compressed, by its first bytes."""

    PLAIN = "plain"
    GZIP = "gzip"
    BZIP2 = "bzip2"
    XZ = "xz"
    ZSTD = "zstd"
    ZIP = "zip"


_MAGIC = [
    (b"\x1f\x8b\x08", Compression.GZIP),
    (b"BZh", Compression.BZIP2),
    (b"\xfd7zXZ\0", Compression.XZ),
    (b"\x28\xb5\x2f\xfd", Compression.ZSTD),
    (b"PK\x03\x04", Compression.ZIP),
    (b"PK\x05\x06", Compression.ZIP),
]


def packing_of(start: bytes) -> Compression:
    """The compression that these first bytes belong to."""
    if len(start) >= 4 and start[1:4] == b"\x2a\x4d\x18" and 0x50 <= start[0] <= 0x5F:
        return Compression.ZSTD  # a skippable frame may come first
    return next((packing for magic, packing in _MAGIC if start.startswith(magic)), Compression.PLAIN)


def unpacked(stream: Stream, packing: Compression) -> Stream:
    """The plain bytes of a compressed stream. Reading raises Damaged."""
    if packing is Compression.PLAIN:
        return stream
    if packing is Compression.ZSTD:
        return _Zstd(stream)
    return _Pressed(stream, _DECOMPRESSORS[packing])


def _isal() -> Any:
    from isal import igzip_lib

    return igzip_lib.IgzipDecompressor(flag=igzip_lib.DECOMP_GZIP)


_DECOMPRESSORS: dict[Compression, Callable[[], Any]] = {
    Compression.GZIP: _isal,
    Compression.BZIP2: bz2.BZ2Decompressor,
    Compression.XZ: lambda: lzma.LZMADecompressor(memlimit=1 << 30),
}


class _Pressed:
    """One or more compressed streams in a row, by a decompressor of the standard library."""

    def __init__(self, stream: Stream, make: Callable[[], Any]) -> None:
        self._stream = stream
        self._make = make
        self._press = make()
        self._begun = False
        self._given = 0

    def read(self, size: int) -> bytes:
        while True:
            data = b""
            if self._press.eof:
                data = self._press.unused_data
                if not data:
                    data = self._stream.read(_BLOCK)
                data = data.lstrip(b"\0") if data else data  # padding between streams is allowed
                if not data:
                    return b""
                self._press, self._begun = self._make(), False
            elif self._press.needs_input:
                data = self._stream.read(_BLOCK)
                if not data:
                    raise Damaged(self._given, "the compressed data ends too soon")
            try:
                out: bytes = self._press.decompress(data, size)
            except (OSError, EOFError, ValueError, lzma.LZMAError, zlib.error, _isal_error()) as error:
                if self._given and not self._begun:
                    return b""  # something else after the end of the last stream
                raise Damaged(self._given, f"the compressed data is damaged ({error})") from None
            if out:
                self._begun = True
                self._given += len(out)
                return out


def _isal_error() -> type[Exception]:
    from isal import igzip_lib

    return cast("type[Exception]", igzip_lib.IsalError)


class _Zstd:
    def __init__(self, stream: Stream) -> None:
        import zstandard

        self._error = zstandard.ZstdError
        self._reader = zstandard.ZstdDecompressor(max_window_size=1 << 28).stream_reader(
            cast("IO[bytes]", stream), read_size=_BLOCK, read_across_frames=True
        )
        self._given = 0

    def read(self, size: int) -> bytes:
        try:
            data: bytes = self._reader.read(size)
        except self._error as error:
            raise Damaged(self._given, f"the compressed data is damaged ({error})") from None
        if not data and size and not self._given:
            raise Damaged(0, "the compressed data ends too soon")  # the library takes half a frame for an empty one
        self._given += len(data)
        return data


#: Bytes of frames that are kept, since what is read next is often near to what was read lately.
_HELD = 32 << 20


class Seekable:
    """The tar stream of a file with a seek table: any part of it can be read. A few frames are cached."""

    def __init__(self, source: Bytes, frames: Frames) -> None:
        import zstandard

        self._source = source
        self._frames = frames
        self._press = zstandard.ZstdDecompressor(max_window_size=1 << 28)
        self._error = zstandard.ZstdError
        self._held: OrderedDict[int, bytes] = OrderedDict()
        self._held_size = 0
        self.size = frames.plain[-1]

    def read_at(self, offset: int, size: int) -> bytes:
        """So many bytes, fewer only at the end. Raises Damaged."""
        from bisect import bisect_right

        pieces = []
        end = min(offset + size, self.size)
        while offset < end:
            number = bisect_right(self._frames.plain, offset) - 1
            begins = self._frames.plain[number]
            piece = self._frame(number)[offset - begins : end - begins]
            pieces.append(piece)
            offset += len(piece)
        return b"".join(pieces)

    def _frame(self, number: int) -> bytes:
        if number in self._held:
            self._held.move_to_end(number)
            return self._held[number]
        frames = self._frames
        stored = self._source.read_at(frames.stored[number], frames.stored[number + 1] - frames.stored[number])
        size = frames.plain[number + 1] - frames.plain[number]
        try:
            plain: bytes = self._press.decompress(stored, max_output_size=size)
        except self._error as error:
            raise Damaged(frames.plain[number], f"the compressed data is damaged ({error})") from None
        if len(plain) != size:
            raise Damaged(frames.plain[number], "a frame does not hold what the seek table says")
        self._held[number] = plain
        self._held_size += size
        while self._held_size > _HELD and len(self._held) > 1:
            self._held_size -= len(self._held.popitem(last=False)[1])
        return plain
