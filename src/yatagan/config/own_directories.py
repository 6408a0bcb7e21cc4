"""The directories that are ours alone: configuration, state, and what lives as long as a login.

They are private whatever the umask says: who can write to them has commands of theirs run as us, by the settings. What
this account owns is made private when it is found otherwise. What another account owns, or could put something else in
the place of, is refused.
"""

from __future__ import annotations

import os
import stat
from pathlib import Path

from yatagan.config.guarded_files import account_name, check_believed, is_trusted, others_may_write
from yatagan.config.home import Home
from yatagan.errors import NotBelieved

_PRIVATE = 0o700
_OPEN = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC


def secure(home: Home) -> list[Path]:
    """Make sure that our directories are ours alone. Returns those that have just been made private.

    Raises NotBelieved for what another account owns or could replace, OSError for a disk that fails.
    """
    changed = []
    for directory in dict.fromkeys((home.config, home.state)):
        if _make_tight(directory):
            changed.append(directory)
        check_believed(directory)
    if _make_tight(home.runtime):  # whether it may be used, `keeper/endpoint.py` says
        changed.append(home.runtime)
    changed += [file for file in _files_of(home.config) if _is_loose(file) and _tighten(os.open(file, _OPEN))]
    return changed


def _make_tight(directory: Path) -> bool:
    """Make a directory private, with all below it. Returns whether it was not. Raises NotBelieved, OSError."""
    try:
        descriptor = os.open(directory, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    except (FileNotFoundError, NotADirectoryError, PermissionError):
        return False  # what is wrong with it, `check_believed` says
    try:
        found = os.fstat(descriptor)
        if found.st_uid != os.geteuid() or not found.st_mode & 0o077:
            return False
        os.fchmod(descriptor, _PRIVATE)
        try:
            _tighten_below(directory, descriptor)
        except NotBelieved:
            os.fchmod(descriptor, stat.S_IMODE(found.st_mode))  # so that it is refused again next time
            raise
    finally:
        os.close(descriptor)
    return True


def _tighten_below(directory: Path, descriptor: int) -> None:
    """Make all that is in a directory private. Raises NotBelieved for what another account has put there."""
    for above, directories, files, opened in os.fwalk(".", dir_fd=descriptor):
        for name in (*directories, *files):
            found = os.stat(name, dir_fd=opened, follow_symlinks=False)
            if not is_trusted(found.st_uid):
                place = os.path.normpath(directory / above / name)
                raise NotBelieved(
                    place,
                    f"was put there by another account, {account_name(found.st_uid)}",
                    "look at it, then remove it or move it away",
                )
            if found.st_mode & 0o077 and (stat.S_ISREG(found.st_mode) or stat.S_ISDIR(found.st_mode)):
                _tighten(os.open(name, _OPEN, dir_fd=opened))


def _tighten(descriptor: int) -> bool:
    """Take all rights of others to an open file, which is closed. Returns whether that could be done."""
    try:
        os.fchmod(descriptor, stat.S_IMODE(os.fstat(descriptor).st_mode) & _PRIVATE)
    except OSError:
        return False
    finally:
        os.close(descriptor)
    return True


def _files_of(directory: Path) -> list[Path]:
    """The files that are kept in the configuration directory, also those that links of ours lead to."""
    try:
        with os.scandir(directory) as entries:
            return [Path(entry.path).resolve() for entry in entries if not entry.is_dir()]
    except OSError:
        return []


def _is_loose(file: Path) -> bool:
    """Whether a file of ours can be changed by others."""
    try:
        found = file.lstat()
    except OSError:
        return False
    return stat.S_ISREG(found.st_mode) and found.st_uid == os.geteuid() and bool(others_may_write(found))
