"""The directories that an archive is unpacked into: opened one below the other from the root, never through a link."""

import errno
import os
import stat
from typing import Callable, Dict, Optional, Tuple

from yatagan.portable.directories import is_same_file, look, open_below, open_to_list, time_ns
from yatagan.portable.member_names import NO_TARGET, THROUGH_FILE, THROUGH_LINK
from yatagan.portable.tar import Member

Parts = Tuple[bytes, ...]

#: Directories that are kept open.
_MOST_OPEN = 64
_FLAGS = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC


class MemberRefused(Exception):
    """A member is not unpacked; `why` is a reason of `member_names`."""

    def __init__(self, why: str) -> None:
        super().__init__(why)
        self.why = why


class UnpackDirectories:
    """Directories below `root`, by the components of their paths.

    `settle` is called before a directory is closed: it gives files that are waiting their names. `awaits`: whether a
    file is waiting for just this name.
    """

    def __init__(self, root: bytes, settle: Callable[[], None], awaits: Callable[[Parts], bool]) -> None:
        self.root = open_to_list(root)
        self._settle = settle
        self._awaits = awaits
        self._open: Dict[Parts, int] = {}
        #: Those that were made, and the members whose facts they get; None where the archive has no such member.
        self._made: Dict[Parts, Optional[Member]] = {}

    def close(self) -> None:
        """Close all of them."""
        self._close_below()
        os.close(self.root)

    def open(self, parts: Parts) -> int:
        """Open a directory, made if it is missing. Raises MemberRefused, OSError."""
        if not parts:
            return self.root
        above, name = self.open(parts[:-1]), parts[-1]
        known = self._open.get(parts)
        if known is not None:
            if is_same_file(look(above, name), os.fstat(known)):
                return known
            self._settle()  # it was moved away, and its files with it
            os.close(self._open.pop(parts))
        try:
            descriptor = open_below(above, name, _FLAGS)
        except FileNotFoundError:
            if self._awaits(parts):
                self._settle()
                raise MemberRefused(THROUGH_FILE) from None
            os.mkdir(name, 0o700, dir_fd=above)
            self._made[parts] = None
            descriptor = open_below(above, name, _FLAGS)
        except OSError as error:
            if error.errno not in (errno.ENOTDIR, errno.ELOOP):
                raise
            found = look(above, name)
            raise MemberRefused(THROUGH_LINK if found and stat.S_ISLNK(found.st_mode) else THROUGH_FILE) from None
        if len(self._open) >= _MOST_OPEN:
            self._settle()
            for other in [each for each in self._open if parts[: len(each)] != each]:
                os.close(self._open.pop(other))
        self._open[parts] = descriptor
        return descriptor

    def make(self, parts: Parts, member: Member) -> Tuple[bool, bool]:
        """Make a member's directory. Returns whether we made it, and whether this is its first member."""
        known = parts in self._made
        self.open(parts)
        made = parts in self._made
        if made:
            self._made[parts] = member
        return made, made and not known

    def set_facts(self) -> None:
        """Set the facts of directories that were made, deepest first."""
        self._close_below()
        for parts in sorted(self._made, key=len, reverse=True):
            try:
                self._set_facts_of(parts, self._made[parts])
            except (OSError, OverflowError, MemberRefused):
                continue  # it was removed or replaced meanwhile: then it keeps its facts
        self._made.clear()
        self._close_below()

    def _set_facts_of(self, parts: Parts, member: Optional[Member]) -> None:
        descriptor = self.open(parts)
        inherited = os.fstat(descriptor).st_mode & stat.S_ISGID
        if member is None:
            umask = os.umask(0)
            os.umask(umask)
            os.fchmod(descriptor, 0o777 & ~umask | inherited)
            return
        os.fchmod(descriptor, member.mode & 0o3777 | inherited)
        os.utime(descriptor, ns=(time_ns(), member.mtime_ns))

    def _close_below(self) -> None:
        for descriptor in self._open.values():
            os.close(descriptor)
        self._open.clear()

    def existing(self, parts: Parts) -> int:
        """Open an existing directory; the caller closes it. Raises MemberRefused."""
        descriptor = os.dup(self.root)
        for name in parts:
            try:
                below = open_below(descriptor, name, _FLAGS)
            except OSError:
                raise MemberRefused(NO_TARGET) from None
            finally:
                os.close(descriptor)
            descriptor = below
        return descriptor

    def for_kept(self, run: str, parts: Parts) -> int:
        """Open the directory for what is replaced in another one; the caller closes it."""
        descriptor = os.dup(self.root)
        for depth, name in enumerate((b".yatagan-kept", run.encode("ascii"), *parts)):
            made = _make_below(descriptor, name)
            descriptor = _go_below(descriptor, name)
            if made:
                self._open_as(descriptor, parts[: max(0, depth - 1)])
        return descriptor

    def _open_as(self, descriptor: int, parts: Parts) -> None:
        """Give a new directory the permissions of the one that its contents come from; or leave it closed to others."""
        try:
            origin = self.existing(parts)
        except MemberRefused:
            return
        try:
            made, model = os.fstat(descriptor), os.fstat(origin)
            os.fchmod(descriptor, kept_mode(made.st_mode, model.st_mode, made.st_gid == model.st_gid))
        except OSError:
            return
        finally:
            os.close(origin)


def kept_mode(made: int, origin: int, same_group: bool) -> int:
    """The mode of a directory for what is replaced in another one, of mode `origin`; `made` is what it was made with.

    It admits no one whom the other one does not admit: another group than that one's gets what that group and others
    both had. A set-group-id bit that was inherited stays.
    """
    wanted = origin & 0o1777
    if not same_group:
        both = wanted & 0o007 & wanted >> 3
        wanted = wanted & ~0o077 | both << 3 | both
    return wanted | made & 0o2000


def _make_below(directory: int, name: bytes) -> bool:
    """Make a directory, closed to others. Returns whether it was missing."""
    try:
        os.mkdir(name, 0o700, dir_fd=directory)
    except FileExistsError:
        return False
    return True


def _go_below(directory: int, name: bytes) -> int:
    """Open a directory in another one, which is closed."""
    try:
        return open_below(directory, name, _FLAGS)
    finally:
        os.close(directory)
