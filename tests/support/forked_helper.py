"""The helper on a practice node, forked where the node would start an interpreter for it.

Only for practice nodes: on real servers the tests start what users start.
"""

from __future__ import annotations

import asyncio
import builtins
import functools
import os
import re
import signal
import sys
import types
from typing import Any

from yatagan.nodes.helper import source_of, start_line
from yatagan.portable.modules import ARCHIVES, DELTA, DISKS, NOT_KEPT, PROGRAM

_HELPER = re.compile(re.escape(start_line(b"")).replace(r"read\(0\)", r"read\((\d+)\)"))
_compile = builtins.compile


@functools.cache
def compiled() -> dict[tuple[str, str], types.CodeType]:
    """The modules that are sent to nodes, which are compiled anew by every helper."""
    names = {*PROGRAM, *ARCHIVES, *DELTA, *DISKS, *NOT_KEPT}
    return {(source_of(name), name): _compile(source_of(name), name, "exec") for name in names}


class ForkedHelper:
    """What the node knows of a process that it has started."""

    def __init__(self, pid: int, streams: list[int]) -> None:
        self.pid = pid
        self.returncode: int | None = None
        self.stdin, self.stdout, self.stderr = streams

    async def wait(self) -> int:
        """Until it has ended."""
        over = asyncio.Event()
        handle = os.pidfd_open(self.pid)
        asyncio.get_running_loop().add_reader(handle, over.set)
        try:
            await over.wait()
        finally:
            asyncio.get_running_loop().remove_reader(handle)
            os.close(handle)
        self.returncode = os.waitstatus_to_exitcode(os.waitpid(self.pid, 0)[1])  # noqa: ASYNC222 it has ended
        return self.returncode


async def start(*words: str, cwd: str, env: dict[str, str], **more: Any) -> Any:
    """As `asyncio.create_subprocess_exec`, for a shell that a practice node starts."""
    helper = _HELPER.fullmatch(words[-1])
    if not helper:
        return await asyncio.create_subprocess_exec(*words, cwd=cwd, env=env, **more)
    (stdin, feed), (out, stdout), (err, stderr) = os.pipe(), os.pipe(), os.pipe()
    theirs, ours = (stdin, stdout, stderr), [feed, out, err]
    pid = os.fork()
    if not pid:
        be_helper(int(helper[1]), theirs, cwd, env)
    for descriptor in theirs:
        os.close(descriptor)
    return ForkedHelper(pid, ours)


def be_helper(size: int, streams: tuple[int, ...], cwd: str, env: dict[str, str]) -> None:
    """What `python3 -I -S -c` would do with a program of this size on its standard input. Never returns."""
    try:
        os.setsid()
        signal.set_wakeup_fd(-1)
        for each in (signal.SIGTERM, signal.SIGINT):
            signal.signal(each, signal.SIG_DFL)
        for number, descriptor in enumerate(streams):
            os.dup2(descriptor, number)
        os.closerange(3, 4096)
        os.chdir(cwd)
        os.environ.clear()
        os.environ.update(env)
        stdin = sys.__stdin__
        assert stdin is not None
        sys.stdin, sys.stdout = stdin, sys.__stdout__
        sys.modules["__main__"] = types.ModuleType("__main__")
        known = compiled()
        builtins.compile = lambda source, name, mode: known.get((source, name)) or _compile(source, name, mode)  # type: ignore[assignment]
        exec(stdin.buffer.read(size), sys.modules["__main__"].__dict__)
    finally:
        os._exit(1)
