"""Small files, read whole and of one moment, hashed, and described as runs of a tar stream."""

import os
import stat
import time
from hashlib import sha256
from typing import Dict, List, NamedTuple, Optional, Tuple

from yatagan.archives.index import around_offset
from yatagan.archives.tar import DIRECTORY, FILE, LINK, Member, encode, padding

#: A file of up to this size is read whole.
SMALL = 256 << 10
_TRIES = 3
#: Seconds for which a change to a file may leave its times as they are; generous, for disks of other machines.
_FRESH = 2.0
#: Never through a link, never waiting on a FIFO.
FLAGS = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK


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

    def time_of(self, status: os.stat_result) -> int:
        """The modification time that a file gets."""
        mtime_ns = status.st_mtime_ns
        return mtime_ns if self.latest_ns is None or mtime_ns <= self.latest_ns else self.latest_ns


class Told(NamedTuple):
    """A member as whoever makes the archive needs it.

    Its contents begin at `offset`; `before` and `after` are its line of the index around that number. `digest` is ""
    for what is no file.
    """

    offset: int
    before: bytes
    after: bytes
    name: bytes
    size: int
    digest: str

    def line(self, begins: int) -> bytes:
        """The line of the index, for contents that begin there."""
        return b"%b%d%b" % (self.before, begins, self.after) if self.after else self.before


class Run(NamedTuple):
    """Members that follow each other, as bytes of the tar stream; offsets count from its beginning.

    `large` is a file that comes after them and does not fit a handful: its member and path.
    """

    stream: bytes
    told: List[Told]
    large: Optional[Tuple[Member, bytes]]


Read = Tuple[Member, bytes, Optional[bytes]]


def tell(member: Member, offset: int, digest: str) -> Told:
    """A member whose contents begin at an offset."""
    before, after = around_offset(member, digest)
    return Told(offset, before, after, member.name, member.size, digest)


def digests(handful: List[Read]) -> List[str]:
    """SHA-256 of what was read; "" of what is no file, or not read yet."""
    return [
        sha256(contents).hexdigest() if member.kind == FILE and contents is not None else ""
        for member, _, contents in handful
    ]


def code(handful: List[Read], digests: List[str]) -> List[Run]:
    """What was read, as runs of the tar stream."""
    runs: List[Run] = []
    pieces: List[bytes] = []
    told: List[Told] = []
    at = 0
    for (member, path, contents), digest in zip(handful, digests):
        if contents is None:
            runs.append(Run(b"".join(pieces), told, (member, path)))
            pieces, told, at = [], [], 0
            continue
        head = encode(member)
        told.append(tell(member, at + len(head), digest))
        missing = padding(len(contents))
        pieces += (head, contents, bytes(missing)) if missing else (head, contents)
        at += len(head) + len(contents) + missing
    if told:
        runs.append(Run(b"".join(pieces), told, None))
    return runs


class Reading:
    """Reads entries as members."""

    def __init__(self, manner: Manner) -> None:
        self._manner = manner
        self._owners: Dict[int, bytes] = {}
        self._groups: Dict[int, bytes] = {}

    def read_all(self, entries: List[Entry]) -> Tuple[List[Read], bool]:
        """The entries, and whether most of the time went with waiting."""
        began, worked = time.perf_counter(), time.clock_gettime(time.CLOCK_THREAD_CPUTIME_ID)
        read = [self.read(entry) for entry in entries]
        worked = time.clock_gettime(time.CLOCK_THREAD_CPUTIME_ID) - worked
        return read, time.perf_counter() - began > 3 * worked

    def read(self, entry: Entry) -> Read:
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
            if seen[0] > SMALL:
                return self._member(entry, os.lstat(entry.path), FILE), entry.path, None
            contents, status = _whole(entry.path, seen[0])
            now = status.st_size, status.st_mtime_ns, status.st_ctime_ns, status.st_ino
            if now == seen and len(contents) == seen[0]:
                return self._member(entry, status, FILE), entry.path, contents
            let_age(status)
            seen = now
        raise Changed(entry.path)

    def _member(self, entry: Entry, status: os.stat_result, kind: str, target: bytes = b"") -> Member:
        manner, mode = self._manner, stat.S_IMODE(status.st_mode)
        mtime_ns = manner.time_of(status)
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


def let_age(status: os.stat_result) -> None:
    """Wait until a change to a file would show in its times: within a tick of the clock it does not."""
    wait = status.st_ctime_ns / 1e9 + _FRESH - time.time()
    if 0 < wait <= _FRESH:
        time.sleep(wait)


def _whole(path: bytes, size: int) -> Tuple[bytes, os.stat_result]:
    """All of a small file, and what it tells afterwards; more than `size` when it has grown."""
    descriptor = os.open(path, FLAGS)
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
