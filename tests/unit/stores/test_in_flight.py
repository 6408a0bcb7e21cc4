"""What is on its way at once, over how many lanes; and the rate limit."""

from __future__ import annotations

import asyncio
import random
from pathlib import Path
from types import SimpleNamespace
from typing import Any, cast

import pytest
from asyncssh.constants import MSG_CHANNEL_DATA, MSG_IGNORE
from hypothesis import given
from hypothesis import strategies as st

from yatagan.cli.words.caution_words import words_of
from yatagan.config.home import Home
from yatagan.nodes.sftp_client import SftpClient
from yatagan.nodes.transport import PacketConnector
from yatagan.planning.cautions import look_at_line
from yatagan.planning.plan import Plan, Summary
from yatagan.stores.connection_history import ConnectionHistory, recall, remember
from yatagan.stores.in_flight import LANE_BYTES, FlowControl
from yatagan.stores.lane_logins import Allowed, Lane
from yatagan.stores.lanes import Lanes
from yatagan.transfer.rate_limit import RateLimit

MB = 1_000_000


def line(
    rate: float, round_trip: float, *, seconds: float, lanes: int, block: int = 255 << 10, busy: float = 0.0
) -> FlowControl:
    """A flow after so long on a line that gives so much and holds what it must; each lane gives 2 MiB a round trip.

    For so much of the time we are `busy` ourselves.
    """
    now = 0.0
    flow = FlowControl(lambda: now, lambda: now * busy)
    flow.heard(round_trip)
    flow.lanes = lanes
    waiting: list[tuple[float, int]] = []
    free, owed = 0.0, 0
    while now < seconds:
        while flow.try_take(block):
            free = max(free, now) + block / min(rate, flow.lanes * LANE_BYTES / round_trip)
            waiting.append((free + round_trip, block))
        flow.short()
        now, count = waiting.pop(0)
        flow.answered(count)
        owed = max(owed, flow.used)
    return flow


@pytest.mark.parametrize("rate", [1 * MB, 20 * MB, 125 * MB, 400 * MB])
@pytest.mark.parametrize("round_trip", [0.0003, 0.01, 0.05, 0.2])
def test_what_is_on_the_way_is_what_the_line_holds_and_not_much_more(rate: float, round_trip: float) -> None:
    flow = line(rate, round_trip, seconds=40 * round_trip + 3, lanes=64)
    holds = rate * round_trip
    assert min(holds, 64 * LANE_BYTES) * 0.9 <= flow.limit <= 1.5 * holds + LANE_BYTES + (512 << 10)
    assert 0.7 * rate <= flow.rate <= 1.2 * rate


def test_few_lanes_ask_for_more_until_the_line_is_full() -> None:
    lanes, seen = 1, []
    while True:
        wanted = line(100 * MB, 0.05, seconds=2, lanes=lanes).lanes_wanted
        seen.append(wanted)
        if wanted <= lanes:
            break
        lanes = wanted
    assert 4 <= lanes <= 6 and seen == sorted(seen)
    assert line(150 * MB, 0.0003, seconds=2, lanes=1).lanes_wanted == 1


@given(st.lists(st.tuples(st.integers(1, 4000), st.floats(0, 3)), min_size=1, max_size=60), st.integers(1000, 50_000))
def test_the_pace_is_kept_within_every_second(pieces: list[tuple[int, float]], rate: int) -> None:
    now, gone = 0.0, []

    async def sleep(seconds: float) -> None:
        nonlocal now
        now += seconds

    async def go() -> None:
        nonlocal now
        limit = RateLimit(lambda: now, sleep)
        limit.rate = rate
        for size, idle in pieces:
            now += idle
            await limit.take(size)
            gone.append((now, size))

    asyncio.run(go())
    for start, _ in gone:
        within = [size for at, size in gone if start <= at < start + 1]
        assert sum(within) <= rate + max(within)


def test_nothing_is_lost_or_turned_round_beneath_ssh() -> None:
    """What is written in any portions comes out whole, and what arrives is handed over in order."""
    rng, sent, got = random.Random(1), bytearray(), bytearray()
    packets: list[int] = []

    class Wrapped(asyncio.Protocol):
        def connection_made(self, transport: asyncio.BaseTransport) -> None:
            self.transport = transport

        def data_received(self, data: bytes) -> None:
            assert len(data) <= 64 << 10
            got.extend(data)

        def send_packet(self, kind: int, *parts: bytes) -> None:
            packets.append(kind)

    async def echo(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        while data := await reader.read(1 << 20):
            writer.write(data)
            await writer.drain()
        writer.close()

    async def go() -> None:
        server = await asyncio.start_server(echo, "127.0.0.1", 0)
        transport, wrapped = await PacketConnector().create_connection(Wrapped, *server.sockets[0].getsockname()[:2])
        for _ in range(200):
            for _ in range(rng.randrange(6)):
                piece = rng.randbytes(rng.choice([1, 50, 32 << 10, 300 << 10]))
                sent.extend(piece)
                wrapped.transport.write(piece)  # type: ignore[attr-defined]
            await asyncio.sleep(0)
        while len(got) < len(sent):  # noqa: ASYNC110 there is nobody to tell
            await asyncio.sleep(0.01)
        for kind in (MSG_IGNORE, MSG_CHANNEL_DATA, MSG_IGNORE):
            wrapped.send_packet(kind)  # type: ignore[attr-defined]
        transport.close()
        server.close()

    asyncio.run(asyncio.wait_for(go(), 60))
    assert got == sent and packets == [MSG_CHANNEL_DATA]


def test_what_was_found_out_is_remembered(tmp_path: Path) -> None:
    home = Home(tmp_path, tmp_path, tmp_path, tmp_path)
    assert recall(home, "oak") == ConnectionHistory()
    remember(home, "oak", ConnectionHistory(5, 9e7, 0.05))
    assert recall(home, "oak") == ConnectionHistory(5, 9e7, 0.05)
    for spoiled in ("", "[]", '{"lanes": "many", "rate": 1, "round_trip": 1}'):
        (home.connections / "oak.json").write_text(spoiled)
        assert recall(home, "oak") == ConnectionHistory()


@pytest.mark.parametrize(
    ("round_trip", "size", "told"),
    [(0.05, 300 * MB, True), (None, 300 * MB, False), (0.001, 300 * MB, False), (1, 1, False)],
)
def test_a_lone_login_on_a_long_line_is_told(round_trip: float | None, size: int, told: bool) -> None:
    store = SimpleNamespace(name="bittern", lone_round_trip=round_trip)
    plan = Plan(b"/", [], [], 1, None, Summary(size=size))
    found = [words_of(caution).text for caution in look_at_line(plan, [store])]
    assert bool(found) == told and all("50 ms" in each and "83.9 MB/s" in each for each in found)


@pytest.mark.parametrize(("busy", "crowded"), [(0.2, False), (0.6, False), (0.8, True), (1.0, True)])
def test_a_process_that_can_do_no_more_wants_others_beside_it(busy: float, crowded: bool) -> None:
    flow = line(300 * MB, 0.0003, seconds=2, lanes=1, busy=busy)
    assert flow.crowded == crowded and flow.lanes_wanted == 1
    before = flow.limit
    flow.lanes = 3
    assert not flow.crowded
    # Each of them always has something to do, but only if it was our work that needed them.
    assert (flow.limit >= before + 2 * LANE_BYTES) == crowded


def test_lanes_that_cannot_be_had_are_not_asked_for_again_and_again(monkeypatch: pytest.MonkeyPatch) -> None:
    """One login whose server refuses every further channel, while more lanes are wanted all the time."""
    tries = 0

    async def refused(like: object) -> SftpClient:
        nonlocal tries
        tries += 1
        raise ConnectionError("open failed")

    async def work() -> None:
        link = SimpleNamespace(ours=True, channel=refused)
        login = type("Lone", (), {"link": link, "files": None, "helper": None, "mark": "x"})()
        lanes = Lanes(cast(Any, login), Allowed(), lambda login: None)
        monkeypatch.setattr(Lanes, "_wanted", lambda self: 8)
        opened = 0
        by_channel = lanes._logins._by_channel

        async def counted() -> Lane | None:
            nonlocal opened
            opened += 1
            return await by_channel()

        monkeypatch.setattr(lanes._logins, "_by_channel", counted)
        for _ in range(5_000):
            lanes._grow()
            await asyncio.sleep(0)
        await lanes.close()
        assert opened < 50, opened

    asyncio.run(work())
    assert tries == 1
