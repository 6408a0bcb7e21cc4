"""A node that is open: one login for many commands, batches in the keeper, and every way in which it ends."""

from __future__ import annotations

import asyncio
import contextlib
import json
import os
import signal
import subprocess
import time
from collections.abc import AsyncIterator
from pathlib import Path
from typing import Any

import pytest

from conftest import Far, Practice, Program, moment, part_file, wait_for
from processes import runs, served_by, times_open
from secrets_left import traces
from terminal import Terminal, log_in
from yatagan.bundles.by_node import contents_there
from yatagan.cli.views.login_questions import Unattended
from yatagan.config.home import Home
from yatagan.config.nodes import NodeBook
from yatagan.keeper.client import Keeper
from yatagan.keeper.endpoint import Endpoint
from yatagan.keeper.store import KeeperSource, KeeperStore


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
