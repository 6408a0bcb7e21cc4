"""What a node can do, looked at before it is trusted with a batch.

Every look leaves the node as it was: the files made for it are Yatagan's own and removed at once.
"""

from __future__ import annotations

import asyncio
import os
import posixpath
import secrets
import statistics
import time
from collections.abc import Callable, Coroutine
from dataclasses import dataclass, field
from typing import Any

import asyncssh

from yatagan.config.nodes import Role
from yatagan.errors import FileTrouble
from yatagan.faults import Fault
from yatagan.nodes.host_keys import fingerprint
from yatagan.nodes.login import Login
from yatagan.nodes.sftp_client import SftpClient
from yatagan.places import PART_PREFIX, PART_SUFFIX
from yatagan.stores.sftp import SftpStore, offers

#: Requests whose round trips are measured.
_TRIPS = 9
#: A rate is measured with so many bytes at most, for so many seconds at most, with so many requests at once.
_RATE_BYTES, _RATE_SECONDS, _RATE_AHEAD = 16 << 20, 2.0, 8
#: Sessions tried at once, at most.
_SESSIONS = 8
#: What disks of other systems take in no name.
_STRANGE = b'a:b?*"<>|'
#: The extensions of SFTP that we use.
EXTENSIONS = ("fsync", "posix-rename", "hardlink", "statvfs", "copy-data", "limits")


@dataclass(frozen=True, slots=True)
class AreaSpace:
    """An area of a node: its free bytes, None if unknown, or why it cannot be looked at."""

    name: str
    path: bytes
    free: int | None
    fault: Fault | None = None


@dataclass(slots=True)
class Checkup:
    """What was found out about one node. Seconds, bytes, bytes a second; None: unknown.

    `methods`: the ways to log in that its server offers, asked over another connection. `open_until`: when its keeper
    will log out, in seconds since the epoch.
    """

    node: str
    role: Role
    cluster: str | None
    address: tuple[str, int] | None
    user: str
    host_key: str
    host_key_kind: str
    methods: list[str]
    questions: int
    reaching: float
    letting_in: float
    server: str
    cipher: str
    read_size: int
    write_size: int
    extensions: list[str]
    sessions: int
    sessions_more: bool
    commands: str
    python: str
    shell_seconds: float
    start: bytes
    trip: float = 0.0
    clock: float | None = None
    free: int | None = None
    same_disk: bool = False
    writable: Fault | None = None
    up: float | None = None
    down: float | None = None
    folds_case: bool | None = None
    takes_all_names: bool | None = None
    areas: list[AreaSpace] = field(default_factory=list)
    open_until: float | None = None


async def check_up(store: SftpStore) -> Checkup:
    """Find out everything but the ways to log in. Raises StoreError when the connection is lost."""
    login = store.login
    connection = login.connection
    key = connection.get_server_host_key()
    helper = login.helper
    sessions = await _sessions(login)
    found = Checkup(
        node=store.name,
        role=store.node.role,
        cluster=store.node.cluster,
        address=login.address,
        user=str(connection.get_extra_info("username", "")),
        host_key=fingerprint(key) if key is not None else "",
        host_key_kind=key.get_algorithm() if key is not None else "",
        methods=[],
        questions=login.times.questions,
        reaching=login.times.reaching,
        letting_in=login.times.letting_in,
        server=login.server,
        cipher=str(connection.get_extra_info("send_cipher", "")),
        read_size=store.traits.read_size,
        write_size=store.traits.write_size,
        extensions=[name for name in EXTENSIONS if offers(login.files, name)],
        sessions=sessions,
        sessions_more=sessions >= _SESSIONS,
        commands="" if helper is not None else login.no_helper,
        python=helper.greeting.python if helper is not None else "",
        shell_seconds=store.traits.shell_seconds,
        start=await store.resolve(b"", follow=True),
    )
    found.trip = await _trip(store, found.start)
    before = time.time()
    clock = await store.clock_ns()
    if clock is not None:
        found.clock = clock / 1e9 - (before + time.time()) / 2
    found.free = await store.free_space(found.start)
    found.areas = [await _area(store, area.name) for area in store.node.areas]
    try:
        await _write_and_read(store, found)
    except FileTrouble as error:
        found.writable = error.fault
    return found


async def _area(store: SftpStore, name: str) -> AreaSpace:
    path = b"@" + name.encode()
    try:
        path = await store.resolve(path, follow=True)
        if await store.look(path) is None:
            return AreaSpace(name, path, None, Fault.MISSING)
        return AreaSpace(name, path, await store.free_space(path))
    except FileTrouble as error:
        return AreaSpace(name, path, None, error.fault)


async def _trip(store: SftpStore, path: bytes) -> float:
    times = []
    for _ in range(_TRIPS):
        began = time.perf_counter()
        await store.look(path)
        times.append(time.perf_counter() - began)
    return statistics.median(times)


async def _sessions(login: Login) -> int:
    """How many sessions one login may have at once."""
    extra: list[SftpClient] = []
    held = 1 + (login.helper is not None)
    try:
        while held + len(extra) < _SESSIONS:
            extra.append(await SftpClient.open(login.connection))
    except (OSError, asyncssh.Error):
        pass
    for client in extra:
        client.exit()
    return held + len(extra)


def _own_name(word: bytes) -> bytes:
    return PART_PREFIX + word + b"-" + secrets.token_hex(4).encode() + PART_SUFFIX


async def _write_and_read(store: SftpStore, found: Checkup) -> None:
    """Measure both rates, and see whether commands see the same disk and the disk ignores case."""
    machine = store.machine
    found.same_disk = machine is not None and await machine.same_disk(posixpath.join(found.start, _own_name(b"token")))
    path = posixpath.join(found.start, _own_name(b"check"))
    block, data = store.traits.write_size, os.urandom(store.traits.write_size)
    writer = await store.create_part(path)
    try:
        found.takes_all_names = await _takes(store, posixpath.join(found.start, _own_name(_STRANGE)))
        above, name = posixpath.split(path)
        found.folds_case = await store.look(posixpath.join(above, name.upper())) is not None
        try:
            count, seconds = await _measure(lambda at: writer.write(at, data), block, _RATE_BYTES)
            began = time.perf_counter()
            await writer.sync()
            found.up = count / (seconds + time.perf_counter() - began)
        finally:
            await writer.close()
        reader = await store.open(path)
        try:
            count, seconds = await _measure(lambda at: reader.read(at, block), block, count)
            found.down = count / seconds
        finally:
            await reader.close()
    finally:
        await store.remove(path)


async def _takes(store: SftpStore, path: bytes) -> bool:
    """Whether the disk allows a name."""
    try:
        await (await store.create_part(path)).close()
    except FileTrouble:
        return False
    await store.remove(path)
    return True


async def _measure(request: Callable[[int], Coroutine[Any, Any, object]], block: int, most: int) -> tuple[int, float]:
    """Send requests of one block until `most` bytes or the time is used up. Returns bytes and seconds."""
    began = time.perf_counter()
    pending: set[asyncio.Task[object]] = set()
    asked = 0
    try:
        while True:
            while asked + block <= most and len(pending) < _RATE_AHEAD and time.perf_counter() - began < _RATE_SECONDS:
                pending.add(asyncio.create_task(request(asked)))
                asked += block
            if not pending:
                return asked, max(time.perf_counter() - began, 1e-6)
            answered, pending = await asyncio.wait(pending, return_when=asyncio.FIRST_COMPLETED)
            for task in answered:
                task.result()
    finally:
        for task in pending:
            task.cancel()
