"""Making an archive: files on this machine's disk to the bytes of a tar stream, each file hashed on the way.

Nothing is written here: whoever asks takes the bytes. Small files are read whole, in threads and ahead of their turn;
large ones pass in pieces. A file that changes while it is read is read again, or ends it: no archive holds a mixed
file. Links are never followed.
"""

import os
import stat
import time
from collections import deque
from concurrent.futures import Future, ThreadPoolExecutor
from hashlib import sha256
from itertools import islice
from typing import Any, Callable, Deque, Dict, Iterable, Iterator, List, NamedTuple, Optional, Tuple

from yatagan.archives.tar import DIRECTORY, END, FILE, LINK, Member, Regions, encode, padding

#: A file of up to this size is read whole.
_SMALL = 256 << 10
#: Small files that are read in one go, and how many such handfuls are under way where the disk is slow.
_HANDFUL, _HANDFULS = 128, 4
_PIECE = 1 << 20
#: Pieces of a large file that are read ahead, and that may wait to be hashed.
_AHEAD, _UNHASHED = 3, 8
#: What is given out is at least this large, but for the end.
_GIVEN = 1 << 20
_TRIES = 3
#: Never through a link, never waiting on a FIFO.
_FLAGS = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK
_HOLE = bytes(_PIECE)


class Changed(Exception):
    """A file was written to while it was read."""

    def __init__(self, path: bytes) -> None:
        super().__init__(path)
        self.path = path


class Entry(NamedTuple):
    """What goes in: the name that it will have there, its path on this disk, its kind and what was seen of it.

    `seen` is (size, mtime, ctime, inode), times in nanoseconds.
    """

    name: bytes
    path: bytes
    kind: str
    seen: Tuple[int, int, int, int]


class Manner(NamedTuple):
    """How members are described.

    `anonymous` leaves out whose the files were and which bits their group had by chance, so that the same tree gives
    the same bytes on every machine; times after `latest_ns` become that.
    """

    anonymous: bool = False
    latest_ns: Optional[int] = None


#: Called for each member, once its header is out: the member, where its contents begin, and their SHA-256 or "".
Listed = Callable[[Member, int, str], None]


class Run(NamedTuple):
    """Members that follow each other, as bytes of the tar stream; `listed` says where in them each one's contents begin.

    `large` is a file that comes after them and does not fit a handful: its member and path.
    """

    stream: bytes
    listed: List[Tuple[Member, int, str]]
    large: Optional[Tuple[Member, bytes]]


class Making:
    """One archive in the making. `blocks` may be called once.

    `coded` gives handfuls of entries as runs, read by somebody else, such as other processes (see `workers.py`).
    """

    def __init__(
        self,
        entries: Iterable[Entry],
        manner: Manner,
        listed: Listed,
        coded: Optional[Callable[[Iterable[List[Entry]], Manner], Iterator[List[Run]]]] = None,
    ) -> None:
        self._entries = iter(entries)
        self._manner = manner
        self._listed = listed
        self._coded = coded
        self._at = 0
        #: Bytes of files that have gone in.
        self.taken = 0

    def blocks(self) -> Iterator[bytes]:
        """The tar stream. Raises Changed, and OSError with the file's name."""
        out: List[bytes] = []
        gathered = 0
        for piece in self._pieces():
            out.append(piece)
            gathered += len(piece)
            if gathered >= _GIVEN:
                yield b"".join(out)
                out, gathered = [], 0
        out.append(END)
        # A record of tar is twenty blocks, and some programs want the last one whole.
        out.append(bytes(-(self._at + len(END)) % 10240))
        yield b"".join(out)

    def _pieces(self) -> Iterator[bytes]:
        handfuls = _handfuls(self._entries)
        with ThreadPoolExecutor(_HANDFULS) as readers, ThreadPoolExecutor(1) as hasher:
            if self._coded is not None:
                runs = self._coded(handfuls, self._manner)
            else:
                runs = _code_in_turn(handfuls, self._manner, readers, hasher)
            for handful in runs:
                for run in handful:
                    begins = self._at
                    self._at += len(run.stream)
                    for member, offset, digest in run.listed:
                        self.taken += member.stored
                        self._listed(member, begins + offset, digest)
                    yield run.stream
                    if run.large is not None:
                        yield from self._large(run.large[1], run.large[0], readers, hasher)

    # -- large files ----------------------------------------------------------------------------------------

    def _large(
        self, path: bytes, member: Member, readers: ThreadPoolExecutor, hasher: ThreadPoolExecutor
    ) -> Iterator[bytes]:
        descriptor, status = _open(path)
        try:
            if (status.st_size, status.st_mtime_ns) != (member.size, member.mtime_ns) and not self._manner.latest_ns:
                member = member._replace(size=status.st_size, stored=status.st_size, mtime_ns=status.st_mtime_ns)
            regions = _regions(descriptor, status)
            if regions is not None:
                member = member._replace(regions=regions, stored=sum(size for _, size in regions))
            head = encode(member)
            begins = self._at + len(head)
            self._at = begins + member.stored + padding(member.stored)
            yield head
            value = sha256()
            unhashed: Deque[Future[Any]] = deque()
            for piece in _read_ahead(descriptor, path, member, readers):
                unhashed.append(hasher.submit(_feed, value, piece))
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
            self._listed(member, begins, value.hexdigest())
        finally:
            os.close(descriptor)


# -- reading ---------------------------------------------------------------------------------------------------

_Read = Tuple[Member, bytes, Optional[bytes]]


def _handfuls(entries: Iterator[Entry]) -> Iterator[List[Entry]]:
    while True:
        handful = list(islice(entries, _HANDFUL))
        if not handful:
            return
        yield handful


def _code_in_turn(
    handfuls: Iterable[List[Entry]], manner: Manner, readers: ThreadPoolExecutor, hasher: ThreadPoolExecutor
) -> Iterator[List[Run]]:
    """Handfuls as runs, hashed in a thread beside."""
    unhashed: Deque[Tuple[List[_Read], Future[List[str]]]] = deque()
    for handful in _read_in_turn(iter(handfuls), Reading(manner), readers):
        unhashed.append((handful, hasher.submit(_digests, handful)))
        if len(unhashed) >= _HANDFULS:
            read, digests = unhashed.popleft()
            yield code(read, digests.result())
    for read, digests in unhashed:
        yield code(read, digests.result())


def _read_in_turn(
    handfuls: Iterator[List[Entry]], reading: "Reading", readers: ThreadPoolExecutor
) -> Iterator[List[_Read]]:
    """Every entry, read in its turn; ahead of it, in threads, for as long as the disk makes us wait.

    Where it does not, threads would only take the interpreter from each other: 8,000 files a second in place
    of 20,000, on two processors.
    """
    under_way: Deque[Future[Tuple[List[_Read], bool]]] = deque()
    slow = False
    try:
        while True:
            while slow and len(under_way) < _HANDFULS:
                handful = next(handfuls, None)
                if handful is None:
                    break
                under_way.append(readers.submit(reading.read_all, handful))
            if under_way:
                read, slow = under_way.popleft().result()
            else:
                handful = next(handfuls, None)
                if handful is None:
                    return
                read, slow = reading.read_all(handful)
            yield read
    finally:
        for future in under_way:
            future.cancel()


def _digests(handful: List[_Read]) -> List[str]:
    """SHA-256 of what was read; "" of what is no file, or not read yet."""
    return [
        sha256(contents).hexdigest() if member.kind == FILE and contents is not None else ""
        for member, _, contents in handful
    ]


def code(handful: List[_Read], digests: List[str]) -> List[Run]:
    """What was read, as runs of the tar stream."""
    runs: List[Run] = []
    pieces: List[bytes] = []
    listed: List[Tuple[Member, int, str]] = []
    at = 0
    for (member, path, contents), digest in zip(handful, digests):
        if contents is None:
            runs.append(Run(b"".join(pieces), listed, (member, path)))
            pieces, listed, at = [], [], 0
            continue
        head = encode(member)
        listed.append((member, at + len(head), digest))
        missing = padding(len(contents))
        pieces += (head, contents, bytes(missing)) if missing else (head, contents)
        at += len(head) + len(contents) + missing
    if listed:
        runs.append(Run(b"".join(pieces), listed, None))
    return runs


class Reading:
    """Reads entries as members."""

    def __init__(self, manner: Manner) -> None:
        self._manner = manner
        self._owners: Dict[int, bytes] = {}
        self._groups: Dict[int, bytes] = {}

    def code(self, entries: List[Entry]) -> List[Run]:
        """A handful, read, hashed and as runs."""
        read = [self.read(entry) for entry in entries]
        return code(read, _digests(read))

    def read_all(self, entries: List[Entry]) -> Tuple[List[_Read], bool]:
        """The entries, and whether most of the time went with waiting."""
        began, worked = time.perf_counter(), time.clock_gettime(time.CLOCK_THREAD_CPUTIME_ID)
        read = [self.read(entry) for entry in entries]
        worked = time.clock_gettime(time.CLOCK_THREAD_CPUTIME_ID) - worked
        return read, time.perf_counter() - began > 3 * worked

    def read(self, entry: Entry) -> _Read:
        """One entry, whole and of one moment; a large file without its contents. Raises Changed, OSError."""
        if entry.kind != FILE:
            status = os.lstat(entry.path)
            target = os.readlink(entry.path) if entry.kind == LINK else b""
            member = self._member(entry, status, entry.kind, target)
            if stat.S_ISDIR(status.st_mode) != (entry.kind == DIRECTORY):
                raise Changed(entry.path)
            return member, entry.path, b""
        seen = entry.seen
        for _ in range(_TRIES):
            if seen[0] > _SMALL:
                return self._member(entry, os.lstat(entry.path), FILE), entry.path, None
            contents, status = _whole(entry.path, seen[0])
            now = status.st_size, status.st_mtime_ns, status.st_ctime_ns, status.st_ino
            if now == seen and len(contents) == seen[0]:
                return self._member(entry, status, FILE), entry.path, contents
            seen = now
        raise Changed(entry.path)

    def _member(self, entry: Entry, status: os.stat_result, kind: str, target: bytes = b"") -> Member:
        manner, mtime_ns, mode = self._manner, status.st_mtime_ns, stat.S_IMODE(status.st_mode)
        if manner.latest_ns is not None and mtime_ns > manner.latest_ns:
            mtime_ns = manner.latest_ns
        size = status.st_size if kind == FILE else 0
        if manner.anonymous:
            if kind == LINK:
                mode = 0o777  # what systems make of it differs, and none looks at it
            return Member(entry.name, kind, size, mode, mtime_ns, target, stored=size)
        return Member(
            entry.name,
            kind,
            size,
            mode,
            mtime_ns,
            target,
            status.st_uid,
            status.st_gid,
            self._owner(status.st_uid),
            self._group(status.st_gid),
            None,
            size,
        )

    def _owner(self, uid: int) -> bytes:
        if uid not in self._owners:
            import pwd

            try:
                self._owners[uid] = os.fsencode(pwd.getpwuid(uid).pw_name)
            except KeyError:
                self._owners[uid] = b""
        return self._owners[uid]

    def _group(self, gid: int) -> bytes:
        if gid not in self._groups:
            import grp

            try:
                self._groups[gid] = os.fsencode(grp.getgrgid(gid).gr_name)
            except KeyError:
                self._groups[gid] = b""
        return self._groups[gid]


def _read_ahead(descriptor: int, path: bytes, member: Member, readers: ThreadPoolExecutor) -> Iterator[Any]:
    """The file's pieces, with the length of a hole in place of its zeros."""
    under_way: Deque[Tuple[Future[bytes], int]] = deque()
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
                future.exception()  # the descriptor is closed next: nobody may be reading from it


def _complete(piece: Tuple[Future[bytes], int], path: bytes) -> bytes:
    future, size = piece
    data = future.result()
    if len(data) != size:
        raise Changed(path)
    return data


def _with_holes(member: Member) -> Iterator[Tuple[Optional[int], int]]:
    """Where to read, in pieces, and holes as (None, length)."""
    at = 0
    for offset, size in member.regions if member.regions is not None else ((0, member.size),):
        if offset > at:
            yield None, offset - at
        for start in range(offset, offset + size, _PIECE):
            yield start, min(_PIECE, offset + size - start)
        at = offset + size
    if at < member.size:
        yield None, member.size - at


def _feed(value: Any, piece: Any) -> None:
    """Hash a piece, or the zeros of a hole."""
    if isinstance(piece, bytes):
        value.update(piece)
        return
    while piece:
        size = min(piece, len(_HOLE))
        value.update(_HOLE if size == len(_HOLE) else _HOLE[:size])
        piece -= size


def _regions(descriptor: int, status: os.stat_result) -> Optional[Regions]:
    """Where a file has data; None when it has no holes, or the disk does not tell."""
    if status.st_blocks * 512 >= status.st_size:
        return None
    regions, at = [], 0  # type: List[Tuple[int, int]], int
    try:
        while at < status.st_size and len(regions) < 4096:
            try:
                at = os.lseek(descriptor, at, os.SEEK_DATA)
            except OSError as error:
                if error.errno != 6:  # ENXIO: holes up to the end
                    raise
                break
            end = os.lseek(descriptor, at, os.SEEK_HOLE)
            regions.append((at, end - at))
            at = end
        else:
            if at < status.st_size:  # too many to be worth it: the rest counts as data
                regions.append((at, status.st_size - at))
    except (OSError, ValueError):
        return None
    return None if regions == [(0, status.st_size)] else tuple(regions)


def _open(path: bytes) -> Tuple[int, os.stat_result]:
    """A regular file's descriptor and what it tells."""
    descriptor = os.open(path, _FLAGS)
    status = os.fstat(descriptor)
    if not stat.S_ISREG(status.st_mode):
        os.close(descriptor)
        raise Changed(path)
    return descriptor, status


def _whole(path: bytes, size: int) -> Tuple[bytes, os.stat_result]:
    """All of a small file, and what it tells afterwards; more than `size` when it has grown."""
    descriptor = os.open(path, _FLAGS)
    try:
        data = os.read(descriptor, size + 1)
        while len(data) < size:
            more = os.read(descriptor, size + 1 - len(data))
            if not more:
                break
            data += more
        status = os.fstat(descriptor)
    finally:
        os.close(descriptor)
    if not stat.S_ISREG(status.st_mode):
        raise Changed(path)
    return data, status


def _same(before: os.stat_result, after: os.stat_result) -> bool:
    return (before.st_size, before.st_mtime_ns, before.st_ctime_ns, before.st_ino) == (
        after.st_size,
        after.st_mtime_ns,
        after.st_ctime_ns,
        after.st_ino,
    )
