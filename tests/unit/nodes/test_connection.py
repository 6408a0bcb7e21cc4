"""Requests over a line to a node: what its errors mean, and when it has gone silent. No sockets."""

from __future__ import annotations

import asyncio
from typing import Any

import asyncssh
import pytest

from yatagan.config.nodes import Node
from yatagan.errors import StoreError
from yatagan.faults import Fault
from yatagan.nodes import sftp_packets
from yatagan.nodes.sftp_client import NotFiles
from yatagan.nodes.sftp_packets import Refusal
from yatagan.stores.connection import BareFailure, Connection


class Login:
    """As much of a login as a line needs."""

    def __init__(self) -> None:
        self.node = Node("oak", "oak.fen.example")
        self.lost = asyncio.Event()
        self.helper: Any = self
        self.listeners: set[Any] = set()
        self.link = self
        self.aborted = self.closed = False

    def abort(self) -> None:
        self.aborted = True
        self.lost.set()

    async def close(self) -> None:
        self.closed = True


async def fails(error: Exception) -> None:
    raise error


MEANINGS = [
    (Refusal(sftp_packets.NO_SUCH_FILE, "said"), Fault.MISSING),
    (Refusal(sftp_packets.PERMISSION_DENIED, "said"), Fault.DENIED),
    (Refusal(sftp_packets.ALREADY_EXISTS, "said"), Fault.EXISTS),
    (Refusal(sftp_packets.WRITE_PROTECT, "said"), Fault.READ_ONLY),
    (Refusal(sftp_packets.NO_SPACE, "said"), Fault.NO_SPACE),
    (Refusal(sftp_packets.QUOTA, "said"), Fault.NO_SPACE),
    (Refusal(sftp_packets.UNSUPPORTED, "said"), Fault.UNSUPPORTED),
    (Refusal(sftp_packets.NOT_A_DIRECTORY, "said"), Fault.NOT_A_DIRECTORY),
    (Refusal(sftp_packets.IS_A_DIRECTORY, "said"), Fault.IS_DIRECTORY),
    (Refusal(sftp_packets.LINK_LOOP, "said"), Fault.IS_LINK),
    (Refusal(23, "said"), Fault.REFUSED),
    (Refusal(sftp_packets.CONNECTION_LOST, "said"), Fault.CONNECTION_LOST),
    (Refusal(sftp_packets.NO_CONNECTION, "said"), Fault.CONNECTION_LOST),
    (Refusal(sftp_packets.BAD_MESSAGE, "said"), Fault.CONNECTION_LOST),
    (asyncssh.ConnectionLost("said"), Fault.CONNECTION_LOST),
    (asyncssh.ChannelOpenError(1, "said"), Fault.CONNECTION_LOST),
    (ConnectionResetError("said"), Fault.CONNECTION_LOST),
    (EOFError("said"), Fault.CONNECTION_LOST),
    (NotFiles("said"), Fault.CONNECTION_LOST),
    (BrokenPipeError(32, "said"), Fault.CONNECTION_LOST),
    (OSError(13, "said"), Fault.DENIED),
    (OSError(28, "said"), Fault.NO_SPACE),
    (OSError(0, "said"), Fault.REFUSED),
]


@pytest.mark.parametrize(("error", "fault"), MEANINGS, ids=lambda value: getattr(value, "value", str(value)))
def test_what_an_error_means(error: Exception, fault: Fault) -> None:
    async def work() -> None:
        line = Connection(Login(), 60)  # type: ignore[arg-type]
        with pytest.raises(StoreError) as caught:
            await line.ask(fails(error), b"/fen/a")
        assert (caught.value.fault, caught.value.path, caught.value.store) == (fault, b"/fen/a", "oak")
        assert "said" in caught.value.detail
        await line.close()

    asyncio.run(work())


def test_a_bare_failure_is_left_to_whoever_asked() -> None:
    async def work() -> None:
        login = Login()
        line = Connection(login, 60)  # type: ignore[arg-type]
        with pytest.raises(BareFailure) as caught:
            await line.ask(fails(Refusal(sftp_packets.FAILURE, "said")), b"/fen/a")
        assert caught.value.said == "said"
        await line.close()
        assert login.closed

    asyncio.run(work())


def test_a_silent_server_is_given_up_and_everything_outstanding_with_it() -> None:
    async def work() -> None:
        login = Login()
        line = Connection(login, 0.4)  # type: ignore[arg-type]
        asked = [asyncio.ensure_future(line.ask(asyncio.sleep(3600), b"/fen/a")) for _ in range(3)]
        faults = [error.fault for error in await asyncio.gather(*asked, return_exceptions=True)]  # type: ignore[union-attr]
        assert faults == [Fault.SILENT] * 3 and login.aborted
        with pytest.raises(StoreError):  # nothing goes over it any more, and nothing waits for it
            await line.ask(asyncio.sleep(0), b"")

    asyncio.run(work())


def test_signs_of_life_keep_a_line() -> None:
    async def work() -> None:
        login = Login()
        line = Connection(login, 1.0)  # type: ignore[arg-type]
        asked = asyncio.ensure_future(line.ask(asyncio.sleep(2.5, "the digest"), b"/fen/a"))
        while not asked.done():
            for heard in login.listeners:
                heard()
            await asyncio.sleep(0.05)
        assert await asked == "the digest" and not login.aborted
        await line.close()

    asyncio.run(work())


def test_a_lost_connection_ends_what_is_outstanding() -> None:
    async def work() -> None:
        login = Login()
        line = Connection(login, 60)  # type: ignore[arg-type]
        asked = asyncio.ensure_future(line.ask(asyncio.sleep(3600), b"/fen/a"))
        await asyncio.sleep(0)
        login.lost.set()
        with pytest.raises(StoreError) as caught:
            await asked
        assert caught.value.fault is Fault.CONNECTION_LOST
        # Our own task being cancelled is another thing, and stays what it is.
        line = Connection(Login(), 60)  # type: ignore[arg-type]
        asked = asyncio.ensure_future(line.ask(asyncio.sleep(3600), b"/fen/a"))
        await asyncio.sleep(0)
        asked.cancel()
        with pytest.raises(asyncio.CancelledError):
            await asked
        await line.close()

    asyncio.run(work())
