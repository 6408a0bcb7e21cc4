"""Runs the program many times without importing its modules each time: python forking.py SOCKET-FD

It imports all that the program may import, which is most of the half second that a run needs before it does anything,
and then forks for each request: `[arguments, directory, environment, account]` in JSON, with descriptors for standard
output and error. The account is null, or its number, its groups, the first of them its own, and its umask. The answer
is the process number, and when that has ended, its status.
"""

from __future__ import annotations

import atexit
import gc
import importlib
import itertools
import json
import os
import pkgutil
import random
import signal
import socket
import sys
import threading
import time

import yatagan

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


def serve(connection: socket.socket) -> None:
    """Returns in a child, which is to be the program; ends with the connection."""
    for module in pkgutil.walk_packages(yatagan.__path__, "yatagan."):
        if not module.name.endswith("__main__"):
            importlib.import_module(module.name)
    gc.freeze()
    while True:
        data, descriptors, _, _ = socket.recv_fds(connection, _LONGEST, 2)
        if not data:
            sys.exit()
        words, directory, environment, account = json.loads(data)
        if words[:1] == ["report"] and account is None:
            for name in _FOR_REPORTS:
                importlib.import_module(name)
        child = os.fork()
        if not child:
            connection.close()
            if account is not None:
                belong_to(*account)
            become(words, directory, environment, descriptors)
            return
        for descriptor in descriptors:
            os.close(descriptor)
        connection.send(str(child).encode())
        _, status = os.waitpid(child, 0)
        connection.send(str(os.waitstatus_to_exitcode(status)).encode())


def belong_to(number: int, groups: list[int], umask: int) -> None:
    # What is imported only when it is needed may lie where that account cannot read.
    for name in _NEEDED:
        importlib.import_module(name)
    os.umask(umask)
    os.setgroups(groups)
    os.setgid(groups[0])
    os.setuid(number)


def become(words: list[str], directory: str, environment: dict[str, str], descriptors: list[int]) -> None:
    os.chdir(directory)
    os.environ.clear()
    os.environ.update(environment)
    time.tzset()
    if jump := environment.get("CLOCK_JUMPS"):
        set_clock(*map(int, jump.split(",")))
    random.seed()
    signal.signal(signal.SIGINT, signal.default_int_handler)
    null = os.open(os.devnull, os.O_RDONLY)
    for descriptor, number in ((null, 0), (descriptors[0], 1), (descriptors[1], 2)):
        os.dup2(descriptor, number)
        os.close(descriptor)
    sys.argv = ["yatagan", *words]


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
    serve(socket.socket(fileno=int(sys.argv[1])))
    from yatagan.cli.main import main

    try:
        main()
    except SystemExit as end:
        leave(end.code)
