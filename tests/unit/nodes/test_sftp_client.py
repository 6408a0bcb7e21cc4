"""The file channel: answers in any pieces, refusals, and nonsense. No sockets."""

from __future__ import annotations

import asyncio
import struct
from collections.abc import Awaitable, Callable
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yatagan.nodes.sftp_client import NotFiles, SftpClient
from yatagan.nodes.sftp_packets import EOF, FAILURE, OK, READ, Attributes, Refusal
from yatagan.nodes.transport import Turn

STATUS, HANDLE, DATA, NAME, ATTRS = 101, 102, 103, 104, 105


class Channel:
    """Takes what is asked, and is closed."""

    def __init__(self) -> None:
        self.asked: list[bytes] = []
        self.closed = False

    def write(self, data: bytes) -> None:
        self.asked.append(data)

    def close(self) -> None:
        self.closed = True

    abort = close


def string(value: bytes) -> bytes:
    return struct.pack(">I", len(value)) + value


def answer(kind: int, number: int, body: bytes) -> bytes:
    return struct.pack(">IBI", len(body) + 5, kind, number) + body


def status(number: int, code: int, said: bytes = b"no") -> bytes:
    return answer(STATUS, number, struct.pack(">I", code) + string(said) + string(b"en"))


def attributes(found: Attributes, *, owners: bool) -> bytes:
    flags = (
        (1 if found.size is not None else 0)
        | (2 if owners else 0)
        | (4 if found.mode is not None else 0)
        | (8 if found.mtime is not None else 0)
    )
    parts = [struct.pack(">I", flags)]
    parts += [struct.pack(">Q", found.size)] if found.size is not None else []
    parts += [struct.pack(">II", 1, 2)] if owners else []
    parts += [struct.pack(">I", found.mode)] if found.mode is not None else []
    parts += [struct.pack(">II", 9, found.mtime)] if found.mtime is not None else []
    return b"".join(parts)


def told(
    ask: Callable[[SftpClient], list[Awaitable[Any]]], answers: bytes, cuts: list[int]
) -> tuple[list[Any], Channel]:
    """What questions come to when the answers arrive in pieces that end at these places."""

    async def work() -> tuple[list[Any], Channel]:
        files, channel = SftpClient(), Channel()
        files._channel = channel
        tasks = [asyncio.ensure_future(each) for each in ask(files)]
        await asyncio.sleep(0)
        at = 0
        for cut in [*sorted(cuts), len(answers)]:
            if cut > at:
                files.data_received(answers[at:cut], None)
                at = cut
        async with asyncio.timeout(5):
            return await asyncio.gather(*tasks, return_exceptions=True), channel

    return asyncio.run(work())


numbers = st.integers(0, 0xFFFFFFFF)
found_attributes = st.builds(
    Attributes, st.none() | st.integers(0, (1 << 63) - 1), st.none() | numbers, st.none() | numbers
)


@given(
    blocks=st.lists(st.binary(max_size=40) | st.integers(1, 90_000).map(lambda size: b"fen" * (size // 3)), max_size=6),
    names=st.lists(st.tuples(st.binary(max_size=9), found_attributes, st.booleans()), max_size=4),
    cuts=st.lists(st.integers(0, 300_000), max_size=12),
)
def test_answers_may_come_in_any_pieces(
    blocks: list[bytes], names: list[tuple[bytes, Attributes, bool]], cuts: list[int]
) -> None:
    listed = struct.pack(">I", len(names)) + b"".join(
        string(name) + string(b"-rw-r--r--") + attributes(found, owners=owners) for name, found, owners in names
    )
    answers = [answer(DATA, number, string(block)) for number, block in enumerate(blocks)]
    answers += [answer(NAME, len(blocks), listed), status(len(blocks) + 1, EOF)]
    done, channel = told(
        lambda files: [*(files.read(b"h", 0, 1 << 20) for _ in blocks), files.names(b"d"), files.names(b"d")],
        b"".join(answers),
        cuts,
    )
    assert done == [*blocks, [(name, found) for name, found, _ in names], []] and not channel.closed


def test_what_is_asked_and_refused() -> None:
    answers = answer(HANDLE, 0, string(b"h\0")) + status(1, FAILURE, b"Failure \xff") + answer(STATUS, 2, b"\0\0\0\x03")
    done, channel = told(
        lambda files: [files.open_file(b"/fen", READ), files.remove(b"/fen"), files.rmdir(b"/fen")], answers, []
    )
    assert done[0] == b"h\0"
    assert isinstance(done[1], Refusal) and (done[1].code, done[1].said) == (FAILURE, "Failure \\xff")
    assert isinstance(done[2], Refusal) and done[2].code == 3
    # What is asked in one turn goes out together.
    [asked] = channel.asked
    assert struct.pack(">IBI", 13, 13, 1) + string(b"/fen") + struct.pack(">IBI", 13, 15, 2) + string(b"/fen") in asked


@pytest.mark.parametrize(
    "nonsense",
    [
        b"Welcome to the fen!\r\n" * 3,
        answer(DATA, 77, string(b"x")),
        struct.pack(">IBI", 2, DATA, 0),
        answer(ATTRS, 0, b""),
        answer(HANDLE, 0, b"\0\0\0\xff"),
        answer(STATUS, 0, b"\0"),
        status(0, OK),
    ],
)
def test_nonsense_is_no_answer(nonsense: bytes) -> None:
    (error,), _ = told(lambda files: [files.open_file(b"/fen", READ)], nonsense, [])
    assert isinstance(error, ConnectionError)


def test_text_in_place_of_files_is_told_apart() -> None:
    async def work() -> None:
        files = SftpClient()
        files._channel = Channel()
        greeting = asyncio.ensure_future(files._greet(limits=True))
        await asyncio.sleep(0)
        files.data_received(b"Welcome to the fen!\r\n", None)
        with pytest.raises(NotFiles):
            await greeting
        with pytest.raises(ConnectionError):
            await files.realpath(b".")

    asyncio.run(work())


def test_a_channel_that_ends_answers_everybody() -> None:
    async def work() -> None:
        files = SftpClient()
        files._channel = Channel()
        asked = [asyncio.ensure_future(files.lstat(b"/fen")) for _ in range(3)]
        await asyncio.sleep(0)
        asked[0].cancel()
        files.connection_lost(None)
        found = await asyncio.gather(*asked, files.wait_closed(), return_exceptions=True)
        assert [type(each) for each in found] == [asyncio.CancelledError, ConnectionError, ConnectionError, type(None)]

    asyncio.run(work())


def test_a_channel_that_takes_no_more_answers_everybody() -> None:
    class Closed(Channel):
        def write(self, data: bytes) -> None:
            raise BrokenPipeError("not open")

    async def work() -> None:
        files = SftpClient()
        files._channel = channel = Closed()
        asked = [files.lstat(b"/fen"), files.write(b"h", 0, bytes(1 << 20))]
        found = await asyncio.gather(*asked, return_exceptions=True)
        assert [type(each) for each in found] == [ConnectionError, ConnectionError] and channel.closed

    asyncio.run(work())


@given(st.lists(st.tuples(st.binary(max_size=300_000), st.booleans()), max_size=8))
def test_what_is_put_in_during_a_turn_is_sent_once_and_in_order(pieces: list[tuple[bytes, bool]]) -> None:
    async def work() -> list[list[bytes]]:
        turns: list[list[bytes]] = [[]]
        turn = Turn(lambda data: turns[-1].append(data))
        for data, ends in pieces:
            turn.put(data)
            if ends:
                await asyncio.sleep(0)
                turns.append([])
        await asyncio.sleep(0)
        return turns

    turns = asyncio.run(work())
    assert b"".join(data for sent in turns for data in sent) == b"".join(data for data, _ in pieces)
    for sent in turns:  # what is much goes at once, and the rest of a turn together
        assert all(len(data) >= 256 << 10 for data in sent[:-1])
