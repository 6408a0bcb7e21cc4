"""What is on its way at once, over how many lanes; the rate limit; and batches that move over several logins."""

from __future__ import annotations

import asyncio
import hashlib
import json
import os
import random
import signal
from pathlib import Path

import pytest

from conftest import Far, OpenSsh, Practice, Program, start_sshd, wait_for
from opened_nodes import home_of, opened
from processes import children, file_servers, login_processes, runs
from yatagan.stores.connection_history import ConnectionHistory, remember
from yatagan.stores.local import LocalStore
from yatagan.stores.sftp import SftpStore
from yatagan.transfer.carrier import Carrier
from yatagan.transfer.extents import Extents
from yatagan.transfer.file_digest import FileDigest
from yatagan.transfer.transfer import Transfer, TransferEnds, TransferReports, Tuning


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
        helper = store.login.helper
        helper.greeting = helper.greeting._replace(boot="that of another machine")
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
