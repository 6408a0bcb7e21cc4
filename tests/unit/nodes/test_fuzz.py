"""What servers and helpers may answer: anything. Nothing that comes from one raises anything but our own errors."""

from __future__ import annotations

import asyncio
import json
import struct
from collections.abc import Callable, Coroutine
from types import SimpleNamespace
from typing import Any, TypeVar

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from yatagan.errors import StoreError
from yatagan.nodes.helper import Helper, _lines
from yatagan.nodes.replies import GreetingReply
from yatagan.nodes.sftp_client import SftpClient
from yatagan.nodes.sftp_packets import Nonsense, Refusal, decode_attributes
from yatagan.portable.block_sums import Match
from yatagan.portable.small_files import BundledFile
from yatagan.stores.connection import BareFailure
from yatagan.stores.helper_machine import HelperMachine
from yatagan.stores.interface import Facts, Kind, Placement
from yatagan.stores.sftp_file import facts_from

EXTENSIONS = ("posix-rename", "statvfs", "hardlink", "fsync", "limits", "lsetstat")


def text(value: bytes) -> bytes:
    return struct.pack(">I", len(value)) + value


def attributes(size: int = 5, mode: int = 0o100644) -> bytes:
    return struct.pack(">IQIIIII", 0xF, size, 0, 0, mode, 1, 1)


def name(value: bytes) -> bytes:
    return struct.pack(">I", 1) + text(value) + text(b"-rw-r--r--") + attributes()


#: What a sound server answers, by the kind of the request: the kind of the answer, and its body.
ANSWERS: dict[int, tuple[int, bytes]] = {
    **dict.fromkeys((4, 6, 9, 10, 13, 14, 15, 18, 20), (101, struct.pack(">I", 0) + text(b"ok") + text(b""))),
    3: (102, text(b"handle")),
    5: (103, text(b"bytes")),
    **dict.fromkeys((7, 8), (105, attributes())),
    11: (102, text(b"handle")),
    12: (104, name(b"entry")),
    16: (104, name(b"/home/fen")),
    19: (104, name(b"target")),
    200: (201, struct.pack(">11Q", 4096, 4096, 1000, 1000, 1000, 1, 1, 1, 1, 1, 255)),
}

REQUESTS: list[Callable[[SftpClient], Coroutine[Any, Any, object]]] = [
    lambda files: files.realpath(b"."),
    lambda files: files.lstat(b"a"),
    lambda files: files.open_directory(b"a"),
    lambda files: files.names(b"handle"),
    lambda files: files.readlink(b"a"),
    lambda files: files.open_file(b"a", 1),
    lambda files: files.close(b"handle"),
    lambda files: files.fstat(b"handle"),
    lambda files: files.read(b"handle", 0, 100),
    lambda files: files.write(b"handle", 0, b"data"),
    lambda files: files.mkdir(b"a", 0o755),
    lambda files: files.symlink(b"target", b"a"),
    lambda files: files.setstat(b"a", 0o644, (1, 1)),
    lambda files: files.fsetstat(b"handle", 0o644, (1, 1)),
    lambda files: files.rename(b"a", b"b"),
    lambda files: files.remove(b"a"),
    lambda files: files.posix_rename(b"a", b"b"),
    lambda files: files.link(b"a", b"b"),
    lambda files: files.fsync(b"handle"),
    lambda files: files.space(b"a"),
    lambda files: files.served_by(),
]

Spoil = Callable[[bytes], list[bytes]]
T = TypeVar("T")
#: Turns of the loop in which a server that answers at once has answered all that it will.
_TURNS = 200


async def unless_silent(asking: Coroutine[Any, Any, T]) -> T:
    """Wait for what a server answers at once. Raises TimeoutError where it is silent, whatever else the machine does.

    Not by a clock: how much is drawn must depend on what was drawn before alone.
    """
    task = asyncio.ensure_future(asking)
    for _ in range(_TURNS):
        if task.done():
            return task.result()
        await asyncio.sleep(0)
    task.cancel()
    await asyncio.wait([task])
    raise TimeoutError


class Server:
    """A channel that answers at once; what `spoil` makes of each answer, in the pieces that it makes."""

    def __init__(self, files: SftpClient, spoil: Spoil | None = None) -> None:
        self._files = files
        self._held = b""
        self.spoil = spoil

    def write(self, data: bytes) -> None:
        self._held += data
        while len(self._held) >= 4 and len(self._held) >= 4 + (length := int.from_bytes(self._held[:4])):
            request, self._held = self._held[4 : 4 + length], self._held[4 + length :]
            asyncio.get_running_loop().call_soon(self._answer, request)

    def _answer(self, request: bytes) -> None:
        if request[0] == 1:
            pairs = b"".join(
                text(f"{each}@openssh.com".encode()) + text(b"2" if each == "statvfs" else b"1") for each in EXTENSIONS
            )
            body = b"\x02" + struct.pack(">I", 3) + pairs
        else:
            extended = request[0] == 200 and not request.startswith((b"\0\0\0\x14limits", b"\0\0\0\x13statvfs"), 5)
            kind, found = ANSWERS[13 if extended else request[0]]
            body = bytes([kind]) + request[1:5] + found
        packet = text(body)
        for piece in [packet] if self.spoil is None else self.spoil(packet):
            self._files.data_received(piece, None)

    def close(self) -> None:
        """Nothing to do."""

    def abort(self) -> None:
        """Nothing to do."""


def spoiler(draw: st.DataObject) -> Spoil:
    """One way to spoil a packet."""

    def spoil(packet: bytes) -> list[bytes]:
        data = bytearray(packet)
        how = draw.draw(st.sampled_from(["byte", "number", "cut", "more", "length", "twice", "noise", "nothing"]))
        at = draw.draw(st.integers(0, max(0, len(data) - 1)))
        match how:
            case "byte":
                data[at] = draw.draw(st.integers(0, 255))
            case "number":
                large = draw.draw(st.sampled_from([0, 1, 2**31, 2**32 - 1]))
                data[at : at + 4] = struct.pack(">I", large)[: len(data) - at]
            case "cut":  # and say so, so that what is left is a packet
                data = bytearray(text(bytes(data[4:at])) if at > 4 else b"")
            case "more":
                data = bytearray(text(bytes(data[4:]) + draw.draw(st.binary(max_size=20))))
            case "length":
                data[:4] = struct.pack(">I", draw.draw(st.integers(0, 2**32 - 1)))
            case "twice":
                data *= 2
            case "noise":
                data = bytearray(draw.draw(st.binary(max_size=60)))
        return [bytes(data)]

    return spoil


def test_a_server_that_answers_is_not_taken_for_silent() -> None:
    async def work() -> None:
        servers: list[Server] = []

        async def begin(files: SftpClient) -> Server:
            servers.append(Server(files))
            return servers[0]

        files = await unless_silent(SftpClient.over(begin, "OpenSSH"))
        for request in REQUESTS:
            await unless_silent(request(files))
        servers[0].spoil = lambda packet: []
        for request in REQUESTS:
            with pytest.raises(TimeoutError):
                await unless_silent(request(files))

    asyncio.run(work())


@settings(max_examples=400, suppress_health_check=list(HealthCheck))
@given(st.sampled_from(REQUESTS), st.data())
def test_any_answer_of_a_file_server(
    request: Callable[[SftpClient], Coroutine[Any, Any, object]], data: st.DataObject
) -> None:
    async def work() -> None:
        servers = []

        async def begin(files: SftpClient) -> Server:
            servers.append(Server(files))
            return servers[0]

        files = await SftpClient.over(begin, "OpenSSH")
        servers[0].spoil = spoiler(data)
        try:
            answer = await unless_silent(request(files))
        except (Refusal, ConnectionError, TimeoutError):
            return
        if hasattr(answer, "size"):
            facts = facts_from(answer)  # type: ignore[arg-type]
            assert 0 <= facts.size < 2**63 and 0 <= facts.mode <= 0o7777

    asyncio.run(work())


@settings(max_examples=120, suppress_health_check=list(HealthCheck))
@given(st.data())
def test_any_greeting_of_a_file_server(data: st.DataObject) -> None:
    async def work() -> None:
        async def begin(files: SftpClient) -> Server:
            return Server(files, spoiler(data))

        try:
            files = await unless_silent(SftpClient.over(begin, "OpenSSH"))
        except (Refusal, ConnectionError, TimeoutError):
            return
        assert files.read_size >= 1024 and files.write_size >= 1024

    asyncio.run(work())


#: Anything that JSON can say, and what a helper might.
JSON = st.recursive(
    st.none()
    | st.booleans()
    | st.integers(-(2**70), 2**70)
    | st.floats()
    | st.text(max_size=8)
    | st.sampled_from(["files", "outcomes", "facts", "good", "rolling", "text"]),
    lambda inner: (
        st.lists(inner, max_size=4)
        | st.dictionaries(
            st.sampled_from(["files", "outcomes", "facts", "before", "good", "rolling", "other", "clock_ns", "text"])
            | st.text(max_size=4),
            inner,
            max_size=4,
        )
    ),
    max_leaves=12,
)
FILE = Facts(Kind.FILE, 5, 1, 0o644, 1, 1)
BUNDLED = BundledFile(0, 5, "00", b"/p", (), b"/f", 0o600, 0o644, 1)
QUESTIONS: list[Callable[[HelperMachine], Coroutine[Any, Any, object]]] = [
    lambda helper: helper.clock_ns(),
    lambda helper: helper.look(b"/a"),
    lambda helper: helper.digests([(b"/a", FILE), (b"/b", None)], "sha256"),
    lambda helper: helper.block_sums(b"/a", 64),
    lambda helper: helper.copy_matches(b"/a", b"/b", [Match(0, 0, 5, "")]),
    lambda helper: helper.read_small([b"/a"], 100),
    lambda helper: helper.place(Placement(b"/p", b"/f", 5, b"/")),
    lambda helper: helper.finish([BUNDLED]),
    lambda helper: helper.extract(b"/a", [BUNDLED]),
]


@settings(max_examples=400, suppress_health_check=list(HealthCheck))
@given(st.sampled_from(QUESTIONS), JSON)
def test_any_answer_of_a_helper(question: Callable[[HelperMachine], Coroutine[Any, Any, object]], answer: Any) -> None:
    async def ask(do: str, path: bytes = b"", **more: Any) -> Any:
        return answer

    async def learn(modules: tuple[str, ...]) -> None:
        """Nothing to learn."""

    async def line(request: Coroutine[Any, Any, Any], path: bytes, *, writing: bool = False) -> Any:
        return await request

    fake: Any = SimpleNamespace(ask=ask, learn=learn, greeting=GreetingReply("", "", "", ("sha256",), (), 0))
    try:
        asyncio.run(question(HelperMachine(fake, line, SimpleNamespace(name="oak"))))
    except StoreError as error:
        assert error.store == "oak"


@given(st.lists(st.binary(max_size=40) | JSON.map(lambda value: json.dumps(value).encode())))
def test_any_line_of_a_helper(lines: list[bytes]) -> None:
    """It answers, or it has ended: nobody waits for ever, and nothing else is raised."""

    async def work() -> None:
        stream = asyncio.StreamReader()
        pipe: Any = SimpleNamespace(stdin=SimpleNamespace(write=lambda data: None), stdout=stream, close=lambda: None)
        helper = Helper(pipe)
        helper._reading = asyncio.create_task(helper._read_answers(_lines(stream)))
        asking = asyncio.ensure_future(helper.ask("clock"))
        await asyncio.sleep(0)
        for each in lines:
            stream.feed_data(each + b"\n")
        stream.feed_eof()
        try:
            assert isinstance(await asyncio.wait_for(asking, 1), dict)
        except (StoreError, OSError, BareFailure):
            pass
        assert helper._reading.done() and helper._reading.exception() is None

    asyncio.run(work())


@pytest.mark.parametrize(("size", "sound"), [(2**63 - 1, True), (2**63, False), (2**64 - 1, False)])
def test_sizes_that_no_file_has(size: int, sound: bool) -> None:
    """They would not fit into the journal."""
    for packet in (attributes(size), struct.pack(">IQ", 1, size)):
        if sound:
            assert decode_attributes(packet, 0)[0].size == size
        else:
            with pytest.raises(Nonsense):
                decode_attributes(packet, 0)
