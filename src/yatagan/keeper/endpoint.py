"""Where a node's keeper and the commands that use it meet: a socket in a directory that is its user's alone."""

from __future__ import annotations

import contextlib
import fcntl
import hashlib
import json
import os
import socket
import stat
import struct
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from yatagan.config.guarded_files import check_believed, parse_json, read_small
from yatagan.config.home import Home
from yatagan.config.own_files import make_private, replace_file
from yatagan.errors import KeeperFault, KeeperRefuses, NotBelieved

#: The longest path of a socket, in bytes: 107 on Linux, a little less elsewhere.
_LONGEST = 103


@dataclass(frozen=True, slots=True)
class KeeperEnd:
    """How the last keeper of a node ended by itself. `when` in seconds since the epoch."""

    when: float
    why: str


class Endpoint:
    """The place of one node's keeper on this machine."""

    def __init__(self, home: Home, node: str) -> None:
        # The same name may stand for another node in another home of the same user.
        tag = hashlib.sha256(os.fsencode(home.nodes_file.resolve())).hexdigest()[:8]
        name = f"{node}-{tag}.sock"
        runtime = home.runtime
        if len(os.fsencode(runtime / name)) > _LONGEST:
            runtime = Path("/tmp", f"yatagan-{os.getuid()}")
        self.node = node
        self.socket = runtime / name
        self._lock = self.socket.with_suffix(".lock")
        self._held: int | None = None
        self._note = self.socket.with_suffix(".ended")

    def prepare(self) -> None:
        """Make the directory, or make sure that it is ours alone. Raises KeeperRefuses."""
        directory = self.socket.parent
        try:
            make_private(directory)
            check_believed(directory)
        except OSError as error:
            raise KeeperRefuses(KeeperFault.NO_DIRECTORY, str(directory), error.strerror or "") from error
        if not _is_private(directory):
            raise KeeperRefuses(KeeperFault.OPEN_DIRECTORY, str(directory))

    def take(self) -> None:
        """Become the one keeper of the node, until we leave or this process ends. Raises KeeperRefuses."""
        self.prepare()
        while not self._owns_lock():
            self._let_go()  # of a file that another keeper has removed meanwhile
            descriptor = os.open(self._lock, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW, 0o600)
            try:
                fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except OSError:
                os.close(descriptor)
                raise KeeperRefuses(KeeperFault.OPENED_TWICE, self.node) from None
            self._held = descriptor
        self.socket.unlink(missing_ok=True)
        self._note.unlink(missing_ok=True)

    def _owns_lock(self) -> bool:
        try:
            return self._held is not None and os.path.samestat(os.stat(self._lock), os.fstat(self._held))
        except OSError:
            return False

    def is_found(self) -> bool:
        """Whether commands can still find us here."""
        return self._owns_lock() and self.socket.is_socket()

    def leave(self, ending: KeeperEnd | None) -> None:
        """Let others open the node, and leave word of how we ended. What is not ours any more is not touched."""
        if self._owns_lock():
            with contextlib.suppress(OSError):
                self.socket.unlink(missing_ok=True)
                if ending is not None:
                    word = json.dumps({"when": ending.when, "why": ending.why})
                    replace_file(self._note, word.encode(), durable=False)
                self._lock.unlink()
        self._let_go()

    def _let_go(self) -> None:
        if self._held is not None:
            os.close(self._held)
            self._held = None

    def connect(self) -> socket.socket | None:
        """A connection to the keeper; None where none of ours is running."""
        if not os.path.lexists(self.socket) or not _is_private(self.socket.parent):
            return None
        near = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
        try:
            near.connect(os.fspath(self.socket))
        except OSError:  # it was killed, or runs on another machine that shares the directory
            near.close()
            return None
        if not is_ours(near):
            near.close()
            return None
        near.setblocking(False)
        return near

    def ending(self) -> KeeperEnd | None:
        """How the last one ended, if it was not closed by hand."""
        try:
            return KeeperEnd(**parse_json(read_small(self._note, ours=True)))
        except (OSError, ValueError, TypeError, NotBelieved):  # then it is not known
            return None


def _is_private(directory: Path) -> bool:
    """Whether a directory is our user's alone, and no link."""
    try:
        found = directory.lstat()
    except OSError:
        return False
    return stat.S_ISDIR(found.st_mode) and found.st_uid == os.getuid() and not found.st_mode & 0o077


def is_ours(connection: socket.socket) -> bool:
    """Whether the process at the other end is the same user's. Where that cannot be asked, the directory must do."""
    _, user = who_is(connection)
    return user in (None, os.getuid())


def who_is(connection: socket.socket) -> tuple[int | None, int | None]:
    """The process at the other end and its user, by number; None where that cannot be asked."""
    option: Any = getattr(socket, "SO_PEERCRED", None)
    if option is None:
        return None, None
    layout = struct.Struct("3i")
    process, user, _ = layout.unpack(connection.getsockopt(socket.SOL_SOCKET, option, layout.size))
    return process, user
