"""Archives on a node, without their bytes ever leaving it: what the helper does when it has learned this module.

Kept to the standard library and to what Python 3.6 understands. zstd, which that library does not know, is left to the
`zstd` command where the node has one.
"""

import bz2
import errno
import gzip
import hashlib
import lzma
import os
import re
import shutil
import subprocess
import threading
import zlib
from collections import deque
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Any, Callable, Deque, Dict, Iterable, Iterator, List, Optional, Tuple

from yatagan.portable import index, member_names, unpacking
from yatagan.portable.directories import (
    LastDirectory,
    create_in,
    enter,
    forget,
    give_name,
    is_same_file,
    open_regular,
    open_regular_in,
    parent_of,
    sync_directory,
)
from yatagan.portable.holes import SparseDigest
from yatagan.portable.tar import BLOCK, FILE, Damaged, Member, is_header
from yatagan.portable.tar_input import AddedMember, Changed, Entry, HeaderOptions
from yatagan.portable.tar_reader import TarReader
from yatagan.portable.tar_writer import TarWriter
from yatagan.portable.zstd_frames import even, seek_table

#: A question and its answer, as JSON carries them: values by name.
Request = Dict[str, Any]
Reply = Dict[str, Any]

Alive = Callable[[], None]

#: Bytes of the tar stream in one frame: each is pressed by a process of its own, so they are larger than at home.
_FRAME = 4 << 20
_BLOCK = 1 << 20
#: Digests in one answer.
_ENTRIES_PER_MESSAGE = 5000
#: Outcomes that are reported one by one; the rest is only counted.
_MOST_REPORTED = 1000


#: What was said of a list so far, and what is still to be sent of one, by the token that stands for it: neither fits
#: into one message.
_HEARD: Dict[str, List[Any]] = {}
_TO_TELL: Dict[str, List[Any]] = {}


class NotHere(Exception):
    """The node lacks a program for this; the text names it."""


# -- making ----------------------------------------------------------------------------------------------------


def make(request: Request, alive: Alive) -> Reply:
    """Make a bundle and its index, prove it by reading it again, and give both their names.

    Raises OSError, Changed, NotHere, FileExistsError.
    """
    final, part = _raw(request["path"]), _raw(request["part"])
    index_path, index_part = final + index.SUFFIX, _raw(request["index_part"])
    with parent_of(final) as (directory, name):
        parts = [os.path.basename(part), os.path.basename(index_part)]
        try:
            totals = _write(request, directory, parts[0], parts[1], alive)
            if _digest(directory, parts[0], alive) != totals.digest:
                raise OSError(errno.EIO, "what was written is not what was read back")
            _still_there(directory, os.path.dirname(final))
            for each, new in zip(parts, (name, os.path.basename(index_path))):
                give_name(directory, each, directory, new)
            sync_directory(directory)
        finally:
            for each in parts:
                forget(directory, each)
    return {"totals": list(totals)}


def _still_there(directory: int, path: bytes) -> None:
    """Raise OSError when a path no longer leads to the open directory."""
    now = enter(path)
    try:
        if not is_same_file(os.fstat(now), os.fstat(directory)):
            raise OSError(errno.ELOOP, "the directory was moved away")
    finally:
        os.close(now)


def _write(request: Request, directory: int, part: bytes, index_part: bytes, alive: Alive) -> index.Totals:
    lines = [index.first_line(os.path.basename(_raw(request["path"])))]
    counts = {"members": 0, "files": 0, "size": 0}

    def listed(added: AddedMember, offset: int) -> None:
        lines.append(added.line(offset))
        counts["members"] += 1
        if added.digest:
            counts["files"] += 1
            counts["size"] += added.size

    last = LastDirectory()
    entries = (_entry(last, *each) for each in _HEARD.pop(request["token"], []))
    blocks = TarWriter(entries, HeaderOptions(request["anonymous"], request["latest_ns"]), listed).blocks()
    value, stored = hashlib.sha256(), 0
    with _create(directory, part) as out, _create(directory, index_part) as index_file:
        for piece in _pressed(blocks, request["form"], request["level"]):
            alive()
            value.update(piece)
            out.write(piece)
            stored += len(piece)
            index_file.write(b"".join(lines))
            lines.clear()
        totals = index.Totals(counts["members"], counts["files"], counts["size"], stored, value.hexdigest())
        index_file.write(b"".join(lines) + index.last_line(totals))
        for stream in (out, index_file):
            stream.flush()
            os.fsync(stream.fileno())
    return totals


def _entry(last: LastDirectory, name: str, path: str, kind: str) -> Entry:
    status = last.look_at(_raw(path))
    seen = status.st_size, status.st_mtime_ns, status.st_ctime_ns, status.st_ino
    return Entry(_raw(name), _raw(path), kind, seen)


def _create(directory: int, name: bytes) -> Any:
    return os.fdopen(create_in(directory, name, 0o666), "wb")


def _open(path: bytes) -> Any:
    """A regular file, open for reading; never through a link."""
    return os.fdopen(open_regular(path, os.O_RDONLY), "rb")


def _pressed(blocks: Iterable[bytes], form: str, level: int) -> Iterator[bytes]:
    if form == "tar":
        return iter(blocks)
    return _gzip(blocks, level) if form == "tar.gz" else _frames(blocks, level)


def _gzip(blocks: Iterable[bytes], level: int) -> Iterator[bytes]:
    press = zlib.compressobj(level, zlib.DEFLATED, 31)
    for block in blocks:
        yield press.compress(block)
    yield press.flush()


def _frames(blocks: Iterable[bytes], level: int) -> Iterator[bytes]:
    """zstd frames by the node's own command, which its standard library lacks, and the seek table."""
    program = _zstd()
    sizes: List[Tuple[int, int]] = []
    waiting: Deque[Tuple[int, "Future[bytes]"]] = deque()

    def press(data: bytes) -> bytes:
        return subprocess.run(
            [program, "-q", "-c", "-%d" % level], input=data, stdout=subprocess.PIPE, check=True
        ).stdout

    with ThreadPoolExecutor(2) as pressers:
        for block in even(blocks, _FRAME):
            waiting.append((len(block), pressers.submit(press, block)))
            while len(waiting) > 3:
                size, future = waiting.popleft()
                sizes.append((len(future.result()), size))
                yield future.result()
        for size, future in waiting:
            sizes.append((len(future.result()), size))
            yield future.result()
    yield seek_table(sizes)


def _zstd() -> str:
    found = shutil.which("zstd")
    if found is None:
        raise NotHere("the zstd command")
    return found


def _digest(directory: int, name: bytes, alive: Alive) -> str:
    value = hashlib.sha256()
    with os.fdopen(open_regular_in(directory, name, os.O_RDONLY), "rb") as stream:
        while True:
            block = stream.read(_BLOCK)
            if not block:
                return value.hexdigest()
            alive()
            value.update(block)


# -- unpacking -------------------------------------------------------------------------------------------------


def unpack(request: Request, alive: Alive) -> Reply:
    """Unpack an archive into a directory of the node, compared with its index. Raises OSError, NotHere, TooMuch."""
    path = _raw(request["path"])
    only, skip = _patterns(request["only"]), _patterns(request["skip"])
    counts: Dict[str, int] = {}
    reported: List[List[Any]] = []
    sums = {"files": 0, "size": 0, "proven": 0, "bits": 0}

    def hear(outcome: unpacking.MemberOutcome) -> None:
        alive()
        member = outcome.member
        counts[outcome.what] = counts.get(outcome.what, 0) + 1
        sums["bits"] += bool(outcome.bits)
        if outcome.what in (unpacking.UNPACKED, unpacking.REPLACED) and member.kind == FILE:
            sums["files"] += 1
            sums["size"] += member.size
        if outcome.what not in (unpacking.UNPACKED, unpacking.LEFT) and len(reported) < _MOST_REPORTED:
            reported.append([member.name.decode("latin-1"), outcome.what, outcome.why])

    manner = unpacking.UnpackOptions(request["run"], request["if_there"], request["links_out"], request["most"])
    damage: List[List[Any]] = []

    def damaged(error: Damaged) -> None:
        damage.append([error.at, error.why])
        listed.stop()

    def take(member: Member) -> None:
        alive()
        digest = listed.digest(member)
        if member_names.chosen(member.name, only, skip):
            sums["proven"] += bool(digest)
            unpacker.take(reader, member, digest)

    with _open(path) as stream, unpacking.Unpacker(_raw(request["into"]), manner, hear) as unpacker:
        reader, listed = _reader(path, stream), index.InStep(_index_lines(path))
        unpacking.for_each_member(reader, take, damaged, request["salvage"])
    return {"counts": counts, "reported": reported, "damage": damage, "strays": listed.strays, **sums}


def contents(request: Request, alive: Alive) -> Reply:
    """Hash an archive's files and answer with the first digests; `more` asks for the rest. Raises OSError, NotHere.

    None that is larger than `most`, if that is given: a stranger's sparse file may have an exabyte of zeros.
    """
    found: List[Any] = []
    most = request.get("most")
    with _open(_raw(request["path"])) as stream:
        reader = _reader(_raw(request["path"]), stream)
        try:
            for member in reader.members():
                alive()
                if member.kind == FILE and (most is None or member.size <= most):
                    found.append([member.name.decode("latin-1"), _member_digest(reader, member, alive)])
        except Damaged:
            pass  # of what cannot be read there is no digest
    _TO_TELL[request["token"]] = found
    return more(request, alive)


def members(request: Request, alive: Alive) -> Reply:
    """The members of an archive with their facts, the first of them; `more` asks for the rest.

    Raises OSError, NotHere.
    """
    found: List[Any] = []
    with _open(_raw(request["path"])) as stream:
        try:
            for name, kind, size, mode, mtime_ns, target, *_ in _reader(_raw(request["path"]), stream).members():
                alive()
                found.append([name.decode("latin-1"), kind, size, mode, mtime_ns, target.decode("latin-1")])
        except Damaged as damaged:
            return {"found": [], "damaged": damaged.why}
    _TO_TELL[request["token"]] = found
    return more(request, alive)


def more(request: Request, alive: Alive) -> Reply:
    """The next digests, or members; empty at the end."""
    left = _TO_TELL.get(request["token"], [])
    some, left[:_ENTRIES_PER_MESSAGE] = left[:_ENTRIES_PER_MESSAGE], []
    if not some:
        _TO_TELL.pop(request["token"], None)
    return {"found": some}


def hear(request: Request, alive: Alive) -> Reply:
    """Some more entries of a bundle that is to be made."""
    _HEARD.setdefault(request["token"], []).extend(request["entries"])
    return {}


def _member_digest(reader: TarReader, member: Member, alive: Alive) -> str:
    digest = SparseDigest()
    for offset, data in reader.contents():
        alive()
        digest.add(offset, data)
    return digest.finish(member.size)


def _index_lines(path: bytes) -> Optional[Iterator[index.IndexEntry]]:
    """The entries of the index, if there is a complete one."""
    for suffix in index.SUFFIXES:
        try:
            with _open(path + suffix) as stream:
                stream.seek(max(0, os.fstat(stream.fileno()).st_size - 4096))
                if index.read_totals(stream.read()) is None:
                    return None
        except OSError:
            continue
        return index.read_lines(_lines(path + suffix))
    return None


def _lines(path: bytes) -> Iterator[bytes]:
    with _open(path) as stream:
        for line in stream:
            yield line.rstrip(b"\n")


def _reader(path: bytes, stream: Any) -> TarReader:
    start = stream.read(BLOCK)
    stream.seek(0)
    if is_header(start):
        start = b""  # a tar may begin with a name that looks like something else
    if start.startswith(b"\x28\xb5\x2f\xfd"):
        return TarReader(_Command([_zstd(), "-dcq"], path).read)
    if start.startswith(b"PK"):
        raise NotHere("a program for zip archives")
    for magic, opened in ((b"\x1f\x8b", gzip.open), (b"BZh", bz2.open), (b"\xfd7zXZ", lzma.open)):
        if start.startswith(magic):
            return TarReader(_Unpressed(opened(stream, "rb")).read)

    def skip(size: int) -> None:
        if stream.tell() + size > os.fstat(stream.fileno()).st_size:
            raise EOFError
        stream.seek(size, 1)

    return TarReader(stream.read, skip)


class _Unpressed:
    """A compressed stream whose failures become Damaged."""

    def __init__(self, stream: Any) -> None:
        self._stream = stream
        self._given = 0

    def read(self, size: int) -> bytes:
        try:
            data = self._stream.read(size)
        except (OSError, EOFError, zlib.error, lzma.LZMAError) as error:
            raise Damaged(self._given, "the compressed data is damaged (%s)" % error) from None
        self._given += len(data)
        return bytes(data)


class _Command:
    """The output of a command, which must end well."""

    def __init__(self, command: List[str], path: bytes) -> None:
        with _open(path) as source:
            self._child = subprocess.Popen(command, stdin=source, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL)
        self._given = 0
        # It must not outlive us, whatever ends us.
        threading.Thread(target=self._child.wait, daemon=True).start()

    def read(self, size: int) -> bytes:
        assert self._child.stdout is not None
        data = self._child.stdout.read(size)
        self._given += len(data)
        if not data and self._child.wait() != 0:
            raise Damaged(self._given, "the compressed data is damaged")
        return data


def _patterns(sources: List[str]) -> List[Any]:
    return [re.compile(_raw(source), re.DOTALL) for source in sources]


# -- how the helper asks ---------------------------------------------------------------------------------------


def _raw(text: str) -> bytes:
    return text.encode("latin-1")


def _told(work: Callable[[Request, Alive], Reply]) -> Callable[[Request, Alive], Reply]:
    """Turn outcomes that are no system errors into answers."""

    def answer(request: Request, alive: Alive) -> Reply:
        try:
            return work(request, alive)
        except NotHere as missing:
            return {"missing": str(missing)}
        except Changed as changed:
            return {"changed": changed.path.decode("latin-1")}
        except unpacking.TooMuch as much:
            return {"too_much": much.allowed}

    return answer


#: What the helper can be asked when it has learned this.
HANDLERS = {
    "make": _told(make),
    "hear": hear,
    "unpack": _told(unpack),
    "contents": _told(contents),
    "members": _told(members),
    "more": more,
}
