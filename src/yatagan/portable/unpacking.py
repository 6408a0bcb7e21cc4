"""Unpacking an archive into a directory, whoever made it, without letting it do harm.

Every name is walked from the root down, one open directory at a time, and never through a link; so no member can
climb out, however the archive is made and whatever is swapped in between. A file is written under a name of ours,
hashed, synced, given its facts, and only then its own name. Nothing is replaced unless that was asked for, and then
the old file is kept. Devices, FIFOs and set-id bits are not restored.
"""

import errno
import os
import stat
from concurrent.futures import Future, ThreadPoolExecutor
from hashlib import sha256
from typing import Any, Callable, Dict, Iterator, List, NamedTuple, Optional, Set, Tuple

from yatagan.portable.directories import (
    create_in,
    facts,
    forget,
    give_name,
    is_same_file,
    keep,
    kind_of,
    look,
    open_below,
    open_to_list,
    sync_disk,
    time_ns,
)
from yatagan.portable.member_names import (
    DIFFERENT,
    LEADS_OUT,
    NO_TARGET,
    SPECIAL,
    THROUGH_FILE,
    THROUGH_LINK,
    leads_out,
    parts_of,
    refusal,
)
from yatagan.portable.tar import DIRECTORY, FILE, HARD_LINK, LINK, Member

try:
    from typing import Protocol
except ImportError:  # before Python 3.8
    Protocol = object  # type: ignore[assignment]

NEVER, OLDER, ALWAYS = "never", "older", "always"

#: Files that are synced and given their names together, and their bytes.
_GROUP, _GROUP_BYTES = 128, 64 << 20
#: Directories that are kept open.
_OPEN_DIRECTORIES = 64
_UNHASHED = 8
_HOLE = bytes(1 << 20)

_DIRECTORY_FLAGS = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC


class Archive(Protocol):
    """What can be unpacked, from front to back."""

    def members(self) -> Iterator[Member]:
        """The members, in order."""

    def contents(self) -> Iterator[Tuple[int, bytes]]:
        """The present member's data, as (offset in the file, bytes)."""


# What came of a member.
UNPACKED, REPLACED, LEFT = "unpacked", "replaced", "left as is"
IN_THE_WAY, REFUSED, FAILED = "in the way", "refused", "failed"


class MemberOutcome(NamedTuple):
    """A member, what came of it, why (a reason of `names`, a kind that is in the way, or what the system said)."""

    member: Member
    what: str
    why: str = ""
    digest: str = ""
    #: Set-id bits that were left out.
    bits: int = 0


class TooMuch(Exception):
    """More would be written than was allowed; `allowed` bytes."""

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
    replace: str = NEVER
    links_out: bool = False
    most: Optional[int] = None
    sync_disk: bool = False


class _Ready(NamedTuple):
    """A file that is whole and waits for its name."""

    directory: int
    descriptor: int
    part: bytes
    name: bytes
    member: Member
    digest: str
    replaced: Optional[os.stat_result]


class _Refused(Exception):
    def __init__(self, why: str) -> None:
        super().__init__(why)
        self.why = why


class Unpacker:
    """Unpacks into one directory, which must be there. `told` hears what came of each member."""

    def __init__(self, root: bytes, manner: UnpackOptions, told: Callable[[MemberOutcome], None]) -> None:
        self._manner = manner
        self._told = told
        self._root = open_to_list(root)
        self._open: Dict[Tuple[bytes, ...], int] = {}
        self._made: Dict[Tuple[bytes, ...], Optional[Member]] = {}
        self._ready: List[_Ready] = []
        self._ready_bytes = 0
        self._named: Set[int] = set()
        self._written = 0
        self._part = 0
        self._hasher = ThreadPoolExecutor(1)

    def close(self) -> None:
        """Let go of everything; files that have no name yet are removed."""
        self._abandon()
        self._close_directories()
        self._hasher.shutdown()
        os.close(self._root)

    def take(self, archive: Archive, member: Member, expected: str = "") -> None:
        """Unpack one member, a file only when it has the `expected` SHA-256, if any.

        Raises what the archive raises, TooMuch, and OSError when there is no room.
        """
        if member.kind == DIRECTORY and member.name in (b".", b"./"):
            self._told(MemberOutcome(member, LEFT))
            return
        why = refusal(member.name)
        if why:
            self._told(MemberOutcome(member, REFUSED, why))
            return
        try:
            if member.kind == FILE:
                self._file(archive, member, expected)
            elif member.kind == DIRECTORY:
                self._make_directory(member)
            elif member.kind == LINK:
                self._link(member)
            elif member.kind == HARD_LINK:
                self._hard_link(member)
            else:
                self._told(MemberOutcome(member, REFUSED, SPECIAL))
        except _Refused as refused:
            self._told(MemberOutcome(member, REFUSED, refused.why))
        except OverflowError:
            self._told(MemberOutcome(member, FAILED, "a size or time that no disk can hold"))
        except OSError as error:
            if error.errno in (errno.ENOSPC, errno.EDQUOT):
                raise
            self._told(MemberOutcome(member, FAILED, error.strerror or str(error)))

    def finish(self) -> None:
        """Give what is left its name, and directories that were made their facts, deepest first."""
        self._settle()
        self._close_directories()
        for parts in sorted(self._made, key=len, reverse=True):
            member = self._made[parts]
            try:
                self._set_directory_facts(parts, member)
            except (OSError, OverflowError, _Refused):
                continue  # it was removed or replaced meanwhile: then its facts are nobody's
        self._made.clear()
        self._close_directories()
        if self._manner.sync_disk:
            sync_disk(self._root)  # the names, too

    # -- directories ----------------------------------------------------------------------------------------

    def _directory(self, parts: Tuple[bytes, ...]) -> int:
        """An open directory below the root, made where it is missing."""
        if not parts:
            return self._root
        above, name = self._directory(parts[:-1]), parts[-1]
        known = self._open.get(parts)
        if known is not None:
            if is_same_file(look(above, name), os.fstat(known)):
                return known
            self._settle()  # it was moved away, and its files with it
            os.close(self._open.pop(parts))
        try:
            descriptor = open_below(above, name, _DIRECTORY_FLAGS)
        except FileNotFoundError:
            if hash(parts) in self._named:
                self._settle()  # a file that waits for just this name
                raise _Refused(THROUGH_FILE) from None
            os.mkdir(name, 0o700, dir_fd=above)
            self._made[parts] = None
            descriptor = open_below(above, name, _DIRECTORY_FLAGS)
        except OSError as error:
            if error.errno not in (errno.ENOTDIR, errno.ELOOP):
                raise
            found = look(above, name)
            raise _Refused(THROUGH_LINK if found and stat.S_ISLNK(found.st_mode) else THROUGH_FILE) from None
        if len(self._open) >= _OPEN_DIRECTORIES:
            self._settle()
            for other in [each for each in self._open if parts[: len(each)] != each]:
                os.close(self._open.pop(other))
        self._open[parts] = descriptor
        return descriptor

    def _make_directory(self, member: Member) -> None:
        parts = parts_of(member.name)
        known = parts in self._made
        self._directory(parts)
        made = parts in self._made
        if made:
            self._made[parts] = member
        self._told(
            MemberOutcome(member, UNPACKED if made and not known else LEFT, bits=member.mode & 0o4000 if made else 0)
        )

    def _set_directory_facts(self, parts: Tuple[bytes, ...], member: Optional[Member]) -> None:
        descriptor = self._directory(parts)
        inherited = os.fstat(descriptor).st_mode & stat.S_ISGID
        if member is None:
            umask = os.umask(0)
            os.umask(umask)
            os.fchmod(descriptor, 0o777 & ~umask | inherited)
            return
        os.fchmod(descriptor, member.mode & 0o3777 | inherited)
        os.utime(descriptor, ns=(time_ns(), member.mtime_ns))

    def _close_directories(self) -> None:
        for descriptor in self._open.values():
            os.close(descriptor)
        self._open.clear()

    # -- files ----------------------------------------------------------------------------------------------

    def _file(self, archive: Archive, member: Member, expected: str) -> None:
        parts = parts_of(member.name)
        directory, name = self._directory(parts[:-1]), parts[-1]
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
                raise _Refused(DIFFERENT)
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
        """Write the contents; their SHA-256.

        "" for a sparse file whose holes nobody wants hashed: there could be an exabyte of them.
        """
        value = sha256()
        at = 0
        unhashed: List["Future[None]"] = []
        for offset, data in archive.contents():
            hole, at = offset - at if hash_holes else 0, offset + len(data)
            if member.size == len(data):
                value.update(data)  # a small file: not worth a thread
            else:
                unhashed.append(self._hasher.submit(feed, value, hole, data))
                if len(unhashed) > _UNHASHED:
                    unhashed.pop(0).result()
            view = memoryview(data)
            while view:
                count = os.pwrite(descriptor, view, offset)
                view, offset = view[count:], offset + count
            self._written += len(data)
        if at < member.size:
            os.ftruncate(descriptor, member.size)
            if hash_holes:
                unhashed.append(self._hasher.submit(feed, value, member.size - at, b""))
        for future in unhashed:
            future.result()
        return value.hexdigest() if member.regions is None or hash_holes else ""

    def _way_is_free(self, directory: int, name: bytes, member: Member) -> Any:
        """None when the name is free, what it stands for when that may be replaced, _STAYS when it stays (and told).

        Where an archive has the same name twice the later one counts, as in those that were added to.
        """
        again = hash(parts_of(member.name)) in self._named
        if again:
            self._settle()
        found = look(directory, name)
        if found is None:
            return None
        if not stat.S_ISREG(found.st_mode) and not stat.S_ISLNK(found.st_mode):
            self._told(MemberOutcome(member, IN_THE_WAY, kind_of(found)))
            return _STAYS
        if not again and passes_for(found, member, directory, name):
            self._told(MemberOutcome(member, LEFT))
            return _STAYS
        wanted = self._manner.replace
        if again or wanted == ALWAYS or (wanted == OLDER and found.st_mtime_ns < member.mtime_ns):
            return found
        self._told(MemberOutcome(member, IN_THE_WAY, kind_of(found)))
        return _STAYS

    def _settle(self) -> None:
        """Sync what is ready, and give it its names."""
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
        if self._manner.sync_disk and sync_disk(self._root):
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
                self._told(MemberOutcome(each.member, UNPACKED, digest=each.digest, bits=bits))
                return
            self._keep(each)
            os.rename(each.part, each.name, src_dir_fd=each.directory, dst_dir_fd=each.directory)
            self._told(MemberOutcome(each.member, REPLACED, digest=each.digest, bits=bits))
        except OSError as error:
            forget(each.directory, each.part)
            if error.errno == errno.EEXIST:
                self._told(MemberOutcome(each.member, IN_THE_WAY, "something new"))
            else:
                self._told(MemberOutcome(each.member, FAILED, error.strerror or str(error)))

    def _keep(self, each: _Ready) -> None:
        """A second name for what is about to be replaced; EEXIST when it is no longer what was looked at."""
        now = look(each.directory, each.name)
        if now is None or each.replaced is None or facts(now) != facts(each.replaced):
            raise OSError(errno.EEXIST, "it changed")
        kept = self._kept_directory(parts_of(each.member.name)[:-1])
        try:
            keep(each.directory, each.name, kept, each.name)
        finally:
            os.close(kept)

    def _kept_directory(self, parts: Tuple[bytes, ...]) -> int:
        descriptor = os.dup(self._root)
        for name in (b".yatagan-kept", self._manner.run.encode("ascii"), *parts):
            try:
                os.mkdir(name, 0o700, dir_fd=descriptor)
            except FileExistsError:
                pass
            below = open_below(descriptor, name, _DIRECTORY_FLAGS)
            os.close(descriptor)
            descriptor = below
        return descriptor

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
            raise _Refused(NO_TARGET)
        if leads_out(member.name, member.target) and not self._manner.links_out:
            raise _Refused(LEADS_OUT)
        parts = parts_of(member.name)
        directory, name = self._directory(parts[:-1]), parts[-1]
        found = self._way_is_free(directory, name, member)
        if found is _STAYS:
            return
        if found is not None:
            self._keep(_Ready(directory, -1, b"", name, member, "", found))
            forget(directory, name)
        self._named.add(hash(parts))
        os.symlink(member.target, name, dir_fd=directory)
        os.utime(name, ns=(time_ns(), member.mtime_ns), dir_fd=directory, follow_symlinks=False)
        self._told(MemberOutcome(member, UNPACKED if found is None else REPLACED))

    def _hard_link(self, member: Member) -> None:
        if refusal(member.target):
            raise _Refused(LEADS_OUT)
        self._settle()
        parts, target = parts_of(member.name), parts_of(member.target)
        source = self._directory_of(target)
        try:
            there = look(source, target[-1])
            if there is None or not stat.S_ISREG(there.st_mode):
                raise _Refused(NO_TARGET)
            directory, name = self._directory(parts[:-1]), parts[-1]
            found = look(directory, name)
            if found is not None:
                same = (found.st_dev, found.st_ino) == (there.st_dev, there.st_ino)
                self._told(MemberOutcome(member, LEFT) if same else MemberOutcome(member, IN_THE_WAY, kind_of(found)))
                return
            os.link(target[-1], name, src_dir_fd=source, dst_dir_fd=directory, follow_symlinks=False)
        finally:
            os.close(source)
        self._told(MemberOutcome(member, UNPACKED))

    def _directory_of(self, target: Tuple[bytes, ...]) -> int:
        """A descriptor of the directory that holds a file; none is made for it."""
        descriptor = os.dup(self._root)
        for name in target[:-1]:
            try:
                below = open_below(descriptor, name, _DIRECTORY_FLAGS)
            except OSError:
                raise _Refused(NO_TARGET) from None
            finally:
                os.close(descriptor)
            descriptor = below
        return descriptor


_STAYS = object()


def passes_for(found: os.stat_result, member: Member, directory: int, name: bytes) -> bool:
    """Whether what is there is the member, by size and time, or a link to the same."""
    if member.kind == LINK:
        return stat.S_ISLNK(found.st_mode) and os.readlink(name, dir_fd=directory) == member.target
    step = 1 if member.mtime_ns % 1_000_000_000 else 1_000_000_000
    return (
        stat.S_ISREG(found.st_mode)
        and found.st_size == member.size
        and found.st_mtime_ns // step == member.mtime_ns // step
    )


def feed(value: Any, hole: int, data: bytes) -> None:
    """Hash the zeros of a hole, and what follows it."""
    while hole > 0:
        count = min(hole, len(_HOLE))
        value.update(_HOLE if count == len(_HOLE) else _HOLE[:count])
        hole -= count
    value.update(data)
