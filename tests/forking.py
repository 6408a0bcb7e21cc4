"""Runs the program many times without importing its modules each time: python forking.py SOCKET-FD

It imports all that the program may import, which is most of the second that a run needs before it does anything. Then
it forks for whoever asks:

- a server of runs, for the tests; its socket comes along. A run is `[arguments, directory, environment, account,
  terminal]` in JSON, with descriptors for standard input, output and error. The account is null, or its number, its
  groups, the first of them its own, and its umask; `terminal`: the run leads a session at that terminal. The answer is
  the process's number, and when that has ended, its status as `waitpid` gives it.
- for such a run, the process that it would start an interpreter for: a worker, or a keeper. These are nobody's children
  as soon as their command has ended, as they would be without this.
"""

from __future__ import annotations

import asyncio
import atexit
import fcntl
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
import subprocess
import sys
import termios
import threading
import time
from collections.abc import Sequence
from types import SimpleNamespace
from typing import Any

import yatagan
import yatagan.background.starting
import yatagan.keeper.spawn

_LONGEST = 1 << 20
#: Modules of the standard library that are imported within functions, also its own.
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
    ),
)


#: What a report draws with; imported once it is asked for.
_FOR_REPORTS = ("matplotlib.backends.backend_svg", "matplotlib.dates", "matplotlib.figure", "jinja2")


def begin(control: socket.socket) -> str:
    """Serve as long as the tests do. Returns in a child, which is to run the module that is returned."""
    for module in pkgutil.walk_packages(yatagan.__path__, "yatagan."):
        if not module.name.endswith("__main__"):
            importlib.import_module(module.name)
    gc.freeze()
    ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)
    while True:
        for ready in select.select([control, ours], [], [])[0]:
            data, descriptors, _, _ = socket.recv_fds(ready, _LONGEST, 20)
            if not data:
                os._exit(0)
            child = os.fork()
            if not child:
                signal.signal(signal.SIGCHLD, signal.SIG_DFL)
                control.close()
                ours.close()
                if ready is ours:
                    theirs.close()
                    words, *how = json.loads(data)
                    return become_other(words, *how, descriptors=descriptors)
                serve(socket.socket(fileno=descriptors[0]), theirs)
                return "yatagan"
            if ready is ours:
                os.write(descriptors[-1], str(child).encode())
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
            else:
                fork_instead(others)
            become(words, directory, environment, descriptors)
            if terminal:
                os.setsid()
                fcntl.ioctl(0, termios.TIOCSCTTY, 0)
            if jump := environment.get("CLOCK_JUMPS"):
                set_clock(*map(int, jump.split(",")))
            return
        for descriptor in descriptors:
            os.close(descriptor)
        connection.send(str(child).encode())
        _, status = os.waitpid(child, 0)
        connection.send(str(status).encode())


class Other:
    """A process that was forked in place of one with an interpreter of its own."""

    def __init__(self, pid: int) -> None:
        self.pid = pid

    async def wait(self) -> None:
        while os.path.exists(f"/proc/{self.pid}"):  # noqa: ASYNC110 - nothing tells of its end
            await asyncio.sleep(0.02)


def fork_instead(others: socket.socket) -> None:
    """Have the program's workers and keepers forked, too, where it would start an interpreter."""

    def start(words: Sequence[str], *, stdout: int, pass_fds: tuple[int, ...] = (), **more: Any) -> Other:
        as_both = {"stdin": subprocess.DEVNULL, "stderr": stdout, "cwd": "/", "start_new_session": True}
        assert list(words[:3]) == [sys.executable, "-P", "-m"] and more == as_both
        umask = os.umask(0o077)
        os.umask(umask)
        order = [*words[3:]], dict(os.environ), umask, pass_fds
        read, write = os.pipe()
        socket.send_fds(others, [json.dumps(order).encode()], [stdout, *pass_fds, write])
        os.close(write)
        process = int(os.read(read, 100))
        os.close(read)
        return Other(process)

    async def start_soon(*words: str, **more: Any) -> Other:
        return start(words, **more)

    workers, keepers = yatagan.background.starting, yatagan.keeper.spawn
    workers.subprocess = SimpleNamespace(Popen=start, DEVNULL=subprocess.DEVNULL)  # type: ignore[assignment]
    keepers.asyncio = SimpleNamespace(create_subprocess_exec=start_soon)  # type: ignore[assignment]


def belong_to(number: int, groups: list[int], umask: int) -> None:
    # What is imported only when it is needed may lie where that account cannot read.
    for name in _NEEDED:
        importlib.import_module(name)
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
    sys.argv = ["yatagan", *words]


def become_other(
    words: list[str], environment: dict[str, str], umask: int, numbers: list[int], descriptors: list[int]
) -> str:
    """Become a worker or a keeper, with descriptors of these numbers. Returns the module to run."""
    os.setsid()
    os.umask(umask)
    moved = [fcntl.fcntl(descriptor, fcntl.F_DUPFD_CLOEXEC, 100) for descriptor in descriptors]
    for descriptor in descriptors:
        os.close(descriptor)
    out, *passed, reply = moved
    os.close(reply)
    for descriptor, number in zip(passed, numbers, strict=True):
        os.dup2(descriptor, number)
        os.close(descriptor)
    module, *words = words
    become(words, "/", environment, [os.open(os.devnull, os.O_RDONLY), os.dup(out), out])
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
        stream.flush()
    os._exit(status if isinstance(status, int) else 0 if status is None else 1)


if __name__ == "__main__":
    module = begin(socket.socket(fileno=int(sys.argv[1])))
    from yatagan.cli.main import main

    try:
        main() if module == "yatagan" else runpy.run_module(module, run_name="__main__")
    except SystemExit as end:
        leave(end.code)
    leave(None)
