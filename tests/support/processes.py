"""The processes of this machine that a test means, and no other test's: many tests run beside each other.

Only here does a test look through all processes; each function takes what is the test's own: a process, a port, a
directory.
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

_PROC = Path("/proc")


def runs(pid: int) -> bool:
    """Whether it is there and has not ended: the end of an orphan may never be taken note of."""
    try:
        return _fields(pid)[0] not in "ZX"
    except OSError:
        return False


def catches(pid: int, number: int) -> bool:
    """Whether a signal would be heard by it, where it would end it else."""
    caught = (_PROC / str(pid) / "status").read_text().partition("SigCgt:")[2].split()[0]
    return bool(int(caught, 16) >> (number - 1) & 1)


def children(pid: int) -> list[int]:
    """The processes that one has started and that are there."""
    found = []
    for each in _all():
        with suppress(OSError):
            if _parent(each) == pid:
                found.append(each)
    return found


def descendants(pid: int) -> list[int]:
    """The processes below one, the nearest first."""
    found = []
    for child in children(pid):
        found += [child, *descendants(child)]
    return found


def login_processes(pid: int) -> list[int]:
    """The further logins that a run has in processes of their own."""
    found = []
    for child in children(pid):
        with suppress(OSError):
            if b"yatagan.nodes.login_process" in _words(child):
                found.append(child)
    return found


def file_servers(root: Path) -> list[int]:
    """The file servers that have something open below a directory."""
    found = []
    for pid in _all():
        with suppress(OSError):
            if b"sftp-server" in _words(pid)[0] and any(name.startswith(f"{root}/") for name in _open_names(pid)):
                found.append(pid)
    return found


def server_of(config: Path) -> int:
    """The server that was started with this file."""
    for pid in _all():
        with suppress(OSError):
            if os.fsencode(config) in b" ".join(_words(pid)):  # it joins them
                return pid
    raise AssertionError(f"no server has {config}")


def login_server(pid: int) -> int:
    """The process of an OpenSSH server whose login this one serves."""
    while not _words(pid)[0].startswith(b"sshd:"):
        pid = _parent(pid)
    return pid


def served_by(port: int, name: str) -> list[int]:
    """The processes of this name that logins to the server on a port of this machine run."""
    found = []
    for pid in _all():
        with suppress(OSError):
            variables = (_PROC / str(pid) / "environ").read_bytes().split(b"\0")
            served = any(each.startswith(b"SSH_CONNECTION=") and each.endswith(b" %d" % port) for each in variables)
            if served and name.encode() in b"\0".join(_words(pid)):
                found.append(pid)
    return found


def times_open(path: Path) -> int:
    """How often this very file or directory is open, by whichever process."""
    found = 0
    for pid in _all():
        with suppress(OSError):
            found += _open_names(pid).count(str(path))
    return found


def told_to_others() -> Iterator[Path]:
    """What every process shows: its words and its environment."""
    for pid in _all():
        yield from (_PROC / str(pid) / "cmdline", _PROC / str(pid) / "environ")


def _all() -> list[int]:
    return [int(name) for name in os.listdir(_PROC) if name.isdigit()]


def _fields(pid: int) -> list[str]:
    """Its state, its parent, and so on (proc(5), `stat`)."""
    return (_PROC / str(pid) / "stat").read_text().rpartition(")")[2].split()


def _parent(pid: int) -> int:
    return int(_fields(pid)[1])


def _words(pid: int) -> list[bytes]:
    return (_PROC / str(pid) / "cmdline").read_bytes().split(b"\0")


def _open_names(pid: int) -> list[str]:
    found = []
    for each in os.listdir(_PROC / str(pid) / "fd"):
        with suppress(OSError):
            found.append(os.readlink(_PROC / str(pid) / "fd" / each))
    return found
