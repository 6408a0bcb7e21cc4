"""Making an archive: files of this machine as a tar stream, each file hashed while it passes.

Nothing is written here. Small files are read whole (`tar_input.py`), large ones pass in pieces.
"""

import errno
import os
from collections import deque
from concurrent.futures import Future, ThreadPoolExecutor
from functools import partial
from hashlib import sha256
from itertools import islice
from typing import Any, Callable, Deque, Iterable, Iterator, List, Optional, Tuple

from yatagan.portable.directories import open_regular
from yatagan.portable.holes import data_regions, hash_zeros
from yatagan.portable.tar import END, Member, encode, padding
from yatagan.portable.tar_input import (
    AddedMember,
    Changed,
    Entry,
    HeaderOptions,
    ReadEntry,
    TarInput,
    code,
    let_age,
    tell,
)

#: Small files that are read in one go, and how many such handfuls are under way where the disk is slow.
_HANDFUL, _HANDFULS = 128, 4
_PIECE = 1 << 20
#: Pieces of a large file that are read ahead, and that may wait to be hashed.
_AHEAD, _UNHASHED = 3, 8
#: What is given out is at least this large, but for the end.
_GIVEN = 1 << 20


#: Called for each member, once its header is out: what there is to tell of it, and where its contents begin.
Listed = Callable[[AddedMember, int], None]


class TarWriter:
    """One archive that is being made. `blocks` may be called once."""

    def __init__(self, entries: Iterable[Entry], manner: HeaderOptions, listed: Listed) -> None:
        self._entries = iter(entries)
        self._manner = manner
        self._listed = listed
        self._at = 0
        #: Bytes of files that have gone in.
        self.taken = 0

    def blocks(self) -> Iterator[bytes]:
        """The tar stream. Raises Changed, and OSError with the file's name."""
        out: List[bytes] = []
        gathered = 0
        for pieces, size in self._pieces():
            out += pieces
            gathered += size
            if gathered >= _GIVEN:
                yield b"".join(out)
                out, gathered = [], 0
        out.append(END)
        # A record of tar is twenty blocks, and some programs want the last one whole.
        out.append(bytes(-(self._at + len(END)) % 10240))
        yield b"".join(out)

    def _pieces(self) -> Iterator[Tuple[Iterable[bytes], int]]:
        """Consecutive pieces of the stream, and their size."""
        handfuls = _handfuls(self._entries)
        with ThreadPoolExecutor(_HANDFULS) as readers, ThreadPoolExecutor(1) as hasher:
            for read, found in _read_in_turn(handfuls, TarInput(self._manner), readers):
                for run in code(read, found):
                    begins = self._at
                    self._at += run.size
                    for added in run.added:
                        self.taken += added.size
                        self._listed(added, begins + added.offset)
                    yield run.pieces, run.size
                    if run.large is not None:
                        for piece in self._large(run.large[1], run.large[0], readers, hasher):
                            yield (piece,), len(piece)

    # -- large files ----------------------------------------------------------------------------------------

    def _large(
        self, path: bytes, member: Member, readers: ThreadPoolExecutor, hasher: ThreadPoolExecutor
    ) -> Iterator[bytes]:
        descriptor, status = _open(path)
        try:
            let_age(status)
            status = os.fstat(descriptor)
            size = status.st_size
            member = member._replace(size=size, stored=size, mtime_ns=self._manner.time_of(status))
            regions = data_regions(descriptor, status)
            if regions is not None:
                member = member._replace(regions=regions, stored=sum(size for _, size in regions))
            head = encode(member)
            begins = self._at + len(head)
            self._at = begins + member.stored + padding(member.stored)
            yield head
            value = sha256()
            unhashed: "Deque[Future[Any]]" = deque()
            for piece in _read_ahead(descriptor, path, member, readers):
                hashing = value.update if isinstance(piece, bytes) else partial(hash_zeros, value)
                unhashed.append(hasher.submit(hashing, piece))
                if len(unhashed) > _UNHASHED:
                    unhashed.popleft().result()
                self.taken += len(piece) if isinstance(piece, bytes) else piece
                if isinstance(piece, bytes):
                    yield piece
            for future in unhashed:
                future.result()
            if not _same(status, os.fstat(descriptor)):
                raise Changed(path)
            yield bytes(padding(member.stored))
            self._listed(tell(member, begins, value.hexdigest()), begins)
        finally:
            os.close(descriptor)


def _handfuls(entries: Iterator[Entry]) -> Iterator[List[Entry]]:
    while True:
        handful = list(islice(entries, _HANDFUL))
        if not handful:
            return
        yield handful


def _read_in_turn(
    handfuls: Iterator[List[Entry]], reading: TarInput, readers: ThreadPoolExecutor
) -> Iterator[Tuple[List[ReadEntry], List[str]]]:
    """Read and hash entries in turn. As long as the disk makes us wait, threads prefetch them.

    Otherwise threads would only compete for the interpreter.
    """
    under_way: "Deque[Future[Tuple[List[ReadEntry], List[str], bool]]]" = deque()
    slow = False
    try:
        while True:
            while slow and len(under_way) < _HANDFULS:
                handful = next(handfuls, None)
                if handful is None:
                    break
                under_way.append(readers.submit(reading.read_all, handful))
            if under_way:
                read, found, slow = under_way.popleft().result()
            else:
                handful = next(handfuls, None)
                if handful is None:
                    return
                read, found, slow = reading.read_all(handful)
            yield read, found
    finally:
        for future in under_way:
            future.cancel()


def _read_ahead(descriptor: int, path: bytes, member: Member, readers: ThreadPoolExecutor) -> Iterator[Any]:
    """The pieces of a file, prefetched; the length of a hole in place of its zeros."""
    under_way: "Deque[Tuple[Future[bytes], int]]" = deque()
    try:
        for offset, size in _with_holes(member):
            if offset is None:
                while under_way:
                    yield _complete(under_way.popleft(), path)
                yield size
                continue
            under_way.append((readers.submit(os.pread, descriptor, size, offset), size))
            if len(under_way) > _AHEAD:
                yield _complete(under_way.popleft(), path)
        while under_way:
            yield _complete(under_way.popleft(), path)
    finally:
        for future, _ in under_way:
            if not future.cancel():
                future.exception()  # the descriptor is closed next: no thread may be reading from it


def _complete(piece: Tuple["Future[bytes]", int], path: bytes) -> bytes:
    future, size = piece
    data = future.result()
    if len(data) != size:
        raise Changed(path)
    return data


def _with_holes(member: Member) -> Iterator[Tuple[Optional[int], int]]:
    """(offset, size) of pieces to read; (None, size) for holes."""
    at = 0
    for offset, size in member.regions if member.regions is not None else ((0, member.size),):
        if offset > at:
            yield None, offset - at
        for start in range(offset, offset + size, _PIECE):
            yield start, min(_PIECE, offset + size - start)
        at = offset + size
    if at < member.size:
        yield None, member.size - at


def _open(path: bytes) -> Tuple[int, os.stat_result]:
    """Open a regular file. Returns its descriptor and stat result. Raises Changed, OSError."""
    try:
        descriptor = open_regular(path, os.O_RDONLY)
    except OSError as error:
        if error.errno in (errno.EOPNOTSUPP, errno.ELOOP):
            raise Changed(path) from None
        raise
    return descriptor, os.fstat(descriptor)


def _same(before: os.stat_result, after: os.stat_result) -> bool:
    return (before.st_size, before.st_mtime_ns, before.st_ctime_ns, before.st_ino) == (
        after.st_size,
        after.st_mtime_ns,
        after.st_ctime_ns,
        after.st_ino,
    )
