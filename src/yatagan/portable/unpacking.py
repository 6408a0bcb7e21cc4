"""Unpacking any archive into a directory, without letting it do harm.

Every name is walked from the root down, one open directory at a time, and never through a link; so no member can
climb out, however the archive is made and whatever is swapped in between. A file is written under a name of ours,
hashed, synced, given its facts, and only then its own name. Nothing is replaced unless that was asked for, and then
the old file is kept. Devices, FIFOs and set-id bits are not restored.
"""

import errno
import os
import stat
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Any, Callable, Iterator, List, NamedTuple, Optional, Set, Tuple

from yatagan.portable.directories import (
    create_in,
    facts,
    forget,
    give_name,
    keep,
    kind_of,
    look,
    sync_disk,
    time_ns,
)
from yatagan.portable.holes import SparseDigest
from yatagan.portable.member_names import (
    DIFFERENT,
    LEADS_OUT,
    NO_TARGET,
    SPECIAL,
    leads_out,
    parts_of,
    refusal,
)
from yatagan.portable.tar import DIRECTORY, FILE, HARD_LINK, LINK, Damaged, Member
from yatagan.portable.unpack_directories import MemberRefused, UnpackDirectories

try:
    from typing import Protocol  # novermin
except ImportError:  # before Python 3.8
    Protocol = object  # type: ignore[assignment]

LEAVE, REPLACE_OLDER, REPLACE = "leave", "replace-older", "replace"

#: Files that are synced and given their names together, and their bytes.
_GROUP, _GROUP_BYTES = 128, 64 << 20
#: Pieces of a file that wait to be hashed.
_UNHASHED = 8


class Archive(Protocol):
    """An archive that can be unpacked from front to back."""

    def members(self) -> Iterator[Member]:
        """The members, in order."""

    def contents(self) -> Iterator[Tuple[int, bytes]]:
        """The present member's data, as (offset in the file, bytes)."""

    def resume(self) -> bool:
        """Go on behind damage. Returns whether anything was found there."""


# What came of a member.
UNPACKED, REPLACED, LEFT = "unpacked", "replaced", "left as is"
IN_THE_WAY, REFUSED, FAILED = "in the way", "refused", "failed"


class MemberOutcome(NamedTuple):
    """The outcome of a member, and why: a reason of `member_names`, a kind in the way, or the system's words."""

    member: Member
    what: str
    why: str = ""
    digest: str = ""
    #: Set-id bits that were left out.
    bits: int = 0


class TooMuch(Exception):
    """More than `allowed` bytes would be written."""

    def __init__(self, allowed: int) -> None:
        super().__init__(allowed)
        self.allowed = allowed


class UnpackOptions(NamedTuple):
    """How to unpack.

    `run` names this run: part files and kept files carry it. `most` is how many bytes may be written in all.
    `links_out`: make links that lead out of the directory, too. `sync_disk`: sync the whole disk now and then in place
    of each file.
    """

    run: str
    if_there: str = LEAVE
    links_out: bool = False
    most: Optional[int] = None
    sync_disk: bool = False


class _Ready(NamedTuple):
    """A complete file that is waiting for its name."""

    directory: int
    descriptor: int
    part: bytes
    name: bytes
    member: Member
    digest: str
    replaced: Optional[os.stat_result]


class Unpacker:
    """Unpacks into an existing directory. `report` is called with each outcome."""

    def __init__(self, root: bytes, manner: UnpackOptions, report: Callable[[MemberOutcome], None]) -> None:
        self._manner = manner
        self._report = report
        self._directories = UnpackDirectories(root, self._settle, lambda parts: hash(parts) in self._named)
        self._ready: List[_Ready] = []
        self._ready_bytes = 0
        self._named: Set[int] = set()
        self._written = 0
        self._part = 0
        self._hasher = ThreadPoolExecutor(1)

    def __enter__(self) -> "Unpacker":
        return self

    def __exit__(self, *error: object) -> None:
        """Finish and close: complete files get their names, whatever failed."""
        try:
            self.finish()
        finally:
            self.close()

    def close(self) -> None:
        """Close everything; files without a name are removed."""
        self._abandon()
        self._directories.close()
        self._hasher.shutdown()

    def take(self, archive: Archive, member: Member, expected: str = "") -> None:
        """Unpack one member. A file must have the SHA-256 `expected`, if that is given.

        Raises what the archive raises, TooMuch, and OSError when space runs out.
        """
        if member.kind == DIRECTORY and member.name in (b".", b"./"):
            self._report(MemberOutcome(member, LEFT))
            return
        why = refusal(member.name)
        if why:
            self._report(MemberOutcome(member, REFUSED, why))
            return
        try:
            if member.kind == FILE:
                self._file(archive, member, expected)
            elif member.kind == DIRECTORY:
                self._directory(member)
            elif member.kind == LINK:
                self._link(member)
            elif member.kind == HARD_LINK:
                self._hard_link(member)
            else:
                self._report(MemberOutcome(member, REFUSED, SPECIAL))
        except MemberRefused as refused:
            self._report(MemberOutcome(member, REFUSED, refused.why))
        except OverflowError:
            self._report(MemberOutcome(member, FAILED, "a size or time that no disk can hold"))
        except OSError as error:
            if error.errno in (errno.ENOSPC, errno.EDQUOT):
                raise
            self._report(MemberOutcome(member, FAILED, error.strerror or str(error)))

    def finish(self) -> None:
        """Name waiting files, then set the facts of directories."""
        self._settle()
        self._directories.set_facts()
        if self._manner.sync_disk:
            sync_disk(self._directories.root)  # the names, too

    def _directory(self, member: Member) -> None:
        made, first = self._directories.make(parts_of(member.name), member)
        what = UNPACKED if first else LEFT
        self._report(MemberOutcome(member, what, bits=member.mode & 0o4000 if made else 0))

    # -- files ----------------------------------------------------------------------------------------------

    def _file(self, archive: Archive, member: Member, expected: str) -> None:
        parts = parts_of(member.name)
        directory, name = self._directories.open(parts[:-1]), parts[-1]
        found = self._way_is_free(directory, name, member)
        if found is _STAYS:
            return
        if self._manner.most is not None and self._written + member.stored > self._manner.most:
            raise TooMuch(self._manner.most)
        self._part += 1
        part = b".yatagan-%b-%d-0.part" % (self._manner.run.encode("ascii"), self._part)
        descriptor = create_in(directory, part, 0o600)
        try:
            digest = self._write(archive, member, descriptor, hash_holes=bool(expected))
            if expected and digest != expected:
                raise MemberRefused(DIFFERENT)
            os.fchmod(descriptor, member.mode & 0o777)
            os.utime(descriptor, ns=(time_ns(), member.mtime_ns))
        except BaseException:
            os.close(descriptor)
            os.unlink(part, dir_fd=directory)
            raise
        assert found is None or isinstance(found, os.stat_result)
        self._named.add(hash(parts))
        self._ready.append(_Ready(directory, descriptor, part, name, member, digest, found))
        self._ready_bytes += member.stored
        if len(self._ready) >= _GROUP or self._ready_bytes >= _GROUP_BYTES:
            self._settle()

    def _write(self, archive: Archive, member: Member, descriptor: int, *, hash_holes: bool) -> str:
        """Write the contents. Returns their SHA-256, "" for a sparse file whose holes were not to be hashed."""
        digest, end = SparseDigest(hash_holes), 0
        unhashed: List["Future[None]"] = []
        for offset, data in archive.contents():
            end = offset + len(data)
            if member.size == len(data):
                digest.add(offset, data)  # a small file: not worth a thread
            else:
                unhashed.append(self._hasher.submit(digest.add, offset, data))
                if len(unhashed) > _UNHASHED:
                    unhashed.pop(0).result()
            view = memoryview(data)
            while view:
                count = os.pwrite(descriptor, view, offset)
                view, offset = view[count:], offset + count
            self._written += len(data)
        if end < member.size:
            os.ftruncate(descriptor, member.size)
        for future in unhashed:
            future.result()
        return digest.finish(member.size) if member.regions is None or hash_holes else ""

    def _way_is_free(self, directory: int, name: bytes, member: Member) -> Any:
        """None when the name is free; its stat result when it may be replaced; _STAYS when it stays, which is reported.

        If an archive has a name twice the later member counts, as in archives that were appended to.
        """
        again = hash(parts_of(member.name)) in self._named
        if again:
            self._settle()
        found = look(directory, name)
        if found is None:
            return None
        if not stat.S_ISREG(found.st_mode) and not stat.S_ISLNK(found.st_mode):
            self._report(MemberOutcome(member, IN_THE_WAY, kind_of(found)))
            return _STAYS
        if not again and passes_for(found, member, directory, name):
            self._report(MemberOutcome(member, LEFT))
            return _STAYS
        wanted = self._manner.if_there
        if again or wanted == REPLACE or (wanted == REPLACE_OLDER and found.st_mtime_ns < member.mtime_ns):
            return found
        self._report(MemberOutcome(member, IN_THE_WAY, kind_of(found)))
        return _STAYS

    def _settle(self) -> None:
        """Sync files that are ready, and name them."""
        ready, self._ready, self._ready_bytes = self._ready, [], 0
        if not ready:
            return
        try:
            self._sync([each.descriptor for each in ready])
            while ready:
                each = ready[0]
                os.close(each.descriptor)
                ready.pop(0)
                self._name(each)
        finally:
            self._ready = ready + self._ready

    def _sync(self, descriptors: List[int]) -> None:
        if self._manner.sync_disk and sync_disk(self._directories.root):
            return
        if len(descriptors) == 1:
            os.fsync(descriptors[0])
            return
        with ThreadPoolExecutor(4) as pool:
            list(pool.map(os.fsync, descriptors))

    def _name(self, each: _Ready) -> None:
        bits = each.member.mode & 0o6000
        try:
            if each.replaced is None:
                give_name(each.directory, each.part, each.directory, each.name)
                self._report(MemberOutcome(each.member, UNPACKED, digest=each.digest, bits=bits))
                return
            self._keep(each)
            os.rename(each.part, each.name, src_dir_fd=each.directory, dst_dir_fd=each.directory)
            self._report(MemberOutcome(each.member, REPLACED, digest=each.digest, bits=bits))
        except OSError as error:
            forget(each.directory, each.part)
            if error.errno == errno.EEXIST:
                self._report(MemberOutcome(each.member, IN_THE_WAY, "something new"))
            else:
                self._report(MemberOutcome(each.member, FAILED, error.strerror or str(error)))

    def _keep(self, each: _Ready) -> None:
        """Keep what is about to be replaced. Raises OSError, EEXIST when it is not what was seen."""
        now = look(each.directory, each.name)
        if now is None or each.replaced is None or facts(now) != facts(each.replaced):
            raise OSError(errno.EEXIST, "it changed")
        kept = self._directories.for_kept(self._manner.run, parts_of(each.member.name)[:-1])
        try:
            keep(each.directory, each.name, kept, each.name)
        finally:
            os.close(kept)

    def _abandon(self) -> None:
        for each in self._ready:
            try:
                os.close(each.descriptor)
                os.unlink(each.part, dir_fd=each.directory)
            except OSError:
                continue
        self._ready = []

    # -- links ----------------------------------------------------------------------------------------------

    def _link(self, member: Member) -> None:
        if not member.target or b"\0" in member.target:
            raise MemberRefused(NO_TARGET)
        if leads_out(member.name, member.target) and not self._manner.links_out:
            raise MemberRefused(LEADS_OUT)
        parts = parts_of(member.name)
        directory, name = self._directories.open(parts[:-1]), parts[-1]
        found = self._way_is_free(directory, name, member)
        if found is _STAYS:
            return
        if found is not None:
            self._keep(_Ready(directory, -1, b"", name, member, "", found))
            forget(directory, name)
        self._named.add(hash(parts))
        os.symlink(member.target, name, dir_fd=directory)
        os.utime(name, ns=(time_ns(), member.mtime_ns), dir_fd=directory, follow_symlinks=False)
        self._report(MemberOutcome(member, UNPACKED if found is None else REPLACED))

    def _hard_link(self, member: Member) -> None:
        if refusal(member.target):
            raise MemberRefused(LEADS_OUT)
        self._settle()
        parts, target = parts_of(member.name), parts_of(member.target)
        source = self._directories.existing(target[:-1])
        try:
            there = look(source, target[-1])
            if there is None or not stat.S_ISREG(there.st_mode):
                raise MemberRefused(NO_TARGET)
            directory, name = self._directories.open(parts[:-1]), parts[-1]
            found = look(directory, name)
            if found is not None:
                same = (found.st_dev, found.st_ino) == (there.st_dev, there.st_ino)
                self._report(MemberOutcome(member, LEFT) if same else MemberOutcome(member, IN_THE_WAY, kind_of(found)))
                return
            os.link(target[-1], name, src_dir_fd=source, dst_dir_fd=directory, follow_symlinks=False)
        finally:
            os.close(source)
        self._report(MemberOutcome(member, UNPACKED))


_STAYS = object()


def passes_for(found: os.stat_result, member: Member, directory: int, name: bytes) -> bool:
    """Whether an existing file counts as the member, by size and time, or a link by its target."""
    if member.kind == LINK:
        return stat.S_ISLNK(found.st_mode) and os.readlink(name, dir_fd=directory) == member.target
    step = 1 if member.mtime_ns % 1_000_000_000 else 1_000_000_000
    return (
        stat.S_ISREG(found.st_mode)
        and found.st_size == member.size
        and found.st_mtime_ns // step == member.mtime_ns // step
    )


def for_each_member(
    archive: Archive, take: Callable[[Member], None], damaged: Callable[[Damaged], None], salvage: bool
) -> None:
    """Hand every member to `take`, up to where the archive is damaged, or with `salvage` beyond that.

    `damaged` is called with each such place. What `take` raises ends it.
    """
    while True:
        try:
            for member in archive.members():
                take(member)
            return
        except Damaged as error:
            damaged(error)
            if not salvage or not archive.resume():
                return
