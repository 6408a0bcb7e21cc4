"""A node that is open: one login for many commands, batches in the keeper, and every way in which it ends."""

from __future__ import annotations

import asyncio
import contextlib
import json
import os
import signal
import socket
import subprocess
import tempfile
import time
from collections.abc import AsyncIterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import Far, Practice, Program, moment, part_file, wait_for
from processes import runs, served_by, times_open
from terminal import Terminal, log_in
from test_login import traces
from yatagan.batches.events import StepSettled
from yatagan.batches.states import Evidence, StepState
from yatagan.batches.steps import StepKind
from yatagan.bundles.by_node import contents_there
from yatagan.cli.views.login_questions import Unattended
from yatagan.config.home import Home
from yatagan.config.nodes import NodeBook
from yatagan.errors import BatchInUse, ChangedHostKey, NeedsAnswer, Refused, StoreError, YataganError
from yatagan.faults import Fault
from yatagan.keeper import endpoint
from yatagan.keeper.client import Keeper, codec
from yatagan.keeper.endpoint import Endpoint, KeeperEnd
from yatagan.keeper.protocol import Codec, Gone, Peer
from yatagan.keeper.store import KeeperSource, KeeperStore
from yatagan.stores.interface import Facts, Kind


@pytest.fixture
def bittern(program: Program, practice: Practice) -> Far:
    """The strict practice node, open."""
    far = practice.far("bittern")
    program.know(far)
    reopen(program, practice)
    return far


def reopen(program: Program, practice: Practice) -> None:
    terminal = Terminal(program, "node", "open", "bittern")
    log_in(terminal, practice)
    assert terminal.end() == 0, terminal.seen
    assert "bittern is open until" in terminal.seen


def openness(program: Program) -> Any:
    (node,) = program.json("node", "list")["nodes"]
    return node["open"]


def start_stage(program: Program, practice: Practice) -> subprocess.Popen[str]:
    """A stage that takes ten seconds, some way into its file."""
    (program.directory / "big").write_bytes(os.urandom(40_000_000))
    practice.wrong("bittern", max_rate="4MB")
    stage = program.start("stage", "big", "bittern:")
    parts = practice.site.home("bittern")
    wait_for(lambda: part_file(parts, 500_000, ".yatagan-*-1-*.part") is not None)
    return stage


def is_whole(program: Program, far: Far) -> bool:
    return (far.root / "big").read_bytes() == (program.directory / "big").read_bytes()


# -- what an open node is good for -----------------------------------------------------------------------


def test_commands_use_the_login_and_no_secret_stays(program: Program, practice: Practice) -> None:
    program.know(practice.far("bittern"))
    password = practice.site.password.read_text()
    terminal = Terminal(program, "node", "open", "bittern", "--for", "30m")
    code = log_in(terminal, practice)
    assert terminal.end() == 0
    state = openness(program)
    assert state["batches"] == [] and 1700 < moment(state["closes_at"]) - time.time() < 1900
    assert [traces(secret, program.home) for secret in (password, code)] == [[], []]
    assert "0                    0" in _limit(state["process"], "Max core file size")
    assert program.json("node", "check", "bittern")["questions"] == 2
    assert program.json("node", "open", "bittern", "--for", "2h")["open"]["closes_at"] > state["closes_at"]
    said = program("node", "remove", "bittern", expect=5).stderr
    assert "bittern is open" in said and "node close" in said
    assert "is closed" in program("node", "close", "bittern").stdout
    assert "was not open" in program("node", "close", "bittern").stdout
    assert "no terminal to answer" in program("list", "bittern:", expect=3).stderr
    assert "was open" not in program("node", "list").stdout  # it was closed by hand
    wait_for(lambda: not runs(state["process"]))


def _limit(pid: int, name: str) -> str:
    return next(line for line in Path(f"/proc/{pid}/limits").read_text().splitlines() if line.startswith(name))


def test_what_goes_wrong_is_told_as_without_a_keeper(program: Program, bittern: Far) -> None:
    (program.directory / "fen").mkdir()
    assert "bittern:/gone: there is no such file" in program("list", "bittern:gone", expect=2).stderr
    (bittern.root / "taken").write_text("x")
    assert "exists already" in program("mkdir", "bittern:taken", expect=1).stderr
    strange = b"a\nb\xff"
    os.makedirs(os.fsencode(bittern.root) + b"/fen/" + strange)
    assert "a\\nb\\xff/" in program("list", "bittern:fen").stdout
    program("node", "change", "bittern", "--user", "somebody", "--without", "port")
    said = program("list", "bittern:", expect=5).stderr
    assert "bittern was changed since it was opened" in said and "node close" in said


def test_an_unknown_host_key_is_asked_about_while_opening(program: Program, practice: Practice) -> None:
    add = practice.far("bittern").add
    program(*add[: add.index("--trust")])
    assert "was not accepted yet" in program("node", "open", "bittern", expect=3).stderr
    terminal = Terminal(program, "node", "open", "bittern")
    terminal.expect(practice.site.fingerprint("bittern"))
    terminal.expect("?")
    terminal.type("y")
    log_in(terminal, practice)
    assert terminal.end() == 0, terminal.seen


@pytest.mark.parametrize("press", ["\x03", "\x04"], ids=["Ctrl-C", "Ctrl-D"])
def test_a_login_that_is_given_up_leaves_nothing_behind(program: Program, practice: Practice, press: str) -> None:
    program.know(practice.far("bittern"))
    terminal = Terminal(program, "node", "open", "bittern")
    terminal.expect("Password:")
    terminal.press(press)
    assert terminal.end() == 3 and "Traceback" not in terminal.seen
    assert openness(program) is None
    assert (program.home / "keepers" / "bittern.log").read_text() == ""


# -- batches ---------------------------------------------------------------------------------------------


def test_a_batch_inside_the_keeper(program: Program, practice: Practice, bittern: Far) -> None:
    stage = start_stage(program, practice)
    state = openness(program)
    (batch,) = state["batches"]
    assert "big" not in program("list", "bittern:").stdout  # others are served meanwhile
    assert "moving now" in program("batch", "show", batch).stdout
    assert f"bittern carries {batch}" in program("node", "list").stdout
    held = program("batch", "resume", batch, expect=5).stderr
    assert "is being carried" in held and str(state["process"]) in held
    assert "is being carried" in program("node", "close", "bittern", expect=5).stderr
    stage.send_signal(signal.SIGINT)
    assert stage.wait(20) == 4
    practice.wrong("bittern")
    assert program.json("batch", "show")["state"] == "interrupted"
    done = program.json("batch", "resume")
    assert done["good"] and is_whole(program, bittern)
    assert done["sent_again_bytes"] == 0  # what was answered before the stop is known to be there
    log = (program.home / "batches" / batch / "log.jsonl").read_text()
    assert "connection lost" not in log
    back = program.json("stage", "bittern:big", "back")["batch"]
    assert back["evidence"] == {"on-arrival": 1}
    assert len(program.json("ledger", "show")["records"]) == 2


@pytest.mark.parametrize("victim", ["command", "keeper"])
def test_killing_either_side_of_a_batch_loses_nothing(
    program: Program, practice: Practice, bittern: Far, victim: str
) -> None:
    stage = start_stage(program, practice)
    keeper = openness(program)["process"]
    os.kill(stage.pid if victim == "command" else keeper, signal.SIGKILL)
    said = stage.communicate(timeout=20)[0]
    practice.wrong("bittern")
    if victim == "keeper":
        assert stage.returncode == 4 and "Nothing is lost" in said and "it ended just now" in said
        assert openness(program) is None
        reopen(program, practice)
    else:
        wait_for(lambda: not openness(program)["batches"])
        assert openness(program)["process"] == keeper
    assert program.json("batch", "show")["state"] == "interrupted"
    assert program.json("batch", "resume")["good"] and is_whole(program, bittern)


def test_a_line_that_is_lost_in_a_batch_asks_its_command(program: Program, practice: Practice, bittern: Far) -> None:
    (program.directory / "big").write_bytes(os.urandom(3_000_000))
    practice.wrong("bittern", max_rate="2MB", cut_after="1MB")
    keeper = openness(program)["process"]
    terminal = Terminal(program, "stage", "big", "bittern:")
    terminal.expect("the connection was lost")
    log_in(terminal, practice)
    assert terminal.end() == 0 and "the connection is back" in terminal.seen
    assert is_whole(program, bittern) and openness(program)["process"] == keeper

    (bittern.root / "big").unlink()
    practice.wrong("bittern", max_rate="2MB", cut_after="1MB")
    program("stage", "big", "bittern:", expect=3)  # and now nobody is there
    assert program.json("batch", "show")["state"] == "needs a login"
    wait_for(lambda: not runs(keeper))
    assert "the connection was lost" in program("node", "list").stdout


@pytest.mark.server
def test_a_file_server_that_dies_costs_no_login(program: Program, oak: Far) -> None:
    """Its process, and the helper's: another channel is opened on the same connection, and a batch goes on."""
    program("node", "open", "oak")
    keeper, port = openness(program)["process"], int(oak.add[oak.add.index("--port") + 1])
    for process in ("sftp-server", "python3"):
        wait_for(lambda process=process: len(served_by(port, process)) == 1)  # one that was replaced may be ending
        (victim,) = served_by(port, process)
        os.kill(victim, signal.SIGKILL)
        wait_for(lambda victim=victim: not runs(victim))
        (program.directory / process).write_text("a")
        done = program.json("stage", process, "oak:")["batch"]
        assert done["good"] and done["evidence"] == {"on-node": 1}
    assert openness(program)["process"] == keeper


# -- ends ------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("how", "why"),
    [
        ("line", "the connection was lost"),
        ("time", "its time was up"),
        ("signal", "a signal ended it"),
        ("socket", "its socket was taken away"),
    ],
    ids=["line", "time", "signal", "socket"],
)
def test_every_end_is_clean_and_told(program: Program, practice: Practice, bittern: Far, how: str, why: str) -> None:
    if how == "line":
        program("node", "close", "bittern")
        practice.wrong("bittern", kill_after="2s")
        reopen(program, practice)
    keeper = openness(program)["process"]
    if how == "time":
        program("node", "open", "bittern", "--for", "1s")
    elif how == "signal":
        os.kill(keeper, signal.SIGTERM)
    elif how == "socket":
        home = Home(program.home, program.home, program.home, Path("/tmp", f"yatagan-{os.getuid()}"))
        Endpoint(home, "bittern").socket.unlink()
    wait_for(lambda: not runs(keeper))
    assert f": {why}" in program("node", "list").stdout
    assert "no terminal to answer" in program("list", "bittern:", expect=3).stderr
    assert (program.home / "keepers" / "bittern.log").read_text() == ""


def test_a_keeper_that_does_not_answer_is_named(program: Program, practice: Practice) -> None:
    program.know(practice.far())
    program("node", "open", "heron")
    keeper = openness(program)["process"]
    os.kill(keeper, signal.SIGSTOP)
    try:
        assert f"heron: using its open login failed: its process {keeper} does not answer" in (
            program("node", "list").stderr
        )
    finally:
        os.kill(keeper, signal.SIGCONT)


# -- the socket ------------------------------------------------------------------------------------------


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


# -- the wire --------------------------------------------------------------------------------------------

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


# -- much at once ----------------------------------------------------------------------------------------


@pytest.mark.server
def test_trees_whose_names_are_more_than_one_message(program: Program, oak: Far) -> None:
    """What a node is told of a bundle that it makes, and what it tells of one that it has read, comes in portions."""
    tree = oak.root / "tree"
    tree.mkdir()
    names = [f"{number:05}" + "é" * 120 for number in range(12_000)]
    for name in names:
        (tree / name).touch()
    spelled = sum(len(json.dumps(os.fsencode(name).decode("latin-1"))) for name in names)
    assert spelled > 16 << 20  # what one message may have
    program("node", "open", "oak")
    made = program.json("bundle", "make", "oak:tree", "--output", "oak:tree.tar")
    assert made["files"] == len(names)

    async def look() -> None:
        async with opened(program) as store:
            assert len(await contents_there(store, os.fsencode(oak.root / "tree.tar"))) == len(names)

    asyncio.run(look())


@contextlib.asynccontextmanager
async def opened(program: Program) -> AsyncIterator[KeeperStore]:
    """The node oak, through its keeper."""
    home = Home(program.home, program.home, program.home / ".ssh", Path("/tmp", f"yatagan-{os.getuid()}"))
    node = NodeBook(home.nodes_file).get("oak")
    store = await KeeperSource(Keeper(Endpoint(home, "oak"), Unattended()), node).open()
    try:
        yield store
    finally:
        await store.close()


@pytest.mark.server
def test_a_listing_that_nobody_wants_any_more_is_closed(program: Program, oak: Far) -> None:
    (oak.root / "many").mkdir()
    for number in range(400):
        (oak.root / "many" / str(number)).touch()
    program("node", "open", "oak")
    place = os.fsencode(oak.root / "many")

    async def look() -> None:
        for hang_up in (False, True):
            async with opened(program) as store:
                listing = store.entries(place)
                assert await anext(listing)
                assert times_open(oak.root / "many") == 1
                await (store.close() if hang_up else listing.aclose())
                wait_for(lambda: times_open(oak.root / "many") == 0)

    asyncio.run(look())


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


@pytest.mark.server
def test_files_get_the_umask_of_the_command_that_brought_them(program: Program, oak: Far) -> None:
    """A keeper carries batches of many commands, side by side."""
    (oak.root / "fen").mkdir()
    (oak.root / "fen" / "a").write_text("a")
    program("node", "open", "oak")
    masks = (0o077, 0o002, 0o027)
    for mask in masks:
        program("stage", "oak:fen", oct(mask), "--modes", "site", preexec_fn=lambda mask=mask: os.umask(mask))
    for mask in masks:
        brought = program.directory / oct(mask) / "fen"
        assert (brought / "a").stat().st_mode & 0o777 == 0o666 & ~mask
        assert brought.stat().st_mode & 0o777 == 0o777 & ~mask
