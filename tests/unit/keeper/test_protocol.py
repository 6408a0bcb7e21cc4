"""What a keeper and a command say to each other, and where they meet."""

from __future__ import annotations

import asyncio
import contextlib
import os
import signal
import socket
import tempfile
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from yatagan.batches.events import StepSettled
from yatagan.batches.states import Evidence, StepState
from yatagan.batches.steps import StepKind
from yatagan.config.home import Home
from yatagan.errors import BatchInUse, ChangedHostKey, NeedsAnswer, Refused, StoreError, YataganError
from yatagan.faults import Fault
from yatagan.keeper import endpoint
from yatagan.keeper.client import codec
from yatagan.keeper.endpoint import Endpoint, KeeperEnd
from yatagan.keeper.protocol import Codec, Gone, Peer
from yatagan.stores.interface import Facts, Kind


def test_where_keeper_and_commands_meet(tmp_path: Path) -> None:
    def home(runtime: Path) -> Home:
        return Home(tmp_path, tmp_path, tmp_path, runtime)

    near = Endpoint(home(tmp_path / "run"), "oak")
    assert near.socket != Endpoint(Home(tmp_path / "other", tmp_path, tmp_path, tmp_path / "run"), "oak").socket
    far = Endpoint(home(tmp_path / ("deep" * 40)), "n" * 32)
    assert len(os.fsencode(far.socket)) <= 103 and far.socket.parent != tmp_path / ("deep" * 40)
    near.prepare()
    assert near.socket.parent.stat().st_mode & 0o777 == 0o700 and near.connect() is None
    near.take()
    again = Endpoint(home(tmp_path / "run"), "oak")
    with pytest.raises(Refused):
        again.take()
    near.leave(KeeperEnd(7.0, "its time was up"))
    assert os.listdir(near.socket.parent) == [near.socket.with_suffix(".ended").name]
    assert again.ending() == KeeperEnd(7.0, "its time was up")
    again.take()
    assert again.ending() is None
    near.leave(None)  # who has nothing here any more takes nothing away
    with pytest.raises(Refused):
        near.take()
    again.leave(None)
    near.socket.parent.chmod(0o750)
    with pytest.raises(Refused):
        near.prepare()
    (tmp_path / "link").symlink_to(tmp_path / "run")
    with pytest.raises(Refused):
        Endpoint(home(tmp_path / "link"), "oak").prepare()


@pytest.mark.skipif(os.geteuid() != 0, reason="only root can be somebody else")
def test_nobody_else_is_served() -> None:
    with tempfile.TemporaryDirectory() as directory, socket.socket(socket.AF_UNIX) as listener:
        listener.bind(f"{directory}/sock")
        for place, mode in ((directory, 0o755), (f"{directory}/sock", 0o777)):
            os.chmod(place, mode)  # so that only the check itself is in the way
        listener.listen()
        for user, ours in ((65534, False), (0, True)):
            child = os.fork()
            if child == 0:
                os.setuid(user)
                with socket.socket(socket.AF_UNIX) as near:
                    near.connect(f"{directory}/sock")
                os._exit(0)
            assert os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) == 0
            connection, _ = listener.accept()
            with connection:
                assert endpoint.is_ours(connection) is ours


WHOLE = st.recursive(
    st.none()
    | st.booleans()
    | st.integers()
    | st.floats(allow_nan=False)
    | st.text()
    | st.binary()
    | st.sampled_from([*Kind, *Fault])
    | st.builds(Facts, st.sampled_from(list(Kind)), st.integers(), st.integers(), st.integers()),
    lambda inner: st.lists(inner).map(tuple) | st.dictionaries(st.text(), inner),
    max_leaves=8,
)


@settings(max_examples=60)
@given(WHOLE)
def test_values_arrive_as_they_were(value: Any) -> None:
    assert _through(codec(), value) == value


def _through(spoken: Codec, value: Any) -> Any:
    frame = spoken.pack(value)
    head = int.from_bytes(frame[:4])
    return spoken.unpack(frame[8 : 8 + head], frame[8 + head :])


@given(st.binary(max_size=60), st.binary(max_size=9))
def test_noise_is_refused(head: bytes, body: bytes) -> None:
    with contextlib.suppress(ValueError):
        codec().unpack(head, body)


@pytest.mark.parametrize(
    "error",
    [
        StoreError(Fault.NO_SPACE, b"/fen/\xff", store="oak", detail="no space"),
        ChangedHostKey("oak", "oak.fen.example", "SHA256:x", ("SHA256:y",), "known_hosts"),
        NeedsAnswer("oak", "Password: "),
        BatchInUse("261125-abcd", "process 1 on here"),
    ],
    ids=lambda error: type(error).__name__,
)
def test_errors_arrive_with_all_that_they_tell(error: YataganError) -> None:
    arrived = _through(codec(), error)
    assert type(arrived) is type(error) and vars(arrived) == vars(error) and str(arrived) == str(error)


def test_only_what_is_ours_travels() -> None:
    event = StepSettled(1, StepKind.FILE, b"a", 3, StepState.IN_PLACE, Evidence.SENT, None, "")
    assert _through(codec(), event) == event
    for stranger in (object(), Path("/"), ValueError("x"), signal.SIGINT):
        with pytest.raises(TypeError):
            codec().pack(stranger)


def test_a_peer_that_goes_away_in_the_middle() -> None:
    async def work() -> None:
        async def handle(what: str, values: tuple[Any, ...]) -> Any:
            if what == "wrong":
                raise StoreError(Fault.DENIED, b"/x")
            if what == "mistake":
                raise ZeroDivisionError
            await asyncio.sleep(3600)

        near, far = socket.socketpair()
        heard: list[Any] = []
        ends = []
        for end in (near, far):
            reader, writer = await asyncio.open_unix_connection(sock=end)
            ends.append(Peer(codec(), reader, writer, handle, lambda what, values: heard.append((what, values))))
        here, there = ends
        with pytest.raises(StoreError):
            await here.ask("wrong")
        with pytest.raises(YataganError, match="a fault in Yatagan"):
            await here.ask("mistake")
        there.tell("news", 1, b"two")
        waiting = asyncio.ensure_future(here.ask("wait"))
        await asyncio.sleep(0.1)
        await there.close()
        with pytest.raises(Gone):
            await waiting
        with pytest.raises(Gone):
            await here.ask("anything")
        assert heard == [("news", (1, b"two"))]
        await here.close()

    asyncio.run(work())


def test_news_that_cannot_be_told_end_the_conversation_with_the_reason() -> None:
    """As when the terminal has gone: whoever waits for the answer must not take it for the keeper's end."""

    async def work() -> None:
        async def handle(what: str, values: tuple[Any, ...]) -> Any:
            ends[1].tell("news")
            await asyncio.sleep(3600)

        def hear(what: str, values: tuple[Any, ...]) -> None:
            raise BrokenPipeError

        near, far = socket.socketpair()
        ends = []
        for end in (near, far):
            reader, writer = await asyncio.open_unix_connection(sock=end)
            ends.append(Peer(codec(), reader, writer, handle, hear))
        with pytest.raises(BrokenPipeError):
            await ends[0].ask("carry")
        for peer in ends:
            await peer.close()

    asyncio.run(work())


def test_what_is_too_much_for_one_message_is_an_error_and_not_a_silence() -> None:
    async def work() -> None:
        async def handle(what: str, values: tuple[Any, ...]) -> Any:
            return b"x" * (17 << 20) if what == "much" else len(values[0])

        near, far = socket.socketpair()
        ends = []
        for end in (near, far):
            reader, writer = await asyncio.open_unix_connection(sock=end)
            ends.append(Peer(codec(), reader, writer, handle, lambda what, values: None))
        for question in (("much",), ("count", b"x" * (17 << 20))):
            with pytest.raises(YataganError, match="too much to be said at once"):
                await ends[0].ask(*question)
        assert await ends[0].ask("count", b"x" * (15 << 20)) == 15 << 20
        for peer in ends:
            await peer.close()

    asyncio.run(work())
