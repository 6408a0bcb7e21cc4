"""A ledger's files by open directories: below its root no link is ever followed, for reading or for writing.

Others may write into a group's ledger, and a project's comes with the project. A link in the place of `writers` would
have our records appear wherever it leads, such as where a shell reads its commands; one in the place of a file would
have a private file read out, or written to.

The way to the root may lead through links of this account or root. A project's ledger is given without any.
"""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from yatagan.config.guarded_files import open_directory
from yatagan.portable import directories

#: The parts of a ledger: its root, and the directories in that.
ROOT, WRITERS, LISTS = "", "writers", "lists"
_LIST = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC


class LedgerHandles:
    """Opens the files of the ledger at a path. `links`: whether the way to it may lead through links of ours.

    Every method raises OSError, FileNotFoundError for what is not there. Names are those of entries in a part.
    """

    def __init__(self, path: Path, *, links: bool) -> None:
        self.path = path
        self._links = links

    @contextmanager
    def open(self, part: str) -> Iterator[int]:
        """The open directory of a part."""
        root = self._open_root()
        try:
            if part == ROOT:
                yield root
                return
            try:
                directory = directories.open_below(root, os.fsencode(part), _LIST)
            except OSError as error:
                raise self._odd(error, part) from error
        finally:
            os.close(root)
        try:
            yield directory
        finally:
            os.close(directory)

    def _open_root(self) -> int:
        if self._links:
            return open_directory(self.path)
        try:
            return directories.open_to_list(os.fsencode(self.path))
        except OSError as error:
            raise self._odd(error, "") from error

    def _odd(self, error: OSError, name: str) -> OSError:
        """The error with the file that it is about, and what a person would say of it."""
        why = "it is a link, which no ledger has" if error.errno == errno.ELOOP else error.strerror
        return type(error)(error.errno, why, str(self.path / name.lstrip("/")))

    def entries(self, part: str) -> list[tuple[str, os.stat_result]]:
        """What is in a part: names, and what has them, links not followed."""
        found = []
        with self.open(part) as directory, os.scandir(directory) as entries:
            for entry in entries:
                with suppress(FileNotFoundError):
                    found.append((entry.name, entry.stat(follow_symlinks=False)))
        return found

    def stat(self, part: str, name: str = ".") -> os.stat_result:
        """What has a name, links not followed; without one the part itself."""
        with self.open(part) as directory:
            return os.stat(name, dir_fd=directory, follow_symlinks=False)

    def open_file(self, part: str, name: str, flags: int = os.O_RDONLY, mode: int = 0o600) -> int:
        """Open a regular file. Anything else, links among it, is an OSError."""
        with self.open(part) as directory:
            try:
                descriptor = os.open(name, flags | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC, mode, dir_fd=directory)
            except OSError as error:
                raise self._odd(error, f"{part}/{name}") from error
        if not stat.S_ISREG(os.fstat(descriptor).st_mode):
            os.close(descriptor)
            raise OSError(errno.EINVAL, "it is no plain file", str(self.path / part / name))
        return descriptor

    def create(self, part: str, name: str, mode: int) -> int:
        """Make a new file of exactly this mode, open for writing."""
        with self.open(part) as directory:
            flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
            descriptor = os.open(name, flags, mode, dir_fd=directory)
        os.fchmod(descriptor, mode)
        return descriptor

    def rename(self, part: str, old: str, new: str) -> None:
        """Give a file another name; what had that is replaced."""
        with self.open(part) as directory:
            os.replace(old, new, src_dir_fd=directory, dst_dir_fd=directory)

    def link(self, part: str, old: str, new: str) -> None:
        """Give a file a second name. FileExistsError for one that is taken."""
        with self.open(part) as directory:
            os.link(old, new, src_dir_fd=directory, dst_dir_fd=directory, follow_symlinks=False)

    def remove(self, part: str, name: str) -> None:
        """Remove a file, if it is there."""
        with self.open(part) as directory:
            directories.forget(directory, os.fsencode(name))

    def sync(self, part: str) -> None:
        """Make names in a part durable."""
        with self.open(part) as directory:
            directories.sync_directory(directory)

    def make(self, part: str, mode: int) -> None:
        """Make a part that is missing, of exactly this mode."""
        with self.open(ROOT) as root:
            try:
                os.mkdir(part, dir_fd=root)
            except FileExistsError:
                return
            made = directories.open_below(root, os.fsencode(part), _LIST)
            try:
                os.fchmod(made, mode)
            finally:
                os.close(made)
            directories.sync_directory(root)


def make_below(root: Path, path: Path) -> None:
    """Make a directory and what is missing between it and `root`, without following a link. Raises OSError."""
    directory = directories.open_to_list(os.fsencode(root))
    try:
        for part in path.relative_to(root).parts:
            with suppress(FileExistsError):
                os.mkdir(part, dir_fd=directory)
            below = directories.open_below(directory, os.fsencode(part), _LIST)
            os.close(directory)
            directory = below
    finally:
        os.close(directory)
