"""Files on a node, over SFTP version 3 with the extensions that its server offers.

Nothing of the SSH library climbs past this room. Where the node runs commands, the helper adds
what SFTP cannot tell: times in nanoseconds, digests, and whether an earlier session's processes have
ended.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import posixpath
import time
from collections import deque
from collections.abc import AsyncGenerator, Awaitable, Callable, Coroutine
from typing import Any, TypeVar

from yatagan.config.areas import below, find_area, split_area
from yatagan.config.nodes import Node
from yatagan.config.settings import ConnectionSettings
from yatagan.errors import FileTrouble, LineLost, StoreError
from yatagan.faults import Fault
from yatagan.nodes.login import Login
from yatagan.nodes.replies import AliveReply
from yatagan.nodes.sftp_client import SftpClient
from yatagan.nodes.sftp_packets import CREATE, EXCLUSIVE, READ, WRITE, Space
from yatagan.stores.connection import BareFailure, Connection
from yatagan.stores.helper_machine import HelperMachine
from yatagan.stores.interface import (
    Facts,
    Kind,
    Placement,
    Reader,
    Traits,
    Writer,
)
from yatagan.stores.lane_logins import Allowed
from yatagan.stores.lanes import Lanes
from yatagan.stores.sftp_file import SftpFile, facts_from, is_sayable, sftp_times
from yatagan.stores.sftp_placing import SftpPlacing

T = TypeVar("T")

_SECOND = 1_000_000_000
#: Largest request we make: 255 KiB fits every server's packet limit of 256 KiB.
_REQUEST = 255 << 10
#: Handfuls of a listing of which the node's commands are asked at once.
_CLOSER = 4
#: Bytes copied on the node by one request.
_COPY = 64 << 20


def offers(files: SftpClient, extension: str) -> bool:
    """Whether the server offers an extension of OpenSSH."""
    return any(name.decode() in (extension, f"{extension}@openssh.com") for name in files.extensions)


class SftpStore:
    """A node as a store, through one login, which a `shared` store leaves open.

    `node`: the node's entry, if it has changed since the login. `allowed`: how further lanes may be opened.
    """

    def __init__(
        self,
        login: Login,
        settings: ConnectionSettings,
        allowed: Allowed = Allowed(),  # noqa: B008 it never changes
        *,
        shared: bool = False,
        node: Node | None = None,
    ) -> None:
        self.login = login
        self.node = node or login.node
        self._line = Connection(login, settings.silence, shared=shared)
        self.lanes = Lanes(login, allowed, self._line.watch)
        self.flow = self.lanes.flow
        self.name = self.node.name
        self.machine = HelperMachine(login.helper, self.ask, self) if login.helper is not None else None
        self._placing = SftpPlacing(self)
        self._no_directory_sync = False
        self.replaces = offers(login.files, "posix-rename")
        self._start = (self.node.start or "").encode("utf-8", "surrogateescape")
        self.address = login.address
        self.max_rate = self.node.rate_cap
        files = login.files
        self.traits = Traits(
            here=False,
            time_step_ns=_SECOND if self.machine is None else 1,
            syncs=offers(files, "fsync"),
            read_size=min(files.read_size, _REQUEST),
            write_size=min(files.write_size, _REQUEST),
            shell_seconds=login.helper.started_in if login.helper is not None else login.waited_for_shell,
            shell_too_slow=login.waited_for_shell > 0,
        )

    @property
    def quiet_seconds(self) -> float:
        return self._line.quiet_seconds

    @property
    def lone_round_trip(self) -> float | None:
        return self.flow.round_trip if self.login.times.questions else None

    @property
    def files(self) -> SftpClient:
        """The channel of the least loaded lane."""
        return self.lanes.least_loaded.files

    async def ask(
        self, request: Coroutine[Any, Any, T], path: bytes, *, writing: bool = False, naming: bool = False
    ) -> T:
        """Wait for the answer to one request. Raises StoreError.

        `naming`: the request fails if something has the name `path`, or is in it.
        """
        began = time.monotonic()
        try:
            answer = await self._line.ask(request, path)
            self.flow.heard(time.monotonic() - began)
            return answer
        except BareFailure as failure:
            raise await self._look_into(failure.said, path, writing, naming) from failure
        except asyncio.CancelledError:
            self.login.abandoned |= writing
            raise

    async def _look_into(self, said: str, path: bytes, writing: bool, naming: bool) -> StoreError:
        """Find out what a bare "Failure" meant, as far as a look can tell."""
        if "no space" in said.lower() or "quota" in said.lower():
            return StoreError(Fault.NO_SPACE, path, store=self.name, detail=said)
        try:
            if writing:
                disk = await self._disk(posixpath.dirname(path))
                if disk is not None and disk.read_only:
                    return StoreError(Fault.READ_ONLY, path, store=self.name, detail=said)
                if disk is not None and disk.free * disk.block < self.traits.write_size:
                    return StoreError(Fault.NO_SPACE, path, store=self.name, detail=said)
            elif naming and await self.look(path) is not None:
                return StoreError(Fault.EXISTS, path, store=self.name, detail=said)
            if len(posixpath.basename(path)) > 255:
                return StoreError(Fault.NAME_TOO_LONG, path, store=self.name, detail=said)
        except StoreError as found:
            if isinstance(found, LineLost):
                return found
        return StoreError(Fault.REFUSED, path, store=self.name, detail=said)

    async def resolve(self, path: bytes, *, follow: bool = False) -> bytes:
        """`~` is where the login starts by itself, `@NAME` an area; files so named are `./…`."""
        home = await self.ask(self.files.realpath(b"."), b".")
        area, rest = split_area(path)
        if area:
            typed = below(find_area(self.name, self.node.areas, area), self.name, rest)
        elif path == b"~" or path.startswith(b"~/"):
            typed = path
        else:
            typed = posixpath.join(self._start, path)
        if typed == b"~" or typed.startswith(b"~/"):
            typed = typed[2:]
        whole = posixpath.normpath(posixpath.join(home, typed))
        if follow:
            return await self._real(whole)
        above, name = posixpath.split(whole)
        return posixpath.join(await self._real(above), name) if name else above

    async def _real(self, path: bytes) -> bytes:
        """The path with its links followed, or as it is where the server does not say.

        A server says nothing of a path whose end is missing: then links are followed as far as the path exists.
        """
        whole, missing = path, b""
        while True:
            try:
                real = await self.ask(self.files.realpath(path), path)
                return posixpath.join(real, missing) if missing else real
            except FileTrouble as error:
                if error.fault not in (Fault.MISSING, Fault.NOT_A_DIRECTORY) or path == b"/":
                    return whole
            path, name = posixpath.split(path)
            missing = posixpath.join(name, missing) if missing else name

    async def look(self, path: bytes) -> Facts | None:
        return await self.look_on(self.files, path)

    async def look_closely(self, path: bytes) -> Facts | None:
        if self.machine is None:
            return await self.look(path)
        found, close = await asyncio.gather(self.look(path), self.machine.look(path))
        # Commands may see another disk than the file protocol: only what both agree on counts.
        return close if found is not None and close is not None and found.same_as(close) else found

    async def entries(self, path: bytes) -> AsyncGenerator[list[tuple[bytes, Facts]], None]:
        files = self.files
        handle = await self.ask(files.open_directory(path), path)
        closer: deque[asyncio.Task[list[tuple[bytes, Facts]]]] = deque()
        try:
            while names := await self.ask(files.names(handle), path):
                real = [(name, facts_from(found)) for name, found in names if name not in (b".", b"..")]
                if self.machine is None:
                    yield real
                    continue
                closer.append(asyncio.ensure_future(self._closer(path, real)))  # while more names come
                if len(closer) >= _CLOSER:
                    yield await closer.popleft()
            while closer:
                yield await closer.popleft()
        finally:
            for task in closer:
                task.cancel()
            await asyncio.gather(*closer, return_exceptions=True)
            with contextlib.suppress(StoreError):  # whatever it is, what comes next will meet it too
                await self.ask(files.close(handle), path)

    async def _closer(self, directory: bytes, listed: list[tuple[bytes, Facts]]) -> list[tuple[bytes, Facts]]:
        """What was listed with times in nanoseconds, where the commands see the same as the file protocol."""
        assert self.machine is not None
        try:
            close = await self.machine.look_in(directory, [name for name, _ in listed])
        except FileTrouble:
            return listed
        return [
            (name, fine if fine is not None and found.same_as(fine) else found)
            for (name, found), fine in zip(listed, close, strict=True)
        ]

    async def read_link(self, path: bytes) -> bytes:
        return await self.ask(self.files.readlink(path), path)

    async def owner(self, path: bytes) -> str:
        return await self.ask(self.files.owner(path), path)

    async def group(self, path: bytes) -> int | None:
        return await self.ask(self.files.group(path), path)

    async def free_space(self, path: bytes) -> int | None:
        found = await self._disk(path)
        return found.free * found.block if found is not None else None

    async def _disk(self, path: bytes) -> Space | None:
        """The file system of a path; None where the server does not say."""
        try:
            return await self.ask(self.files.space(path), path)
        except FileTrouble:
            return None

    async def clock_ns(self) -> int | None:
        return await self.machine.clock_ns() if self.machine is not None else None

    async def open(self, path: bytes) -> Reader:
        """The look comes first: opening a FIFO would stop the whole channel."""
        await self._only_regular(path)
        return await self._open(path, READ)

    async def create_part(self, path: bytes, mode: int = 0o600) -> Writer:
        return await self._open(path, READ | WRITE | CREATE | EXCLUSIVE, mode)

    async def reopen_part(self, path: bytes) -> Writer:
        await self._only_regular(path)
        return await self._open(path, READ | WRITE)

    async def _open(self, path: bytes, flags: int, mode: int | None = None) -> SftpFile:
        lane = self.lanes.least_loaded
        handle = await self.ask(lane.files.open_file(path, flags, mode), path, naming=bool(flags & EXCLUSIVE))
        return SftpFile(self.lanes, self.ask, lane, handle, path, flags)

    async def _only_regular(self, path: bytes) -> None:
        found = await self.look(path)
        if found is None:
            raise StoreError(Fault.MISSING, path, store=self.name)
        if found.kind.value != "file":
            fault = {"link": Fault.IS_LINK, "directory": Fault.IS_DIRECTORY}.get(found.kind.value, Fault.SPECIAL)
            raise StoreError(fault, path, store=self.name)

    async def copy_part(self, old: bytes, new: bytes, size: int, mode: int = 0o600) -> None:
        """By the copy-data extension: the bytes never leave the node."""
        lane = self.lanes.least_loaded
        files = lane.files
        if not offers(files, "copy-data"):
            raise StoreError(Fault.UNSUPPORTED, new, store=self.name)
        await self._only_regular(old)
        source = await self.ask(files.open_file(old, READ), old)
        flags = READ | WRITE | CREATE | EXCLUSIVE
        try:
            handle = await self.ask(files.open_file(new, flags, mode), new, naming=True)
            target = SftpFile(self.lanes, self.ask, lane, handle, new, flags)
            try:
                # Piece by piece: a server that copies for minutes without an answer would pass for a silent one.
                for at in range(0, size, _COPY):
                    copy = files.copy_data(source, at, min(_COPY, size - at), handle, at)
                    await self.ask(copy, new, writing=True)
                await target.sync()
            finally:
                await target.close()
        finally:
            await self.ask(files.close(source), old)

    async def make_directory(self, path: bytes, mode: int) -> None:
        await self.ask(self.files.mkdir(path, mode), path, naming=True)

    async def sync_directory(self, path: bytes) -> bool:
        """By opening it as if it were a file, which servers on POSIX systems allow."""
        if not self.traits.syncs or self._no_directory_sync:
            return False
        files = self.files
        try:
            handle = await self.ask(files.open_file(path, READ), path)
            try:
                await self.ask(files.fsync(handle), path)
            finally:
                await self.ask(files.close(handle), path)
        except FileTrouble as error:
            self._no_directory_sync = error.fault not in (Fault.DENIED, Fault.MISSING)
            return False
        return True

    async def make_link(self, path: bytes, target: bytes) -> None:
        await self.ask(self.files.symlink(target, path), path, naming=True)

    async def set_facts(self, path: bytes, *, mode: int | None, mtime_ns: int | None) -> None:
        """By SFTP alone a name is looked at first: the request follows links."""
        if self.machine is not None and self.machine.disk_is_same:
            await self.machine.set_facts(path, mode, mtime_ns)
            return
        found = await self.look(path)
        if found is None or found.kind is Kind.LINK:
            raise StoreError(Fault.MISSING if found is None else Fault.IS_LINK, path, store=self.name)
        await self.ask(self.files.setstat(path, mode, sftp_times(mtime_ns)), path, writing=True)
        if not is_sayable(mtime_ns):
            raise StoreError(Fault.TIME_RANGE, path, store=self.name)

    async def is_real(self, directory: bytes, top: bytes) -> bool:
        """Some servers resolve a path without looking at its links: so each is looked at too."""
        below = [directory]
        while below[-1] != top and len(below[-1]) > 1:
            below.append(posixpath.dirname(below[-1]))
        looks = asyncio.gather(*(self.look(path) for path in below))
        real, found = await asyncio.gather(self._real(directory), looks)
        return real == directory and all(each is not None and each.kind is Kind.DIRECTORY for each in found)

    async def look_on(self, files: SftpClient, path: bytes) -> Facts | None:
        """As `look`, over a given channel."""
        try:
            return facts_from(await self.ask(files.lstat(path), path))
        except StoreError as error:
            if error.fault in (Fault.MISSING, Fault.NOT_A_DIRECTORY):
                return None
            raise

    async def place(self, part: Writer, wanted: Placement) -> Fault | None:
        return await self._placing.place(part, wanted)

    async def keep(self, path: bytes, kept: bytes) -> None:
        """By hard link, or by renaming where the server or the disk has none.

        Nor by hard link where the server cannot rename over a name: the old one would have to be removed, and a
        hung process of an earlier session could remove the new file later. Its rename would be refused.
        """
        if self.replaces:
            try:
                await self.ask(self.files.link(path, kept), kept, naming=True)
                return
            except StoreError as error:
                if error.fault not in (Fault.UNSUPPORTED, Fault.REFUSED, Fault.DENIED):
                    raise
        await self.ask(self.files.rename(path, kept), kept, naming=True)

    async def rename(self, path: bytes, new: bytes) -> None:
        """SFTP's plain rename refuses an existing name."""
        try:
            await self.ask(self.files.rename(path, new), new, naming=True)
        except StoreError as error:
            if error.fault is Fault.REFUSED and await self.look(new) is not None:
                raise StoreError(Fault.EXISTS, new, store=self.name, detail=error.detail) from error
            raise

    async def remove(self, path: bytes) -> None:
        await self.ask(self.files.remove(path), path)

    async def remove_directory(self, path: bytes) -> None:
        await self.ask(self.files.rmdir(path), path, naming=True)

    async def recorded(self, path: bytes) -> str:
        return ""

    def witness(self) -> str:
        """This login, and its processes on the node as the helper saw them."""
        return self.lanes.witness()

    def expect(self, size: int, *, limited: bool) -> None:
        self.lanes.expect(size, limited=limited)

    def note_writers(self, noted: Callable[[str], Awaitable[None]]) -> None:
        self.lanes.note_writers(noted)

    async def writers_gone(self, witness: str) -> bool:
        """A server needs a moment to notice that its connection has gone.

        An earlier session on this very login has ended when everything that it wrote was answered.
        """
        named = json.loads(witness) if witness else {}
        if named.get("login") == self.login.mark:
            return not self.login.abandoned
        if self.machine is None or "node" not in named:
            return False
        for wait in (0.0, 0.2, 0.5, 1.0):
            await asyncio.sleep(wait)
            reply = await self.machine.ask(AliveReply, "alive", **named["node"])
            if not reply.alive:
                return reply.sure
        return False

    async def close(self) -> None:
        await self.lanes.close()
        await self._line.close()
