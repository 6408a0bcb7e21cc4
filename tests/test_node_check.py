"""`node check`: what is found on each kind of node, and what it is taken to mean."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import click
import pytest

from conftest import Far, Practice, Program, snapshot
from terminal import Terminal, log_in
from yatagan.cli.commands.node_check import meaning
from yatagan.config.nodes import Role
from yatagan.faults import Fault
from yatagan.stores.node_probe import EXTENSIONS, Checkup

GOOD = Checkup(
    node="oak",
    role=Role.TRANSFER,
    cluster=None,
    address=("192.0.2.7", 22),
    user="mara",
    host_key="SHA256:abc",
    host_key_kind="ssh-ed25519",
    methods=["publickey"],
    questions=0,
    reaching=0.02,
    letting_in=0.1,
    server="SSH-2.0-OpenSSH_9.2",
    cipher="aes128-gcm@openssh.com",
    read_size=261120,
    write_size=261120,
    extensions=list(EXTENSIONS),
    sessions=8,
    sessions_more=True,
    commands="",
    python="3.9.2",
    start=b"/home/mara",
    trip=0.002,
    clock=0.1,
    free=10**12,
    same_disk=True,
    up=5e7,
    down=6e7,
    folds_case=False,
    shell_seconds=0.4,
)
NO_COMMANDS = replace(GOOD, python="", same_disk=False, clock=None, commands="commands are not allowed")

MEANINGS: list[tuple[Checkup, list[str]]] = [
    (GOOD, ["proven on the node"]),
    (replace(GOOD, same_disk=False), ["commands see another disk"]),
    (NO_COMMANDS, ["only by reading them back"]),
    (replace(NO_COMMANDS, extensions=[]), ["reading", "cannot be synced", "a moment", "from its beginning", "space"]),
    (replace(NO_COMMANDS, sessions=1, sessions_more=False), ["reading them back", "only one session"]),
    (replace(GOOD, read_size=32768), ["proven", "requests are small"]),
    (replace(GOOD, trip=0.1), ["proven", "107 a second"]),
    (replace(GOOD, clock=-90.0), ["proven", "set the clocks"]),
    (replace(GOOD, role=Role.LOGIN, cluster="fens"), ["made for logging in", "proven"]),
    (replace(GOOD, folds_case=True), ["proven", "differ in case alone"]),
    (replace(GOOD, writable=Fault.DENIED, up=None, down=None), ["name another with --start", "proven"]),
]


@pytest.mark.parametrize(("found", "told"), MEANINGS)
def test_what_it_means(found: Checkup, told: list[str]) -> None:
    lines = list(meaning(found))
    assert len(lines) == len(told)
    for line, words in zip(lines, told, strict=True):
        assert words in line


def test_a_node_that_is_ready(program: Program, far: Far) -> None:
    (far.root / "fen").mkdir()
    before = snapshot(far.root)
    shown = program("node", "check", far.name).stdout
    for words in ("ready", "by key", "offered: publickey", "on the same disk", "MB/s back", "proven on the node"):
        assert words in " ".join(shown.split()), shown
    found: dict[str, Any] = program.json("node", "check", far.name)
    assert (
        found["commands"]
        and found["writable"]
        and found["to_node_bytes_per_second"]
        and found["from_node_bytes_per_second"]
    )
    assert (
        set(found["extensions"]) == set(EXTENSIONS)
        and not found["folds_case"]
        and abs(found["clock_ahead_seconds"]) < 2
    )
    assert snapshot(far.root) == before, "a check leaves nothing behind"


def test_a_start_directory_that_takes_nothing(program: Program, oak: Far) -> None:
    add = list(oak.add)
    add[add.index("--start") + 1] = "/proc"
    program.save(*add)
    assert "nothing can be staged to its start directory" in " ".join(program("node", "check", "oak").stdout.split())


def test_a_node_for_files_only(program: Program, practice: Practice) -> None:
    program.know(practice.far("bittern"))
    terminal = Terminal(program, "node", "check", "bittern")
    log_in(terminal, practice)
    assert terminal.end() == 0
    shown = " ".join(click.unstyle(terminal.seen).split())
    assert "answers to 2 questions" in shown and "only by reading them back" in shown and "clock unknown" in shown


def test_how_far_one_comes(program: Program, practice: Practice) -> None:
    program("node", "add", "gone", "127.0.0.1", "--port", "1")
    shown = program("node", "check", "gone", expect=3).stdout.split("\n")
    assert [line.split()[-1] for line in shown[1:3]] == ["good", "failed"]
    program.know(practice.far("bittern"))
    assert "no terminal to answer" in program("node", "check", "bittern", expect=3).stdout
    assert program.json("node", "check", "bittern", expect=3)["error"]["step"] == "login"
    assert "no node is called" in program("node", "check", "nobody", expect=2).stderr
