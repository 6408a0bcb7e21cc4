"""Opening an archive of any kind: what it is, by its first bytes, and a reader for it."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Protocol

from yatagan.archives.compression import (
    Bytes,
    Compression,
    Seekable,
    Stream,
    check_proportion,
    packing_of,
    read_seek_table,
    unpacked,
)
from yatagan.archives.zips import ZipReader
from yatagan.portable.tar import BLOCK, Damaged, Member, NoHeader, is_header
from yatagan.portable.tar_reader import TarReader


class ArchiveReader(Protocol):
    """An archive, read from front to back."""

    @property
    def at(self) -> int:
        """How far it was read: the offset in the tar stream, or in a zip file."""

    def members(self) -> Iterator[Member]:
        """The members, in order. May be called again after `resume`."""

    def contents(self) -> Iterator[tuple[int, bytes]]:
        """The present member's data, as (offset in the file, bytes)."""

    def resume(self) -> bool:
        """Go on behind damage. Returns whether anything was found there."""


class NoArchive(Exception):
    """The file is no archive of a known format."""


class Sequential:
    """Bytes read from front to back; skipping costs nothing."""

    def __init__(self, source: Bytes) -> None:
        self._source = source
        self.at = 0

    def read(self, size: int) -> bytes:
        data = self._source.read_at(self.at, size)
        self.at += len(data)
        return data

    def skip(self, size: int) -> None:
        """Skip bytes. Raises EOFError when there are too few."""
        if self.at + size > self._source.size:
            raise EOFError
        self.at += size


class _RatioGuard:
    """The plain bytes of a compressed file, while they stay in proportion to it."""

    def __init__(self, plain: Stream, packed: Sequential, ratio: int) -> None:
        self._plain = plain
        self._packed = packed
        self._ratio = ratio
        self._given = 0

    def read(self, size: int) -> bytes:
        """Raises Bomb."""
        data = self._plain.read(size)
        self._given += len(data)
        check_proportion(self._given, self._packed.at, self._ratio)
        return data


def packing_at(start: bytes) -> Compression | None:
    """How the archive that begins with `start`, of BLOCK bytes, is packed; None for what is no archive."""
    if is_header(start):
        return Compression.PLAIN
    packing = packing_of(start)
    return None if packing is Compression.PLAIN else packing


def open_archive(source: Bytes, *, ratio: int) -> ArchiveReader:
    """Open an archive of any format. Raises NoArchive, and Damaged where its members are read."""
    try:
        start = source.read_at(0, BLOCK)
    except Damaged:  # the first frame of one that is read by frames; reading its members raises this again
        return TarReader(Sequential(source).read)
    # A tar may begin with a name that looks like something else.
    packing = Compression.PLAIN if is_header(start) else packing_of(start)
    if packing is Compression.ZIP:
        return ZipReader(source, ratio)
    packed = Sequential(source)
    if packing is Compression.PLAIN:
        if not start:
            raise NoArchive
        reader = TarReader(packed.read, packed.skip)
    else:
        reader = TarReader(_RatioGuard(unpacked(packed, packing), packed, ratio).read)
    return _Probed(reader)


def open_by_frames(source: Bytes) -> Bytes | None:
    """The tar stream of an archive of which any part can be read: plain, or with a seek table; else None."""
    start = source.read_at(0, BLOCK)
    packing = Compression.PLAIN if is_header(start) else packing_of(start)
    if packing is Compression.PLAIN:
        return source
    if packing is not Compression.ZSTD:
        return None
    frames = read_seek_table(source)
    return Seekable(source, frames) if frames is not None else None


class _Probed:
    """A tar reader that distinguishes a damaged archive from a file that never was one."""

    def __init__(self, reader: TarReader) -> None:
        self._reader = reader
        self._any = False
        self.contents = reader.contents
        self.resume = reader.resume

    @property
    def at(self) -> int:
        return self._reader.at

    def members(self) -> Iterator[Member]:
        try:
            for member in self._reader.members():
                self._any = True
                yield member
        except NoHeader as error:
            if not self._any and error.at == 0:
                raise NoArchive from None
            raise
