"""What things are held against: bare loops over the SSH library, each in a process of its own, as ours is.

`python -m benchmarks.bare JSON` does one of them and prints JSON: the seconds it took, and those of the login.
"""

from __future__ import annotations

import asyncio
import hashlib
import json
import os
import queue
import subprocess
import sys
import threading
import time
from collections.abc import Awaitable, Callable
from dataclasses import asdict, dataclass, field
from typing import Any

import asyncssh
from asyncssh.constants import FXF_CREAT, FXF_EXCL, FXF_READ, FXF_TRUNC, FXF_WRITE

BLOCK = 255 << 10
#: As ours: with the library's own choice it would be half as fast.
CIPHER = "aes128-gcm@openssh.com"


@dataclass(frozen=True)
class Task:
    """One loop. `kind` names it; `how` are its numbers."""

    kind: str
    host: str
    port: int
    user: str
    key: str
    near: str
    far: str
    how: dict[str, Any] = field(default_factory=dict)


def run(task: Task, *prefix: str) -> dict[str, float]:
    """Do it in a process of its own, perhaps by way of another command."""
    done = subprocess.run(
        [*prefix, sys.executable, "-m", "benchmarks.bare", json.dumps(asdict(task))],
        capture_output=True,
        text=True,
        check=True,
    )
    found: dict[str, float] = json.loads(done.stdout)
    return found


async def connect(task: Task) -> asyncssh.SSHClientConnection:
    options: dict[str, Any] = {}
    if "window" in task.how:
        options["window"] = task.how["window"]
    return await asyncssh.connect(
        task.host,
        task.port,
        username=task.user,
        client_keys=[task.key],
        agent_path=None,
        known_hosts=None,
        config=None,
        encryption_algs=[CIPHER],
        compression_algs=None,
        **options,
    )


class InOrder:
    """SHA-256 in a thread, of what comes in any order."""

    def __init__(self) -> None:
        self._value = hashlib.sha256()
        self._queue: queue.SimpleQueue[bytes | None] = queue.SimpleQueue()
        self._early: dict[int, bytes] = {}
        self._at = 0
        self._thread = threading.Thread(target=self._work)
        self._thread.start()

    def _work(self) -> None:
        while (data := self._queue.get()) is not None:
            self._value.update(data)

    def put(self, offset: int, data: bytes) -> None:
        self._early[offset] = data
        while (found := self._early.pop(self._at, None)) is not None:
            self._at += len(found)
            self._queue.put(found)

    def end(self) -> str:
        self._queue.put(None)
        self._thread.join()
        return self._value.hexdigest()


async def channels(task: Task) -> list[asyncssh.SFTPClient]:
    connections = [await connect(task) for _ in range(task.how.get("connections", 1))]
    return [
        await connection.start_sftp_client(path_encoding=None)
        for _ in range(task.how.get("channels", 1))
        for connection in connections
    ]


async def one_file(task: Task) -> dict[str, float]:
    """One large file, `up` or `down`: `requests` of 255 KiB on each of so many channels, with a digest or without."""
    began = time.perf_counter()
    lanes = await channels(task)
    login = time.perf_counter() - began
    up, far = task.how["up"], os.fsencode(task.far)
    digest = InOrder() if task.how.get("digest", True) else None
    if up:
        size, near = os.stat(task.near).st_size, os.open(task.near, os.O_RDONLY)
        first = FXF_READ | FXF_WRITE | FXF_CREAT | FXF_TRUNC
        flags = [first] + [FXF_READ | FXF_WRITE] * (len(lanes) - 1)
    else:
        size = (await lanes[0].stat(far)).size or 0
        near = os.open(task.near, os.O_RDWR | os.O_CREAT | os.O_TRUNC, 0o600)
        flags = [FXF_READ] * len(lanes)
    files = [
        await lane.open(far, flag, asyncssh.SFTPAttrs(), encoding=None, block_size=0)
        for lane, flag in zip(lanes, flags, strict=True)
    ]
    at, most, done = 0, task.how.get("seconds"), 0
    began = time.perf_counter()

    async def work(file: Any) -> None:
        nonlocal at, done
        while at < size and not (most and time.perf_counter() - began > most):
            offset, count = at, min(BLOCK, size - at)
            at += count
            if up:
                data = os.pread(near, count, offset)
                if digest:
                    digest.put(offset, data)
                await file.write(data, offset)
            else:
                data = await file.read(count, offset)
                assert len(data) == count
                os.pwrite(near, data, offset)
                if digest:
                    digest.put(offset, data)
            done += count

    await asyncio.gather(*(work(file) for file in files for _ in range(task.how.get("requests", 8))))
    if digest:
        digest.end()
    return {"seconds": time.perf_counter() - began, "login": login, "bytes": done}


async def small_files(task: Task) -> dict[str, float]:
    """Every file of a directory up, `at_once` of them at a time: open, write, (sync, facts,) close, (rename)."""
    began = time.perf_counter()
    (lane,) = await channels(task)
    login = time.perf_counter() - began
    names = sorted(os.listdir(task.near))
    how, waiting = task.how, iter(names)
    began = time.perf_counter()

    async def work() -> None:
        for name in waiting:
            with open(os.path.join(task.near, name), "rb", buffering=0) as stream:  # noqa: ASYNC230 small, and at hand
                data = stream.read()
                status = os.fstat(stream.fileno())
            hashlib.sha256(data).hexdigest()
            final = os.fsencode(os.path.join(task.far, name))
            part = final + b".new" if how.get("rename") else final
            flags = FXF_READ | FXF_WRITE | FXF_CREAT | FXF_EXCL
            file = await lane.open(part, flags, asyncssh.SFTPAttrs(permissions=0o600), encoding=None, block_size=0)
            await file.write(data, 0)
            if how.get("sync"):
                await file.fsync()
            await file.close()
            if how.get("facts"):
                seconds = int(status.st_mtime)
                await lane.setstat(part, asyncssh.SFTPAttrs(permissions=0o644, atime=seconds, mtime=seconds))
            if how.get("rename"):
                await lane.rename(part, final)

    await asyncio.gather(*(work() for _ in range(how.get("at_once", 32))))
    return {"seconds": time.perf_counter() - began, "login": login, "files": len(names)}


KINDS: dict[str, Callable[[Task], Awaitable[dict[str, float]]]] = {"one-file": one_file, "small-files": small_files}


if __name__ == "__main__":
    given = Task(**json.loads(sys.argv[1]))
    print(json.dumps(asyncio.run(KINDS[given.kind](given))))  # type: ignore[arg-type]
