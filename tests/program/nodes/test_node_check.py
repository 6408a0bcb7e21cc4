"""`node check`: what is found on each kind of node, and what it is taken to mean."""

from __future__ import annotations

from typing import Any

import click

from conftest import Far, Practice, Program, snapshot
from terminal import Terminal, log_in
from yatagan.stores.node_probe import EXTENSIONS


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
