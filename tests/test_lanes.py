"""What is on its way at once, over how many lanes; the rate limit; and batches that move over several logins."""

from __future__ import annotations

import asyncio
import hashlib
import json
import os
import random
import signal
from pathlib import Path
from types import SimpleNamespace
from typing import Any, cast

import pytest
from asyncssh.constants import MSG_CHANNEL_DATA, MSG_IGNORE
from hypothesis import given
from hypothesis import strategies as st

from conftest import Far, OpenSsh, Practice, Program, start_sshd, wait_for
from processes import children, file_servers, login_processes, runs
from yatagan.cli.words.caution_words import words_of
from yatagan.config.home import Home
from yatagan.config.nodes import NodeBook
from yatagan.config.settings import ConnectionSettings
from yatagan.nodes.prompts import NoPrompter
from yatagan.nodes.sftp_client import SftpClient
from yatagan.nodes.transport import PacketConnector
from yatagan.planning.cautions import look_at_line
from yatagan.planning.plan import Plan, Summary
from yatagan.stores.connection_history import ConnectionHistory, recall, remember
from yatagan.stores.in_flight import LANE_BYTES, FlowControl
from yatagan.stores.lane_logins import Allowed, Lane
from yatagan.stores.lanes import Lanes
from yatagan.stores.local import LocalStore
from yatagan.stores.node_source import NodeSource
from yatagan.stores.sftp import SftpStore
from yatagan.transfer.carrier import Carrier
from yatagan.transfer.extents import Extents
from yatagan.transfer.file_digest import FileDigest
from yatagan.transfer.rate_limit import RateLimit
from yatagan.transfer.transfer import Transfer, TransferEnds, TransferReports, Tuning

MB = 1_000_000


# -- without sockets -------------------------------------------------------------------------------------


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


# -- over a real server ----------------------------------------------------------------------------------


def home_of(program: Program) -> Home:
    return Home(program.home, program.home, program.home / ".ssh", program.home)


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


async def opened(program: Program, processes: int = 0) -> SftpStore:
    home = home_of(program)
    found = NodeBook(home.nodes_file).get("oak")
    return await NodeSource(found, home, ConnectionSettings(processes=processes), NoPrompter()).open()


async def with_lanes(store: SftpStore, lanes: int) -> None:
    store.flow.expect(lanes, 1e9)
    for _ in range(200):
        if len(list(store.lanes)) >= lanes or store.lanes.settled:
            return
        await asyncio.sleep(0.05)


async def carry(source: object, part: object, size: int, read: int, write: int) -> str:
    value = FileDigest()
    ends = TransferEnds(source, part, source, read, write)  # type: ignore[arg-type]
    reports = TransferReports(lambda count: None, lambda count: None, lambda extents, digest: None)
    way = Transfer(ends, size, Extents(), value, reports, asyncio.Event(), sync_last=True)
    assert await Carrier(Tuning(), asyncio.get_running_loop().time).carry(way)
    return value.hexdigest()


@pytest.mark.server
@pytest.mark.parametrize("processes", [0, 1, 2])
def test_a_file_is_striped_over_several_logins_and_comes_back(program: Program, oak: Far, processes: int) -> None:
    near, data = program.directory / "big", random.Random(3).randbytes((37 << 20) + 12345)
    near.write_bytes(data)

    async def go() -> None:
        here, there = LocalStore(b"/"), await opened(program, processes)
        noted: list[int] = []

        async def note(witness: str) -> None:
            noted.append(len(json.loads(witness)["node"]["processes"]))
            # A lane is written down before it carries anything, by its file server.
            assert noted[-1] >= before + len(list(there.lanes))

        before = len(json.loads(there.witness())["node"]["processes"])
        there.note_writers(note)
        await with_lanes(there, 3)
        assert len(list(there.lanes)) == 3 and noted[-1] >= before + 2
        beside = login_processes(os.getpid())
        assert len(beside) == processes
        path = os.fsencode(oak.root / "big")
        source, part = await here.open(os.fsencode(near)), await there.create_part(path)
        up = await carry(source, part, len(data), here.traits.read_size, there.traits.write_size)
        assert len(part._handles) >= 2  # type: ignore[attr-defined]
        await source.close()
        await part.close()
        source = await there.open(path)
        back = await here.create_part(os.fsencode(program.directory / "back"))
        down = await carry(source, back, len(data), there.traits.read_size, here.traits.write_size)
        assert (await source.facts()).size == len(data)
        await source.close()
        await back.close()
        assert up == down == hashlib.sha256(data).hexdigest()
        witness = there.witness()
        await there.close()
        assert not {*beside} & {*children(os.getpid())}, "one was not taken note of"
        again = await opened(program)
        assert await again.writers_gone(witness)
        await again.close()

    asyncio.run(go())
    assert (oak.root / "big").read_bytes() == data == (program.directory / "back").read_bytes()


@pytest.mark.server
@pytest.mark.parametrize(
    ("server", "logins", "processes", "lanes"),
    [
        ("", "1", 0, 8),
        ("MaxSessions 3\n", "1", 0, 2),
        ("MaxSessions 1\n", "4", 0, 4),
        ("MaxSessions 1\n", "1", 2, 1),
        ("MaxSessions 3\n", "3", 2, 8),  # the first has a session for the helper
    ],
    ids=["channels", "three-sessions", "one-session", "nothing-more", "channels-beside"],
)
def test_no_more_lanes_than_the_server_allows(
    program: Program, tmp_path: Path, server: str, logins: str, processes: int, lanes: int
) -> None:
    base = tmp_path / "sshd"
    base.mkdir()
    (tmp_path / "far").mkdir()
    child, port = start_sshd(base, server)
    try:
        import getpass

        far = OpenSsh(base, port, getpass.getuser()).far(tmp_path / "far")
        program(*far.add, "--logins", logins)

        async def go() -> int:
            store = await opened(program, processes)
            await with_lanes(store, 9)
            count = len(list(store.lanes))
            await store.make_directory(os.fsencode(tmp_path / "far" / "fen"), 0o755)  # it still works
            await store.close()
            return count

        assert asyncio.run(go()) == lanes
    finally:
        child.send_signal(signal.SIGTERM)
        child.wait(10)


@pytest.mark.server
@pytest.mark.parametrize("processes", [0, 2])
def test_no_lane_leads_to_another_machine(program: Program, oak: Far, processes: int) -> None:
    """Where an address stands for several machines, channels on the first login are all there are."""

    async def go() -> None:
        store = await opened(program, processes)
        assert store.login.helper is not None
        store.login.helper.greeting["boot"] = "that of another machine"
        await with_lanes(store, 3)
        assert list(store.lanes._logins._channels) == [store.login] and len(list(store.lanes)) == 3
        await store.close()
        assert not login_processes(os.getpid())

    asyncio.run(go())


@pytest.mark.server
def test_a_read_that_is_cancelled_before_it_begins_gives_its_lane_back(program: Program, oak: Far) -> None:
    (oak.root / "big").write_bytes(bytes(1 << 20))

    async def work() -> None:
        store = await opened(program)
        try:
            file = await store.open(os.fsencode(oak.root / "big"))
            for _ in range(20):
                reading = asyncio.ensure_future(file.read(0, 100_000))
                reading.cancel()
                await asyncio.gather(reading, return_exceptions=True)
            assert await file.read(0, 100_000) == bytes(100_000)
            assert [lane.load for lane in store.lanes] == [0]
            await file.close()
        finally:
            await store.close()

    asyncio.run(work())


@pytest.mark.server
def test_what_one_lane_keeps_back_comes_over_another(program: Program, oak: Far) -> None:
    data = random.Random(7).randbytes(24 << 20)
    (oak.root / "big").write_bytes(data)

    async def go() -> None:
        there = await opened(program)
        await with_lanes(there, 3)
        source = await there.open(os.fsencode(oak.root / "big"))
        size = there.traits.read_size

        async def some(start: int, end: int) -> bytes:
            reads = (source.read(at, min(size, end - at)) for at in range(start, end, size))
            return b"".join(await asyncio.gather(*reads))

        half = len(data) // 2
        assert await some(0, half) == data[:half]
        for _ in range(100):
            if len(source._handles) == 3:  # type: ignore[attr-defined]
                break
            await asyncio.sleep(0.05)
        kept = next(lane.process for lane in there.lanes if lane.process)
        os.kill(kept, signal.SIGSTOP)
        try:
            assert await asyncio.wait_for(some(half, len(data)), 30) == data[half:]
        finally:
            os.kill(kept, signal.SIGCONT)
        await source.close()
        await there.close()

    asyncio.run(go())


@pytest.mark.server
def test_a_login_among_several_may_die(program: Program, oak: Far) -> None:
    """Whichever dies, the batch gets its lines back and nothing is wrong in the end."""
    data = random.Random(4).randbytes(240 << 20)
    (program.directory / "big").write_bytes(data)
    remember(home_of(program), "oak", ConnectionHistory(3, 9e7, 0.05))

    run = program.start("stage", "big", "oak:", "--json")
    wait_for(lambda: len(file_servers(oak.root)) >= 2)
    os.kill(random.Random(5).choice(file_servers(oak.root)), signal.SIGKILL)
    said, errors = run.communicate(timeout=120)
    assert run.returncode == 0, errors
    done = json.loads(said)["batch"]
    assert done["good"] and done["evidence"] == {"on-node": 1}
    assert (oak.root / "big").read_bytes() == data
    assert [path.name for path in oak.root.iterdir()] == ["big"]


@pytest.mark.server
@pytest.mark.parametrize("end", ["one-beside", "us", "interrupt"])
def test_processes_beside_end_when_we_do_and_may_die(program: Program, oak: Far, end: str) -> None:
    data = random.Random(6).randbytes(110 << 20)
    (program.directory / "big").write_bytes(data)
    program("config", "set", "connection.processes", "2")
    remember(home_of(program), "oak", ConnectionHistory(3, 9e7, 0.05))
    run = program.start("stage", "big", "oak:", "--json", "--max-rate", "40MB/s")
    wait_for(lambda: len(login_processes(run.pid)) == 2 and any(oak.root.iterdir()))
    beside = login_processes(run.pid)
    if end == "one-beside":
        os.kill(beside[0], signal.SIGKILL)
    else:
        run.send_signal(signal.SIGKILL if end == "us" else signal.SIGINT)
    said, errors = run.communicate(timeout=120)
    wait_for(lambda: not any(map(runs, beside)))
    if end != "one-beside":
        assert run.returncode == (-signal.SIGKILL if end == "us" else 4)
        said = json.dumps({"batch": program.json("batch", "resume")})
    done = json.loads(said)["batch"]
    assert done["good"] and done["evidence"] == {"on-node": 1}, errors
    assert (oak.root / "big").read_bytes() == data
    assert [path.name for path in oak.root.iterdir()] == ["big"]


# -- from node to node -----------------------------------------------------------------------------------


@pytest.mark.server
def test_from_node_to_node_without_touching_this_disk(program: Program, practice: Practice, oak: Far) -> None:
    heron = practice.far()
    program.know(heron)
    rng = random.Random(6)
    (heron.root / "fen" / "empty").mkdir(parents=True)
    (heron.root / "fen" / "a\nb").write_bytes(b"odd")
    (heron.root / "fen" / "big").write_bytes(rng.randbytes(5 << 20))
    os.symlink("big", heron.root / "fen" / "link")
    for number in range(40):
        (heron.root / "fen" / f"{number}.csv").write_bytes(rng.randbytes(700))
    said = program("stage", "heron:fen", "oak:").stdout
    assert "by way of" in said and "on-node" in said
    for name in ("a\nb", "big", "17.csv"):
        assert (oak.root / "fen" / name).read_bytes() == (heron.root / "fen" / name).read_bytes()
    assert os.readlink(oak.root / "fen" / "link") == "big" and (oak.root / "fen" / "empty").is_dir()
    assert not list(program.directory.iterdir())
    assert program.json("stage", "heron:fen", "oak:")["batch"] is None
    back = program.json("stage", "oak:fen", "heron:copy", "--prove", "read-back")["batch"]
    assert back["good"] and back["evidence"] == {"read-back": 42}
