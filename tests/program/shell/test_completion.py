"""Completion: what a shell is told, and that bash makes the right words of it."""

from __future__ import annotations

from pathlib import Path

import pytest

from conftest import YATAGAN, Practice, Program
from terminal import Terminal


def told(program: Program, typed: str) -> list[str]:
    done = program(env={"_YATAGAN_COMPLETE": "fish_complete", "_YATAGAN_TYPED": typed})
    assert done.stderr == ""
    return [line.removeprefix("word ") for line in done.stdout.splitlines()]


def test_what_a_shell_is_told(program: Program, practice: Practice) -> None:
    far = practice.far()
    program.know(far)
    program("area", "add", "heron", "scratch", str(far.root / "scratch"))
    for name in ("fen/2025/a", "fen/2025/b c", "fen/x\ny", "fen/.yatagan-1.part"):
        (far.root / name).parent.mkdir(parents=True, exist_ok=True)
        (far.root / name).touch()
    (program.directory / "here").touch()
    batch = program.json("stage", "here", "there")["batch"]["batch"]
    closed = {
        "yatagan li": ["list "],
        "yatagan stage here he": ["heron:", "file"],
        "yatagan list heron:": ["heron:@scratch/"],
        "yatagan list nowhere:x": [],
        "yatagan area remove heron ": ["scratch "],
        "yatagan node check ": ["heron "],
        "yatagan batch show ": [f"{batch} "],
        f"yatagan batch resume {batch[-4:-1]}": [f"{batch[-4:]} "],
        "yatagan stage --mod": ["--modes "],
    }
    assert {typed: told(program, typed) for typed in closed} == closed
    program("node", "open", "heron")
    opened = {
        "yatagan list heron:f": ["heron:fen/"],
        "yatagan stage heron:fen/": ["heron:fen/2025/"],
        "yatagan list heron:fen/2025/": ["heron:fen/2025/a ", "heron:fen/2025/b c "],
        "yatagan list heron:gone/": [],
    }
    assert {typed: told(program, typed) for typed in opened} == opened


@pytest.mark.skipif(not Path("/bin/bash").exists(), reason="no bash here")
def test_in_bash(program: Program, practice: Practice) -> None:
    program.know(practice.far())
    (program.directory / "two words").touch()
    shell = Terminal(program, "--norc", "-i", run="/bin/bash")
    shell.type(f'PATH="{Path(YATAGAN).parent}:$PATH"; eval "$(yatagan completion bash)"; complete -p yatagan')
    shell.expect("-F _yatagan_completion yatagan\r\n")
    for typed, becomes in (("yatagan list her", "on:"), ("yatagan list two", "\\ words"), ("yatagan compl", "etion ")):
        shell.press(typed + "\t")
        shell.expect(typed + becomes)
        shell.press("\x15")
    shell.type("exit")
    shell.end()
