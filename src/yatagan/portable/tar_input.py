"""Reading the files that go into an archive: small ones whole, hashed, and encoded as runs of the tar stream."""

import errno
import os
import stat
import time
from hashlib import sha256
from typing import Dict, List, NamedTuple, Optional, Tuple

from yatagan.portable.directories import LastDirectory
from yatagan.portable.index import after_offset, around_offset, before_offset
from yatagan.portable.tar import COMMON_HEAD, DIRECTORY, FILE, LINK, Member, common_head, encode, padding

#: A file of up to this size is read whole.
LARGEST_IN_MEMORY = 256 << 10
_TRIES = 3
#: Seconds for which a change to a file may leave its times as they are; generous, for disks of other machines.
_FRESH = 2.0


class Changed(Exception):
    """A file changed while it was read."""

    def __init__(self, path: bytes) -> None:
        super().__init__(path)
        self.path = path


class Entry(NamedTuple):
    """What goes into an archive: its name there, its path here, its kind, and its facts when it was scanned.

    `seen`: (size, mtime, ctime, inode), times in nanoseconds.
    """

    name: bytes
    path: bytes
    kind: str
    seen: Tuple[int, int, int, int]


class HeaderOptions(NamedTuple):
    """How members are described.

    `anonymous` leaves out whose the files were and which bits their group had by chance, so that the same tree gives
    the same bytes on every machine; times after `latest_ns` become that.
    """

    anonymous: bool = False
    latest_ns: Optional[int] = None

    def time_of(self, status: os.stat_result) -> int:
        """The modification time for the archive."""
        mtime_ns = status.st_mtime_ns
        return mtime_ns if self.latest_ns is None or mtime_ns <= self.latest_ns else self.latest_ns


class AddedMember(NamedTuple):
    """A member with all that making an archive needs.

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
        """Its index line, for contents that begin at `offset`."""
        return b"%b%d%b" % (self.before, begins, self.after) if self.after else self.before


class TarRun(NamedTuple):
    """Members that follow each other, as pieces of the tar stream, `size` bytes; offsets count from its beginning.

    `large` is a file that comes after them and does not fit a handful: its member and path.
    """

    pieces: List[bytes]
    size: int
    added: List[AddedMember]
    large: Optional[Tuple[Member, bytes]]


class ReadEntry(NamedTuple):
    """An entry as it was read: its header in pieces and, but for a large file, its contents.

    `before` begins its line of the index. Where that is not known yet, nor the header of a large file, `member` is
    there to make them of; of a file like most there is no need of one.
    """

    name: bytes
    path: bytes
    size: int
    head: Tuple[bytes, ...]
    head_size: int
    contents: Optional[bytes]
    before: bytes
    member: Optional[Member]


def tell(member: Member, offset: int, digest: str) -> AddedMember:
    """The member that was added, whose contents begin at `offset`."""
    before, after = around_offset(member, digest)
    return AddedMember(offset, before, after, member.name, member.size, digest)


def digests(handful: List[ReadEntry]) -> List[str]:
    """The SHA-256 of each entry; "" for what is no file, or is not read yet."""
    return [
        sha256(read.contents).hexdigest()
        if read.contents is not None and (read.member is None or read.member.kind == FILE)
        else ""
        for read in handful
    ]


def code(handful: List[ReadEntry], digests: List[str]) -> List[TarRun]:
    """The entries as runs of the tar stream."""
    runs: List[TarRun] = []
    pieces: List[bytes] = []
    added: List[AddedMember] = []
    at = 0
    for (name, path, size, head, head_size, contents, before, member), digest in zip(handful, digests):
        if contents is None:
            assert member is not None
            runs.append(TarRun(pieces, at, added, (member, path)))
            pieces, added, at = [], [], 0
            continue
        begins = at + head_size
        if member is None:
            added.append(AddedMember(begins, before, after_offset(digest), name, size, digest))
        else:
            added.append(tell(member, begins, digest))
        pieces += head
        pieces.append(contents)
        missing = padding(size)
        if missing:
            pieces.append(bytes(missing))
        at = begins + size + missing
    if added:
        runs.append(TarRun(pieces, at, added, None))
    return runs


class TarInput:
    """Reads entries and encodes them as members."""

    def __init__(self, manner: HeaderOptions) -> None:
        self._manner = manner
        self._owners: Dict[Tuple[int, int], Tuple[int, int, bytes, bytes]] = {}

    def read_all(self, entries: List[Entry]) -> Tuple[List[ReadEntry], List[str], bool]:
        """Read entries. Returns them, their digests, and whether most of the time was spent waiting."""
        began, worked = time.perf_counter(), time.clock_gettime(time.CLOCK_THREAD_CPUTIME_ID)
        last = LastDirectory()
        read = [self.read(entry, last) for entry in entries]
        last.close()
        worked = time.clock_gettime(time.CLOCK_THREAD_CPUTIME_ID) - worked
        waited = time.perf_counter() - began > 3 * worked
        return read, digests(read), waited

    def read(self, entry: Entry, last: LastDirectory) -> ReadEntry:
        """Read one entry, unchanged meanwhile; of a large file not the contents. Raises Changed, OSError."""
        if entry.kind != FILE:
            status = last.look_at(entry.path)
            target = last.read_link(entry.path) if entry.kind == LINK else b""
            if stat.S_ISDIR(status.st_mode) != (entry.kind == DIRECTORY):
                raise Changed(entry.path)
            return self._described(entry, status, b"", target)
        seen = entry.seen
        for _ in range(_TRIES):
            if seen[0] > LARGEST_IN_MEMORY:
                return self._described(entry, last.look_at(entry.path), None)
            contents, status = _whole(last, entry.path, seen[0])
            now = status.st_size, status.st_mtime_ns, status.st_ctime_ns, status.st_ino
            if now == seen and len(contents) == seen[0]:
                return self._described(entry, status, contents)
            let_age(status)
            seen = now
        raise Changed(entry.path)

    def _described(
        self, entry: Entry, status: os.stat_result, contents: Optional[bytes], target: bytes = b""
    ) -> ReadEntry:
        """An entry with its header; made without a detour for common files."""
        manner, mode, size = self._manner, status.st_mode & 0o7777, status.st_size if entry.kind == FILE else 0
        mtime_ns = manner.time_of(status)
        uid, gid, owner, group = (0, 0, b"", b"") if manner.anonymous else self._owner(status.st_uid, status.st_gid)
        if contents is not None and entry.kind == FILE:
            head = common_head(entry.name, size, mode, mtime_ns, (uid, gid, owner, group))
            before = before_offset(entry.name, size, mode, mtime_ns) if head is not None else b""
            if head is not None and before:
                return ReadEntry(entry.name, entry.path, size, head, COMMON_HEAD, contents, before, None)
        if manner.anonymous and entry.kind == LINK:
            mode = 0o777  # what systems make of it differs, and none looks at it
        member = Member(entry.name, entry.kind, size, mode, mtime_ns, target, uid, gid, owner, group, None, size)
        encoded = encode(member) if contents is not None else b""
        return ReadEntry(entry.name, entry.path, size, (encoded,), len(encoded), contents, b"", member)

    def _owner(self, uid: int, gid: int) -> Tuple[int, int, bytes, bytes]:
        """The owner of a file, by number and by name."""
        known = self._owners.get((uid, gid))
        if known is None:
            known = self._owners[uid, gid] = uid, gid, _name_of_user(uid), _name_of_group(gid)
        return known


def _name_of_user(uid: int) -> bytes:
    import pwd

    try:
        return os.fsencode(pwd.getpwuid(uid).pw_name)
    except KeyError:
        return b""


def _name_of_group(gid: int) -> bytes:
    import grp

    try:
        return os.fsencode(grp.getgrgid(gid).gr_name)
    except KeyError:
        return b""


def let_age(status: os.stat_result) -> None:
    """Wait until a change to a file would show in its times."""
    wait = status.st_ctime_ns / 1e9 + _FRESH - time.time()
    if 0 < wait <= _FRESH:
        time.sleep(wait)


def _whole(last: LastDirectory, path: bytes, size: int) -> Tuple[bytes, os.stat_result]:
    """The contents of a small file, and its facts afterwards; more than `size` bytes if it has grown."""
    try:
        descriptor = last.open_regular(path)
    except OSError as error:
        if error.errno in (errno.EOPNOTSUPP, errno.ELOOP):
            raise Changed(path) from None
        raise
    try:
        data = os.read(descriptor, size + 1)
        while len(data) < size:
            more = os.read(descriptor, size + 1 - len(data))
            if not more:
                break
            data += more
        return data, os.fstat(descriptor)
    finally:
        os.close(descriptor)
