"""Logins in processes of their own: encryption then has more than one processor.

Such a process, `python -m yatagan.nodes.login_process DESCRIPTOR`, has one connection, and passes on what goes through
file channels, byte for byte: requests are made and answers read here. It gets its orders over a socket pair, by
which it also gets an end of a further one for each channel. Nobody can answer questions there. It ends when its
connection is lost, or when the process that began it closes its end, for whatever reason.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
import pickle
import signal
import socket
import struct
import subprocess
import sys

import asyncssh

from yatagan.config.home import Home
from yatagan.config.nodes import Node
from yatagan.config.settings import ConnectionSettings
from yatagan.errors import CannotReach
from yatagan.nodes.failures import files_refused
from yatagan.nodes.login import FurtherLogin, Login, OwnLink, connect_again
from yatagan.nodes.sftp_client import SftpClient
from yatagan.nodes.transport import Turn, say_nothing_of_packets

#: What a further channel is asked for with, besides its socket.
_MORE = b"+"
_LENGTH = struct.Struct(">I")
#: Seconds in which such a process has logged out; else it is ended.
_LEAVING = 3.0


async def log_in_by_process(login: Login, home: Home, settings: ConnectionSettings) -> FurtherLogin:
    """As `log_in_again`, in another process. Raises CannotReach, or OSError if no process can be started."""
    near, far = socket.socketpair()
    with far:
        try:
            process = await asyncio.create_subprocess_exec(
                *(sys.executable, "-P", "-m", "yatagan.nodes.login_process", str(far.fileno())),
                pass_fds=(far.fileno(),),
                stdin=subprocess.DEVNULL,
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
                start_new_session=True,  # Ctrl-C is for us, who may need it to come to a clean stop
            )
        except BaseException:
            near.close()
            raise
    near.setblocking(False)
    link = ProcessLink(process, near, await asyncio.open_unix_connection(sock=near))
    try:
        order = pickle.dumps((login.node, login.address, home, settings))
        files = await link.channel(login.files, _LENGTH.pack(len(order)) + order)
    except (OSError, ValueError) as error:
        link.abort()
        raise files_refused(login.node, error) from error
    except asyncio.CancelledError:
        link.abort()
        raise
    return FurtherLogin(link, files, link.lost)


class ProcessLink:
    """A connection that another process holds; see `SSHLink`."""

    ours = False

    def __init__(
        self,
        process: asyncio.subprocess.Process,
        control: socket.socket,
        streams: tuple[asyncio.StreamReader, asyncio.StreamWriter],
    ) -> None:
        self._process = process
        self._control = control
        self._reader, self._writer = streams
        self.lost = asyncio.Event()
        self._following = asyncio.create_task(self._follow())

    async def _follow(self) -> None:
        with contextlib.suppress(OSError):
            await self._reader.read()
        self.lost.set()

    async def channel(self, like: SftpClient, order: bytes = _MORE) -> SftpClient:
        """Its socket goes with an order."""
        near, far = socket.socketpair()
        with far:
            try:
                socket.send_fds(self._control, [order], [far.fileno()])
            except OSError:
                near.close()
                raise

        async def passed_on(files: SftpClient) -> asyncio.Transport:
            transport, _ = await asyncio.get_running_loop().create_unix_connection(lambda: _Passed(files), sock=near)
            return transport

        return await SftpClient.over(passed_on, like=like)

    def abort(self) -> None:
        self.lost.set()
        self._writer.close()
        # Not by the library's `kill`, which reaps the process behind the back of who waits for it.
        with contextlib.suppress(ProcessLookupError):
            if self._process.returncode is None:
                os.kill(self._process.pid, signal.SIGKILL)

    async def hang_up(self) -> None:
        self._writer.close()
        try:
            async with asyncio.timeout(_LEAVING):
                await self._process.wait()
        except TimeoutError:
            self.abort()
            await self._process.wait()
        self._following.cancel()


class _Passed(asyncio.Protocol):
    """The socket over which the other process forwards a file channel."""

    def __init__(self, files: SftpClient) -> None:
        self._files = files

    def data_received(self, data: bytes) -> None:
        self._files.data_received(data, None)

    def connection_lost(self, exc: Exception | None) -> None:
        self._files.connection_lost(exc)


# -- the other process -----------------------------------------------------------------------------------


class _Near(asyncio.Protocol):
    """In that process, the socket: what arrives on it goes to the channel."""

    def __init__(self) -> None:
        self.channel: asyncssh.SSHClientChannel[bytes] | None = None
        self.early: list[bytes] = []

    def data_received(self, data: bytes) -> None:
        if self.channel is None:
            self.early.append(data)
        else:
            self.channel.write(data)

    def pause_writing(self) -> None:
        if self.channel is not None:
            self.channel.pause_reading()

    def resume_writing(self) -> None:
        if self.channel is not None:
            self.channel.resume_reading()

    def connection_lost(self, exc: Exception | None) -> None:
        if self.channel is not None:
            self.channel.abort()


class _Far(asyncssh.SSHClientSession[bytes]):
    """In that process, the channel: what arrives on it goes to the socket."""

    def __init__(self, near: asyncio.Transport) -> None:
        self._socket = near
        self._turn = Turn(near.write)

    def data_received(self, data: bytes, datatype: asyncssh.DataType) -> None:
        if datatype is None:
            self._turn.put(data)

    def pause_writing(self) -> None:
        self._socket.pause_reading()

    def resume_writing(self) -> None:
        self._socket.resume_reading()

    def connection_lost(self, exc: Exception | None) -> None:
        self._turn.send()
        self._socket.close()


async def _pass_on(connection: asyncssh.SSHClientConnection, end: socket.socket) -> None:
    """Open a channel and forward it to a socket, which is closed if there is none."""
    end.setblocking(False)
    transport, near = await asyncio.get_running_loop().create_unix_connection(_Near, sock=end)
    try:
        channel, _ = await connection.create_session(lambda: _Far(transport), subsystem="sftp", encoding=None)
    except (asyncssh.Error, OSError):
        transport.close()
        return
    say_nothing_of_packets(channel)
    near.channel = channel
    for data in near.early:
        channel.write(data)
    near.early.clear()
    if transport.is_closing():
        channel.abort()


async def _serve(control: socket.socket, order: bytes, first: socket.socket) -> None:
    node: Node
    node, address, home, settings = pickle.loads(order)  # from the process that began us
    try:
        connection, lost = await connect_again(node, address, home, settings)
    except CannotReach:
        return
    link = OwnLink(connection)
    opening = {asyncio.ensure_future(_pass_on(connection, first))}

    def asked() -> None:
        try:
            word, ends, _, _ = socket.recv_fds(control, 1, 1)
        except BlockingIOError:
            return
        except OSError:
            word, ends = b"", []
        for end in ends:
            opening.add(asyncio.ensure_future(_pass_on(connection, socket.socket(fileno=end))))
        if not word:
            asyncio.get_running_loop().remove_reader(control)
            lost.set()

    control.setblocking(False)
    asyncio.get_running_loop().add_reader(control, asked)
    await lost.wait()
    await link.hang_up()


def main() -> None:
    """The entry point of that process."""
    control = socket.socket(fileno=int(sys.argv[1]))
    head, [end], _, _ = socket.recv_fds(control, _LENGTH.size, 1)
    order = b""
    while len(order) < _LENGTH.unpack(head)[0]:
        if not (more := control.recv(1 << 16)):
            return
        order += more
    asyncio.run(_serve(control, order, socket.socket(fileno=end)))


if __name__ == "__main__":
    main()
