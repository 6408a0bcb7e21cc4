"""Reading small files that another account may have made, replaced or filled: one reader for all of them.

A file is opened without waiting, so that a FIFO hangs nobody, and judged by its open descriptor, so that nothing can be
swapped between the look and the reading. It has at most so many bytes, and what is parsed from it is nested at most so
deep. A link on the way is followed only where this account or root made it: people keep their settings in a repository
of their own, but whoever may write into a directory can plant a link there.

What is ours, such as settings, must besides belong to this account or root, and no other account may be able to change
it or to put something else in its place. Group members count as others, unless the group is this account's alone.
"""

from __future__ import annotations

import errno
import grp
import json
import os
import pwd
import re
import stat
import tomllib
from collections import deque
from functools import cache
from typing import Any

from yatagan.errors import NotBelieved

#: Bytes of a file that a person or this program writes by hand, at most.
LARGEST = 1 << 20
#: How deep tables and lists may be nested in such a file, and how many parts a dotted key may have.
DEEPEST = 64
#: Links on the way to one file, as the system allows.
_MOST_LINKS = 40
_PASS = getattr(os, "O_PATH", os.O_RDONLY) | os.O_NOFOLLOW | os.O_CLOEXEC
_KINDS = (
    (stat.S_ISDIR, "a directory"),
    (stat.S_ISFIFO, "a FIFO"),
    (stat.S_ISSOCK, "a socket"),
    (stat.S_ISLNK, "a link"),
)


def read_small(path: str | os.PathLike[str], *, ours: bool, largest: int = LARGEST) -> bytes:
    """The contents of a small file at an absolute path. `ours`: it must be safe from other accounts.

    Raises NotBelieved for what is not read, FileNotFoundError where nothing is there, OSError for a disk that fails.
    """
    descriptor = open_small(path, ours=ours)
    try:
        return read_within(descriptor, os.fspath(path), largest)
    finally:
        os.close(descriptor)


def open_small(path: str | os.PathLike[str], *, ours: bool) -> int:
    """As `read_small`: the descriptor of the file, opened for reading, of a regular file for certain."""
    name = os.fspath(path)
    directory, last = _walk(name, ours=ours)
    try:
        descriptor = os.open(last, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC, dir_fd=directory)
    except OSError as error:
        if error.errno == errno.ELOOP:  # swapped since the look
            raise NotBelieved(name, "is a link that was put there just now") from error
        if error.errno in (errno.ENXIO, errno.ENODEV):
            raise NotBelieved(name, f"is {kind_of(os.stat(last, dir_fd=directory, follow_symlinks=False))}") from error
        raise
    finally:
        os.close(directory)
    try:
        found = os.fstat(descriptor)
        if not stat.S_ISREG(found.st_mode):
            raise NotBelieved(name, f"is {kind_of(found)}, not a file")
        if ours:
            _refuse_others(name, found)
    except BaseException:
        os.close(descriptor)
        raise
    return descriptor


def open_directory(path: str | os.PathLike[str]) -> int:
    """A descriptor of a directory that can be listed, which links of this account or root may lead to.

    Raises NotBelieved for a link of another account, OSError.
    """
    directory, last = _walk(os.fspath(path), ours=False)
    try:
        flags = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
        return os.open(last, flags, dir_fd=directory)
    finally:
        os.close(directory)


def read_within(descriptor: int, name: str, largest: int = LARGEST) -> bytes:
    """All bytes of an open file or pipe, if they are not too many. Raises NotBelieved, OSError."""
    found, left = list[bytes](), largest + 1
    while left and (block := os.read(descriptor, min(left, 1 << 20))):
        found.append(block)
        left -= len(block)
    if not left:
        raise NotBelieved(name, f"has more than {largest:,} bytes, which is too much for what it is")
    return b"".join(found)


def check_believed(directory: str | os.PathLike[str]) -> None:
    """Refuse a directory of ours that another account could change or replace. One that is missing is fine so far.

    Raises NotBelieved, OSError.
    """
    name = os.fspath(directory)
    try:
        above, last = _walk(name, ours=True)
    except FileNotFoundError:
        return
    try:
        found = os.stat(last, dir_fd=above, follow_symlinks=False)
    except FileNotFoundError:
        return
    finally:
        os.close(above)
    if not stat.S_ISDIR(found.st_mode):
        raise NotBelieved(name, f"is {kind_of(found)}, not a directory", f"rename it: mv {name} {name}.old")
    _refuse_others(name, found)


def follow_links(path: bytes) -> tuple[bytes, bytes | None]:
    """Where an absolute path leads when links are followed, and the first link on the way that is another account's.

    Only links in directories where others can make some count. What is missing stays as it is. Raises OSError.
    """
    names, real, foreign, links = deque(path.split(b"/")), b"/", None, 0
    while names:
        name = names.popleft()
        if name in (b"", b"."):
            continue
        if name == b"..":
            real = os.path.dirname(real)
            continue
        here = os.path.join(real, name)
        try:
            found = os.lstat(here)
            target = os.readlink(here) if stat.S_ISLNK(found.st_mode) else None
        except OSError:
            target = None
        if target is None:
            real = here
            continue
        links += 1
        if links > _MOST_LINKS:
            raise OSError(errno.ELOOP, os.strerror(errno.ELOOP), path)
        if foreign is None and not is_trusted(found.st_uid) and _is_open_to_others(real):
            foreign = here
        names.extendleft(reversed(target.split(b"/")))
        real = b"/" if target.startswith(b"/") else real
    return real, foreign


def _is_open_to_others(directory: bytes) -> bool:
    """Whether another account can put something into a directory."""
    found = os.stat(directory)
    return not is_trusted(found.st_uid) or bool(others_may_write(found))


def parse_toml(data: bytes) -> dict[str, Any]:
    """The tables of a TOML file. Raises ValueError for everything that is none, also for what is nested too deep."""
    text = data.decode("utf-8")
    _refuse_depth(text)
    try:
        return tomllib.loads(text)
    except RecursionError:
        raise ValueError("it is nested too deep") from None


def parse_json(data: bytes | str) -> Any:
    """What JSON says. Raises ValueError for everything that is none, also for what is nested too deep."""
    try:
        return json.loads(data)
    except RecursionError:
        raise ValueError("it is nested too deep") from None


def is_trusted(account: int) -> bool:
    """Whether what an account does needs no doubt: it is this one, or root."""
    return account in _trusted(os.geteuid())


def others_may_write(found: os.stat_result) -> str:
    """Who besides its owner may write to something, as `everyone` or `group fenflux`; "" for nobody."""
    if found.st_mode & stat.S_IWOTH:
        return "everyone"
    if found.st_mode & stat.S_IWGRP and not _is_private_group(found.st_gid, os.geteuid()):
        return f"group {_group(found.st_gid)}"
    return ""


def account_name(number: int) -> str:
    """The name of an account, or `number 1001` where it has none."""
    try:
        return pwd.getpwuid(number).pw_name
    except KeyError:
        return f"number {number}"


def kind_of(found: os.stat_result) -> str:
    """What something is that is no regular file, as `a FIFO`."""
    return next((words for is_kind, words in _KINDS if is_kind(found.st_mode)), "a device")


def _walk(name: str, *, ours: bool) -> tuple[int, bytes]:
    """The open directory that holds a file, and its last name there, which is no link. Raises NotBelieved, OSError."""
    if not os.path.isabs(name):
        raise OSError(errno.EINVAL, "not an absolute path", name)
    names, links = deque(os.fsencode(name).split(b"/")), 0
    directory, last = os.open(b"/", _PASS | os.O_DIRECTORY), b"."
    try:
        while names:
            if (part := names.popleft()) in (b"", b"."):
                continue
            found, target = _look(directory, part)
            if target is not None:
                links += 1
                if links > _MOST_LINKS:
                    raise OSError(errno.ELOOP, os.strerror(errno.ELOOP), name)
                if not is_trusted(found.st_uid):
                    raise NotBelieved(
                        name,
                        f"leads through a link that another account made, {account_name(found.st_uid)}",
                        f"look where it leads: readlink -f {_quoted(name)}",
                    )
                names.extendleft(reversed(target.split(b"/")))
                if target.startswith(b"/"):
                    directory = _exchange(directory, os.open(b"/", _PASS | os.O_DIRECTORY))
                continue
            if not any(each not in (b"", b".") for each in names):
                last = part
                break
            directory = _exchange(directory, os.open(part, _PASS | os.O_DIRECTORY, dir_fd=directory))
            if ours and part != b"..":
                _refuse_others(_path_of(directory, name), os.fstat(directory))
    except BaseException:
        os.close(directory)
        raise
    return directory, last


def _look(directory: int, part: bytes) -> tuple[os.stat_result, bytes | None]:
    """What has a name, and where it leads if it is a link: both of the same one, where the system has a way."""
    if not hasattr(os, "O_PATH"):
        found = os.stat(part, dir_fd=directory, follow_symlinks=False)
        return found, os.readlink(part, dir_fd=directory) if stat.S_ISLNK(found.st_mode) else None
    descriptor = os.open(part, _PASS, dir_fd=directory)
    try:
        found = os.fstat(descriptor)
        return found, os.readlink(b"", dir_fd=descriptor) if stat.S_ISLNK(found.st_mode) else None
    finally:
        os.close(descriptor)


def _exchange(old: int, new: int) -> int:
    os.close(old)
    return new


def _path_of(directory: int, name: str) -> str:
    """The path of an open directory, as far as the system tells it; else the name that leads through it."""
    try:
        return os.readlink(f"/proc/self/fd/{directory}")
    except OSError:
        return name


def _refuse_others(name: str, found: os.stat_result) -> None:
    """Raise NotBelieved for a file or directory that another account owns or may change.

    In a directory with the sticky bit others may only add names: what is looked up there is judged by itself.
    """
    if not is_trusted(found.st_uid):
        raise NotBelieved(
            name, f"belongs to another account, {account_name(found.st_uid)}", "see that it is yours, or root's"
        )
    who = others_may_write(found)
    if who and not (stat.S_ISDIR(found.st_mode) and found.st_mode & stat.S_ISVTX):
        raise NotBelieved(name, f"can be changed by {who}", f"make it yours alone: chmod go-w {_quoted(name)}")


def _quoted(name: str) -> str:
    import shlex

    return shlex.quote(name)


@cache
def _trusted(own: int) -> frozenset[int]:
    # In a container of a user's own, root's files appear as another account's: that which has the root directory.
    return frozenset({own, 0, os.stat("/").st_uid})


@cache
def _is_private_group(number: int, own: int) -> bool:
    """Whether a group is that account's alone, as many systems make one for each account."""
    try:
        group, account = grp.getgrgid(number), pwd.getpwuid(own)
    except KeyError:
        return False
    return account.pw_gid == number and group.gr_name == account.pw_name and set(group.gr_mem) <= {account.pw_name}


def _group(number: int) -> str:
    try:
        return grp.getgrgid(number).gr_name
    except KeyError:
        return f"number {number}"


#: The pieces of a TOML text that matter for depth. No alternative can be read in two ways, so nothing backtracks.
_PIECE = re.compile(
    r'''"""(?:[^\\"]|\\.|"(?!""))*+(?:"""|\Z)|\'\'\'(?:[^']|'(?!''))*+(?:\'\'\'|\Z)'''
    r"""|"(?:[^\\"\n]|\\.)*+"?|'[^'\n]*+'?|\#[^\n]*+|[\[{]|[\]}]|[.]|[=,\n]|[^\[\]{}.=,\n"'\#]++""",
    re.DOTALL,
)


def _refuse_depth(text: str) -> None:
    """Raise ValueError where a parser would need more than a little time or stack."""
    depth = dots = 0
    for piece in _PIECE.finditer(text):
        match piece[0][0]:
            case "[" | "{":
                depth, dots = depth + 1, 0
            case "]" | "}":
                depth = max(0, depth - 1)
            case ".":
                dots += 1
            case "=" | "," | "\n":
                dots = 0
        if depth > DEEPEST or dots > DEEPEST:
            raise ValueError("it is nested too deep")
