"""A look into a file: its first or last lines or bytes, and no more of it is read than that takes.

A member of an archive is found by the index where there is one; what is packed with gzip, bzip2, xz or zstd is
unpacked on the way.
"""

from __future__ import annotations

import posixpath
import threading
from collections import deque
from collections.abc import Callable, Iterator
from dataclasses import dataclass

from yatagan.archives.compression import Compression, unpacked
from yatagan.archives.open_archive import Sequential, open_by_frames, packing_at
from yatagan.bundles.read import Bundle, Indexed, members_from_front, open_bundle
from yatagan.bundles.threads import BlockingReader, WorkStopped, in_thread
from yatagan.errors import BadArchive, StoreError
from yatagan.faults import Fault
from yatagan.portable import member_names
from yatagan.portable.tar import BLOCK, FILE, Damaged
from yatagan.request_errors import BadEntry, WrongEntry
from yatagan.stores.interface import Kind, Readable, Reader, Store
from yatagan.trees.patterns import Choice

#: Bytes that are read at once.
_STEP = 64 << 10
#: Bytes that are shown at most when lines were asked for: a file without any line would be one.
MOST = 1 << 20
#: Bytes of a packed file that are unpacked only to know its end.
_PACKED_MOST = 256 << 20
_NO_RATIO = 1 << 40


@dataclass(frozen=True, slots=True)
class PeekWish:
    """So many lines, or bytes if `by_bytes`; of the beginning, or of the end."""

    count: int
    by_bytes: bool = False
    end: bool = False


@dataclass(frozen=True, slots=True)
class Peeked:
    """What was asked for. `begins`: where it begins in the file; None where that was not counted.

    `size`: of the file, None where it is not known. `whole`: it is all of the file. `cut`: a line was too long to be
    shown whole. `packed`: how the file is packed.
    """

    data: bytes
    begins: int | None
    size: int | None
    whole: bool
    cut: bool = False
    packed: Compression = Compression.PLAIN


async def peek(store: Store, seen: Readable, path: bytes, wish: PeekWish) -> Peeked:
    """Look into a file; or into a member, where part of the path is an archive.

    Raises StoreError, BadEntry for what is no file, and where far more would have to be read than is shown.
    """
    found = await seen.look(path)
    if found is None:
        archive = await _archive_above(store, path)
        if archive is None:
            raise StoreError(Fault.MISSING, path, store=store.name)
        return await _peek_member(store, archive, path[len(archive) + 1 :], wish)
    if found.kind is not Kind.FILE:
        where = f"{store.name}:{_text(path)}" if store.name else _text(path)
        raise BadEntry(WrongEntry.NOT_A_FILE, where, found.kind.value)
    reader = await seen.open(path)
    try:
        size = (await reader.facts()).size
        start = await reader.read(0, min(size, BLOCK))
        packing = packing_at(start)
        if packing in (Compression.GZIP, Compression.BZIP2, Compression.XZ, Compression.ZSTD):
            assert packing is not None
            blocking = BlockingReader(store, reader, size, ahead=1)
            return await in_thread(lambda stop: _peek_packed(blocking, path, packing, wish, stop))
        return await (peek_end(reader, size, wish) if wish.end else _peek_start(reader, size, wish))
    finally:
        await reader.close()


def _text(path: bytes) -> str:
    return path.decode("utf-8", "surrogateescape")


async def _peek_start(reader: Reader, size: int, wish: PeekWish) -> Peeked:
    data = bytearray()
    most = min(size, wish.count if wish.by_bytes else MOST)
    while len(data) < most and (wish.by_bytes or data.count(b"\n") < wish.count):
        piece = await reader.read(len(data), min(_STEP, most - len(data)))
        if not piece:
            break
        data += piece
    return _first(bytes(data), size, wish)


def _first(data: bytes, size: int | None, wish: PeekWish) -> Peeked:
    """The first lines or bytes, out of what was read of the beginning."""
    if wish.by_bytes:
        shown, cut = data[: wish.count], False
    else:
        lines = data.split(b"\n")
        enough = len(lines) > wish.count
        shown = b"".join(line + b"\n" for line in lines[: wish.count]) if enough else data
        cut = not enough and len(data) >= MOST and size != len(data)
    return Peeked(shown, 0, size, whole=size is not None and len(shown) == size, cut=cut)


async def peek_end(reader: Reader, size: int, wish: PeekWish) -> Peeked:
    """The last lines or bytes of an open file. Raises StoreError."""
    data, begins = b"", size
    least = max(0, size - (wish.count if wish.by_bytes else MOST))
    while begins > least and (wish.by_bytes or data.count(b"\n", 0, len(data) - 1) < wish.count):
        start = max(least, begins - _STEP)
        piece = await reader.read(start, begins - start)
        if len(piece) < begins - start:
            raise StoreError(Fault.SOURCE_CHANGED)
        data, begins = piece + data, start
    return _last(data, size, wish)


def _last(data: bytes, size: int, wish: PeekWish) -> Peeked:
    """The last lines or bytes, out of what was read of the end."""
    shown, cut = data, False
    if wish.by_bytes:
        shown = data[-wish.count :]
    else:
        at = len(data) - data.endswith(b"\n")
        for _ in range(wish.count):
            at = data.rfind(b"\n", 0, at)
            if at < 0:
                break
        cut = at < 0 and len(data) < size
        shown = data[at + 1 :] if at >= 0 else data
    return Peeked(shown, size - len(shown), size, whole=len(shown) == size, cut=cut)


# -- what is packed ----------------------------------------------------------------------------------------------


def _peek_packed(
    source: BlockingReader, path: bytes, packing: Compression, wish: PeekWish, stop: threading.Event
) -> Peeked:
    """A packed file: unpacked from the front, as far as is needed. Blocking. Raises BadEntry."""
    frames = open_by_frames(source)
    if wish.end and frames is not None:
        return _end_of_frames(frames.read_at, frames.size, wish, packing)
    if wish.end and source.size > _PACKED_MOST:
        raise BadEntry(WrongEntry.END_OF_PACKED, _text(path))
    stream = unpacked(Sequential(source), packing)

    def pieces() -> Iterator[bytes]:
        while piece := stream.read(_STEP):
            yield piece

    return _of_pieces(pieces(), None, wish, stop, packing)


def _end_of_frames(read_at: Callable[[int, int], bytes], size: int, wish: PeekWish, packing: Compression) -> Peeked:
    """The end of a file of which any part can be unpacked. Blocking."""
    count = min(size, wish.count if wish.by_bytes else MOST)
    found = _last(read_at(size - count, count), size, wish)
    return Peeked(found.data, found.begins, size, found.whole, found.cut, packing)


def _of_pieces(
    pieces: Iterator[bytes], size: int | None, wish: PeekWish, stop: threading.Event, packing: Compression
) -> Peeked:
    """The beginning or the end of what comes in pieces. Blocking. Raises StoreError, DAMAGED."""
    kept: deque[bytes] = deque()
    held = read = newlines = 0
    ended = True
    most = wish.count if wish.by_bytes else MOST
    try:
        for piece in pieces:
            if stop.is_set():
                raise WorkStopped
            kept.append(piece)
            held += len(piece)
            read += len(piece)
            newlines += piece.count(b"\n")
            if not wish.end and (held >= most or (not wish.by_bytes and newlines >= wish.count)):
                ended = False
                break
            while wish.end and held - len(kept[0]) >= most:
                held -= len(kept.popleft())
    except Damaged as damaged:
        raise StoreError(Fault.DAMAGED, detail=damaged.why) from None
    data = b"".join(kept)
    known = read if ended else size
    found = _last(data, read, wish) if wish.end else _first(data, known, wish)
    return Peeked(found.data, found.begins, known, found.whole, found.cut, packing)


# -- what is in an archive ---------------------------------------------------------------------------------------


async def _archive_above(store: Store, path: bytes) -> bytes | None:
    """The archive that a path leads into; None if there is none."""
    above = posixpath.dirname(path)
    while len(above) > 1:
        found = await store.look(above)
        if found is not None:
            return above if found.kind is Kind.FILE else None
        above = posixpath.dirname(above)
    return None


async def _peek_member(store: Store, archive: bytes, name: bytes, wish: PeekWish) -> Peeked:
    try:
        async with open_bundle(store, archive) as bundle:
            found = await in_thread(lambda stop: _in_bundle(bundle, name, wish, stop))
    except BadArchive:
        raise StoreError(Fault.NOT_A_DIRECTORY, archive, store=store.name) from None
    if found is None:
        raise StoreError(Fault.MISSING, posixpath.join(archive, name), store=store.name)
    return found


def _in_bundle(bundle: Bundle, name: bytes, wish: PeekWish, stop: threading.Event) -> Peeked | None:
    """A member of an archive; None if there is no file of this name. Blocking."""
    stream = open_by_frames(bundle.source) if bundle.fits else None
    archive = Indexed(stream, bundle.lines(), Choice()) if stream is not None else members_from_front(bundle, _NO_RATIO)
    sought = member_names.parts_of(name)
    for member in archive.members():
        if stop.is_set():
            raise WorkStopped
        parts = member_names.parts_of(member.name)
        if member.kind == FILE and sought in (parts, parts[1:]):
            pieces = (data for _, data in archive.contents())
            return _of_pieces(pieces, member.size, wish, stop, Compression.PLAIN)
    return None
