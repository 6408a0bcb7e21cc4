"""Locks that end with the process that holds them, and name it.

The kernel's lock on the file is what counts (flock). What is written in the file tells others who holds it: host, boot,
process, and when that was started, so that a number that was given out again is not taken for it. On a disk that
several machines share the kernel's lock may be seen by one of them only. So a name of another host in the file is as
good as a lock, until a person says otherwise.
"""

from __future__ import annotations

import errno
import fcntl
import json
import os
import time
from dataclasses import asdict, dataclass
from pathlib import Path

from yatagan.config.disks import on_network
from yatagan.config.machine import boot_id, machine_id, machine_name
from yatagan.errors import NoLocks

#: What systems say of a disk that has no locks.
_NO_LOCKS = frozenset({errno.ENOLCK, errno.ENOSYS, errno.EOPNOTSUPP, errno.ENOTSUP})

#: No look at a lock takes longer.
_LOOK_SECONDS = 0.2


@dataclass(frozen=True, slots=True)
class Holder:
    """A process of some machine.

    `host` is what people call it; `machine` is its id, by which it is known (`config/machine.py`); "" where it has
    none. `boot` names the time between two starts of it; `started` is in ticks after that.
    """

    host: str
    boot: str
    pid: int
    started: int
    machine: str = ""

    @classmethod
    def this_process(cls) -> Holder:
        """The process that asks."""
        pid = os.getpid()
        return cls(machine_name(), boot_id(), pid, _started(pid), machine_id())

    @property
    def is_known(self) -> bool:
        """Whether it has left its name yet."""
        return self.pid > 0

    @property
    def is_here(self) -> bool:
        """Whether it is, or was, a process of this machine for certain.

        The same boot is the same machine, whatever it is called. Machines may be copies with one id; with one name as
        well they are taken for one.
        """
        if self.boot and self.boot == boot_id():
            return True
        return self.host == machine_name() and self.machine in ("", machine_id())

    def is_of(self, directory: Path) -> bool:
        """Whether it is, or was, a process of this machine, which has a directory on its own disk or shares it.

        What is on no network was written by this machine, though it had another name then.
        """
        return self.is_here or (self.machine != "" and self.machine == machine_id() and not on_network(directory))

    @property
    def is_alive(self) -> bool:
        """Whether it is a process of this machine that runs now."""
        if self.boot != boot_id():
            return False
        try:
            os.kill(self.pid, 0)
        except ProcessLookupError:
            return False
        except PermissionError:
            pass  # it is there, and another user's
        return self.started == _started(self.pid) and _state(self.pid) != "Z"

    @property
    def is_stopped(self) -> bool:
        """Whether it is suspended (SIGSTOP, Ctrl-Z)."""
        return self.is_alive and _state(self.pid) in ("T", "t")

    def __str__(self) -> str:
        return f"process {self.pid} on {self.host}"


class LockTaken(Exception):
    """A lock is held. `holder`: None if it says nothing of that. `elsewhere`: only another host's name stands in it."""

    def __init__(self, holder: Holder | None, *, elsewhere: bool) -> None:
        super().__init__(str(holder))
        self.holder = holder
        self.elsewhere = elsewhere


class Lock:
    """A lock in a file, which stays when it is let go."""

    def __init__(self, file: Path) -> None:
        self.file = file
        self._descriptor: int | None = None

    def take(self, *, over: bool = False) -> None:
        """Take it. Raises LockTaken, NoLocks, OSError.

        `over`: also where the name of another host stands in it. A process that has just taken it has not
        written its name yet, and a look holds it for a moment; so where no living process is named, it retries briefly.
        """
        until = time.monotonic() + _LOOK_SECONDS
        while True:
            try:
                return self._take(over=over)
            except LockTaken as taken:
                alive = taken.holder is not None and taken.holder.is_alive
                if taken.elsewhere or alive or time.monotonic() > until:
                    raise
            time.sleep(_LOOK_SECONDS / 50)

    def _take(self, *, over: bool) -> None:
        descriptor = os.open(self.file, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        try:
            self._lock(descriptor, fcntl.LOCK_EX)
            holder = _read(descriptor)
            if holder is not None and not holder.is_of(self.file.parent) and not over:
                raise LockTaken(holder, elsewhere=True)
            os.ftruncate(descriptor, 0)
            os.pwrite(descriptor, json.dumps(asdict(Holder.this_process())).encode(), 0)
        except BaseException:
            os.close(descriptor)
            raise
        self._descriptor = descriptor

    def release(self) -> None:
        """Let it go, if it is held."""
        if self._descriptor is not None:
            os.ftruncate(self._descriptor, 0)
            os.close(self._descriptor)
            self._descriptor = None

    def is_free(self) -> bool:
        """Whether it is free at a glance: there is no name in it."""
        try:
            return os.stat(self.file).st_size == 0
        except FileNotFoundError:
            return True
        except OSError:
            return False

    def is_held(self) -> bool:
        """Whether a process of this machine holds it. Raises NoLocks."""
        try:
            descriptor = os.open(self.file, os.O_RDWR | os.O_CLOEXEC)
        except FileNotFoundError:
            return False
        except OSError:  # as far as can be known
            return True
        try:
            self._lock(descriptor, fcntl.LOCK_SH)
        except LockTaken:
            return True
        finally:
            os.close(descriptor)
        return False

    def holder(self) -> Holder | None:
        """Who took it last and has not let it go."""
        try:
            descriptor = os.open(self.file, os.O_RDONLY | os.O_CLOEXEC)
        except OSError:
            return None
        try:
            return _read(descriptor)
        finally:
            os.close(descriptor)

    def _lock(self, descriptor: int, how: int) -> None:
        try:
            fcntl.flock(descriptor, how | fcntl.LOCK_NB)
        except BlockingIOError:
            raise LockTaken(_read(descriptor), elsewhere=False) from None
        except OSError as error:
            if error.errno in _NO_LOCKS:
                raise NoLocks(str(self.file.parent)) from error
            raise


def _read(descriptor: int) -> Holder | None:
    try:
        found = json.loads(os.pread(descriptor, 4096, 0) or b"{}")
        numbers = int(found["pid"]), int(found.get("started", 0))
        return Holder(str(found["host"]), str(found.get("boot", "")), *numbers, str(found.get("machine", "")))
    except (ValueError, TypeError, KeyError):
        return None


def _started(pid: int) -> int:
    """When a process of this machine was started, in ticks after the machine; 0 where that cannot be known."""
    fields = _status(pid)
    return int(fields[19]) if len(fields) > 19 else 0


def _state(pid: int) -> str:
    fields = _status(pid)
    return fields[0] if fields else ""


def _status(pid: int) -> list[str]:
    """The fields of a process's status after its name, which may hold anything (proc(5))."""
    try:
        return Path(f"/proc/{pid}/stat").read_text(errors="replace").rpartition(")")[2].split()
    except OSError:
        return []
