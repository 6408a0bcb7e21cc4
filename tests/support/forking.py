"""Runs the program many times without importing its modules each time: python forking.py SOCKET-FD LISTENING-FD

It imports all that the program may import, which is most of the second that a run needs before it does anything, and
logs in once, so that the cryptography library has found itself. Then it forks for whoever asks:

- a server of runs, for the tests; its socket comes along. A run is `[arguments, directory, environment, account,
  terminal]` in JSON, with descriptors for standard input, output and error. The account is null, or its number, its
  groups, the first of them its own, and its umask; `terminal`: the run leads a session at that terminal. The answer is
  the process's number, and when that has ended, its status as `waitpid` gives it.
- a `yatagan` in a line of a shell (see `shell_line.py`), which asks at the socket that listens in the same way. Which
  of its standard streams are closed it says in the environment: CLOSED_STREAMS.
- for such a run, and for what it starts, a process that it would start an interpreter for: a worker, a keeper, a run
  of a routine. These are nobody's children as soon as their command has ended, as they would be without this.
"""

from __future__ import annotations

import asyncio
import atexit
import contextlib
import ctypes
import fcntl
import functools
import gc
import importlib
import itertools
import json
import os
import pkgutil
import random
import runpy
import select
import signal
import socket
import struct
import subprocess
import sys
import termios
import threading
import time
from collections.abc import Sequence
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import asyncssh
from asyncssh import SSHServer

import dying
import forked_helper
import yatagan
import yatagan.background.routine_work
import yatagan.background.starting
import yatagan.keeper.spawn
import yatagan.practice.servers

_LONGEST = 1 << 20
#: What is imported within functions, ours and those of libraries; it may also lie where another account cannot read.
_NEEDED = (
    *(f"encodings.{name}" for name in ("ascii", "idna", "latin_1", "utf_16_be", "utf_8", "unicode_escape")),
    *(
        "stringprep",
        "getpass",
        "grp",
        "pwd",
        "tempfile",
        "difflib",
        "traceback",
        "asyncio",
        "concurrent.futures.thread",
        "importlib.readers",
        "platformdirs.unix",
        "tomlkit",
        "watchfiles",
        "blake3",
    ),
)


#: What a report draws with; imported once it is asked for.
_FOR_REPORTS = ("matplotlib.backends.backend_svg", "matplotlib.dates", "matplotlib.figure", "jinja2")


class AnyKey(SSHServer):
    """Lets everybody in."""

    def public_key_auth_supported(self) -> bool:
        return True

    def validate_public_key(self, username: str, key: asyncssh.SSHKey) -> bool:
        return True


async def log_in_once() -> None:
    """What is found out once by the libraries below takes a third of a short run."""
    key = asyncssh.import_private_key(asyncssh.generate_private_key("ssh-ed25519").export_private_key())
    with socket.create_server(("127.0.0.1", 0)) as listening:
        near = socket.create_connection(listening.getsockname())
        far, _ = listening.accept()
    serving = asyncio.ensure_future(asyncssh.run_server(far, server_factory=AnyKey, server_host_keys=[key]))
    asking = await asyncssh.run_client(near, known_hosts=None, username="fenflux", client_keys=[key])
    asking.close()
    await asking.wait_closed()
    (await serving).close()
    await serving.result().wait_closed()


def begin(control: socket.socket, shells: socket.socket) -> str:
    """Serve as long as the tests do. Returns in a child, which is to run the module that is returned."""
    for module in pkgutil.walk_packages(yatagan.__path__, "yatagan."):
        if not module.name.endswith("__main__"):
            importlib.import_module(module.name)
    for needed in _NEEDED:
        importlib.import_module(needed)
    asyncio.run(log_in_once())
    forked_helper.compiled()
    gc.freeze()
    ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)
    while True:
        for ready in select.select([control, ours, shells], [], [])[0]:
            if ready is shells:
                asking, _ = shells.accept()
                if not os.fork():
                    signal.signal(signal.SIGCHLD, signal.SIG_DFL)
                    for own in (control, ours, shells):
                        own.close()
                    serve(asking, theirs)
                    return "yatagan"
                asking.close()
                continue
            data, descriptors, _, _ = socket.recv_fds(ready, _LONGEST, 20)
            if not data:
                os._exit(0)
            if not os.fork():
                signal.signal(signal.SIGCHLD, signal.SIG_DFL)
                for own in (control, ours, shells):
                    own.close()
                if ready is control:
                    serve(socket.socket(fileno=descriptors[0]), theirs)
                    return "yatagan"
                words, environment, directory, umask, numbers = json.loads(data)
                return become_other(words, environment, directory, umask, numbers, descriptors, theirs)
            for descriptor in descriptors:
                os.close(descriptor)


def serve(connection: socket.socket, others: socket.socket) -> None:
    """Returns in a child, which is to be the program; ends with the connection."""
    while True:
        data, descriptors, _, _ = socket.recv_fds(connection, _LONGEST, 3)
        if not data:
            os._exit(0)
        words, directory, environment, account, terminal = json.loads(data)
        if words[:1] == ["report"] and account is None:
            for name in _FOR_REPORTS:
                importlib.import_module(name)
        child = os.fork()
        if not child:
            connection.close()
            if account is not None:
                belong_to(*account)
            elif "PYTHONPATH" not in environment:  # by which what an interpreter imports is seen
                fork_instead(others)
            become(words, directory, environment, descriptors)
            if terminal:
                os.setsid()
                fcntl.ioctl(0, termios.TIOCSCTTY, 0)
            if jump := environment.get("CLOCK_JUMPS"):
                set_clock(*map(int, jump.split(",")))
            if "NO_RIGHTS" in environment:
                give_up_rights()
            if moment := environment.get("DIES_AT"):
                dying.die_at(moment)
            return
        for descriptor in descriptors:
            os.close(descriptor)
        connection.send(str(child).encode())
        _, status = os.waitpid(child, 0)
        connection.send(str(status).encode())


class Other:
    """A process that was forked in place of one with an interpreter of its own. `told`: its number, then its status."""

    def __init__(self, told: int, stderr: asyncio.StreamReader | None) -> None:
        self._told = os.fdopen(told, "rb", buffering=0)
        self._stderr = stderr
        self.pid = int(self._told.readline())
        self.returncode: int | None = None

    async def wait(self) -> int:
        """Until it has ended; several may wait."""
        while self.returncode is None:
            if select.select([self._told], [], [], 0)[0]:
                self.returncode = os.waitstatus_to_exitcode(int(self._told.readline() or signal.SIGKILL))
            else:
                await asyncio.sleep(0.02)
        return self.returncode

    async def communicate(self) -> tuple[bytes, bytes]:
        """What it has said, once it has ended."""
        said = await self._stderr.read() if self._stderr is not None else b""
        await self.wait()
        return b"", said


def fork_instead(others: socket.socket) -> None:
    """Have all that the program would start an interpreter for forked, too."""

    def start(
        *words: str,
        stdout: int,
        stderr: int,
        cwd: str = ".",
        pass_fds: tuple[int, ...] = (),
        env: dict[str, str] | None = None,
        **more: Any,
    ) -> tuple[int, int]:
        assert words[0] == sys.executable and more in ({}, {"stdin": subprocess.DEVNULL, "start_new_session": True})
        umask = os.umask(0o077)
        os.umask(umask)
        order = words[words.index("-m") + 1 :], env or dict(os.environ), os.path.abspath(cwd), umask, pass_fds
        told, telling = os.pipe()
        read, write = os.pipe() if stderr == subprocess.PIPE else (-1, os.open(os.devnull, os.O_WRONLY))
        out, err = (write if stream < 0 else stream for stream in (stdout, stderr))
        socket.send_fds(others, [json.dumps(order).encode()], [out, err, *pass_fds, telling])
        os.close(write)
        os.close(telling)
        return told, read

    def start_now(words: Sequence[str], **more: Any) -> Other:
        return Other(start(*words, **more)[0], None)

    async def start_soon(*words: str, **more: Any) -> Other:
        told, read = start(*words, **more)
        if read < 0:
            return Other(told, None)
        said = asyncio.StreamReader()
        reading = functools.partial(asyncio.StreamReaderProtocol, said)
        await asyncio.get_running_loop().connect_read_pipe(reading, os.fdopen(read, "rb"))
        return Other(told, said)

    def run(
        words: Sequence[str], *, check: bool, cwd: str | Path = ".", stdout: int = 1, stderr: int = 2, **more: Any
    ) -> Any:
        sys.stdout.flush()
        other = start_now(words, stdout=stdout, stderr=stderr, cwd=str(cwd), **more)
        return SimpleNamespace(returncode=asyncio.run(other.wait()))

    demo: Any = sys.modules["yatagan.cli.commands.demo"]
    demo.subprocess = SimpleNamespace(run=run)
    workers: Any = yatagan.background.starting
    workers.subprocess = SimpleNamespace(Popen=start_now, DEVNULL=subprocess.DEVNULL)
    for module in (yatagan.keeper.spawn, yatagan.background.routine_work):
        module.__dict__["asyncio"] = Forking(start_soon)
    yatagan.practice.servers.__dict__["asyncio"] = Forking(forked_helper.start)


class Forking:
    """The library, but for the way in which it starts processes."""

    def __init__(self, start: Any) -> None:
        self.create_subprocess_exec = start

    def __getattr__(self, name: str) -> Any:
        return getattr(asyncio, name)


def belong_to(number: int, groups: list[int], umask: int) -> None:
    os.umask(umask)
    os.setgroups(groups)
    os.setgid(groups[0])
    os.setuid(number)


def become(words: list[str], directory: str, environment: dict[str, str], descriptors: list[int]) -> None:
    """Take on the arguments, directory, environment and standard streams of a process."""
    os.chdir(directory)
    os.environ.clear()
    os.environ.update(environment)
    time.tzset()
    random.seed()
    signal.signal(signal.SIGINT, signal.default_int_handler)
    for number, descriptor in enumerate(descriptors):
        os.dup2(descriptor, number)
        os.close(descriptor)
    for number, name in enumerate(("stdin", "stdout", "stderr")):  # as an interpreter finds them
        if str(number) in environment.get("CLOSED_STREAMS", ""):
            os.close(number)
            setattr(sys, name, None)
    sys.argv = ["yatagan", *words]


def give_up_rights() -> None:
    """Root reads what others may read, and no more; nor does what it starts."""
    libc = ctypes.CDLL(None, use_errno=True)
    capbset_drop, version_3 = 24, 0x20080522
    for number in range(64):
        libc.prctl(capbset_drop, number, 0, 0, 0)  # more than there are do no harm
    if libc.capset(struct.pack("Ii", version_3, 0), bytes(24)):
        raise OSError(ctypes.get_errno(), "capset")


def become_other(
    words: list[str],
    environment: dict[str, str],
    directory: str,
    umask: int,
    numbers: list[int],
    descriptors: list[int],
    others: socket.socket,
) -> str:
    """Become what an interpreter would be started for, with descriptors of these numbers. Returns the module to run.

    Who remains tells of its number and of its end.
    """
    out, err, *passed, telling = (fcntl.fcntl(descriptor, fcntl.F_DUPFD_CLOEXEC, 100) for descriptor in descriptors)
    for descriptor in descriptors:
        os.close(descriptor)
    child = os.fork()
    if child:
        for descriptor in (out, err, *passed):
            os.close(descriptor)
        others.close()
        with contextlib.suppress(OSError):  # nobody may want to know
            os.write(telling, b"%d\n" % child)
            os.write(telling, b"%d\n" % os.waitpid(child, 0)[1])
        os._exit(0)
    os.close(telling)
    os.setsid()
    os.umask(umask)
    spare = fcntl.fcntl(others.fileno(), fcntl.F_DUPFD_CLOEXEC, 100)
    others.close()
    fork_instead(socket.socket(fileno=spare))
    for descriptor, number in zip(passed, numbers, strict=True):
        os.dup2(descriptor, number)
        os.close(descriptor)
    module, *words = words
    become(words, directory, environment, [os.open(os.devnull, os.O_RDONLY), out, err])
    return module


def set_clock(after: int, seconds: int) -> None:
    """Have the wall's clock jump when it has been looked at so often."""
    looks, true, true_ns = itertools.count(), time.time, time.time_ns

    def by() -> int:
        return seconds if next(looks) >= after else 0

    time.time, time.time_ns = lambda: true() + by(), lambda: true_ns() + by() * 10**9


def leave(status: object) -> None:
    """End as the interpreter does, but for taking every module apart, which takes longer than most commands."""
    threading._shutdown()  # type: ignore[attr-defined]
    atexit._run_exitfuncs()
    for stream in (sys.stdout, sys.stderr):
        if stream is not None:
            stream.flush()
    os._exit(status if isinstance(status, int) else 0 if status is None else 1)


if __name__ == "__main__":
    module = begin(*(socket.socket(fileno=int(number)) for number in sys.argv[1:]))
    from yatagan.cli.main import main

    try:
        main() if module == "yatagan" else runpy.run_module(module, run_name="__main__")
    except SystemExit as end:
        leave(end.code)
    leave(None)
