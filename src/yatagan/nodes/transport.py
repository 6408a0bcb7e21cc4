"""The connection beneath SSH, with fewer and larger calls of the operating system.

The SSH library writes every packet by itself, 32 KiB at most and an empty one before each; and it keeps what has
arrived in one piece that is copied for every packet. Here what is written in one turn of the event loop goes out
together, without the empty ones, and what has arrived is handed over in pieces of a packet's size.
"""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from typing import Any, Protocol

from asyncssh.constants import MSG_IGNORE

#: What is written goes out at once when there is so much of it, in bytes.
_TOGETHER = 256 << 10
#: Bytes that are handed over at once: somewhat more than a packet has.
_PIECE = 64 << 10


class PacketConnection(Protocol):
    """The protocol object that the SSH library makes for each connection."""

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        """It begins."""

    def connection_lost(self, exc: Exception | None) -> None:
        pass

    def data_received(self, data: bytes) -> None:
        pass

    def eof_received(self) -> bool | None:
        pass


class PacketConnector:
    """Opens connections for the SSH library, which takes it for a tunnel. `address` replaces what it asks for."""

    def __init__(self, address: tuple[str, int] | None = None) -> None:
        self._address = address

    async def create_connection(self, factory: Any, host: str, port: int) -> tuple[asyncio.Transport, PacketConnection]:
        """A connection that `factory` has made, and what carries it. Raises OSError."""
        loop = asyncio.get_running_loop()
        host, port = self._address or (host, port)
        transport, pieces = await loop.create_connection(lambda: _Pieces(_spared(factory())), host, port)
        return transport, pieces.connection


def _spared(connection: Any) -> Any:
    """Spare a connection what the library does for every packet and this program has no use for.

    It sends an empty packet ahead, which protects ciphers in CBC mode (RFC 4251, section 9.3.1): we offer none.
    """
    send_packet = connection.send_packet

    def send(kind: int, *parts: bytes, **how: Any) -> None:
        if kind != MSG_IGNORE:
            send_packet(kind, *parts, **how)

    connection.send_packet = send
    say_nothing_of_packets(connection)
    return connection


def say_nothing_of_packets(handler: Any) -> None:
    """Switch off the library's log of packets, which costs a copy of each."""
    handler.log_sent_packet = handler.log_received_packet = _say_nothing


def _say_nothing(*what: object, **more: object) -> None:
    """No log."""


class _Pieces(asyncio.Protocol):
    """Hands what arrives to the connection in pieces of a packet's size."""

    def __init__(self, connection: PacketConnection) -> None:
        self.connection = connection

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        assert isinstance(transport, asyncio.Transport)
        self.connection.connection_made(_Together(transport))

    def connection_lost(self, exc: Exception | None) -> None:
        self.connection.connection_lost(exc)

    def eof_received(self) -> bool | None:
        return self.connection.eof_received()

    def data_received(self, data: bytes) -> None:
        if len(data) <= _PIECE:
            self.connection.data_received(data)
            return
        for at in range(0, len(data), _PIECE):
            self.connection.data_received(data[at : at + _PIECE])


class Turn:
    """Coalesces what is written in one turn of the event loop: every write costs more than its bytes."""

    def __init__(self, send: Callable[[bytes], None]) -> None:
        self._hand_on = send
        self._waiting: list[bytes | memoryview] = []
        self._size = 0
        self._due = False

    def put(self, data: bytes | memoryview) -> None:
        """Send this at the end of the turn."""
        self._waiting.append(data)
        self._size += len(data)
        if self._size >= _TOGETHER:
            self.send()
        elif not self._due:
            self._due = True
            asyncio.get_running_loop().call_soon(self._send_due)

    def _send_due(self) -> None:
        self._due = False
        self.send()

    def send(self) -> None:
        """What there is, now."""
        if self._waiting:
            data = b"".join(self._waiting)
            self._waiting.clear()
            self._size = 0
            self._hand_on(data)


class _Together(asyncio.Transport):
    """Sends what was written in one turn of the loop at once."""

    def __init__(self, inner: asyncio.Transport) -> None:
        super().__init__()
        self._inner = inner
        self._turn = Turn(inner.write)

    def write(self, data: Any) -> None:
        self._turn.put(data)

    def close(self) -> None:
        self._turn.send()
        self._inner.close()

    def abort(self) -> None:
        self._inner.abort()

    def is_closing(self) -> bool:
        return self._inner.is_closing()

    def get_extra_info(self, name: str, default: Any = None) -> Any:
        return self._inner.get_extra_info(name, default)
