"""`yatagan peek`: the beginning or the end of a file, and no more of it than that takes."""

from __future__ import annotations

import bz2
import gzip
import lzma
import os
import signal
import subprocess
from collections.abc import Callable

import pytest

from conftest import Far, Program
from terminal import Terminal


@pytest.mark.kept("openssh")
def test_files_packed_files_and_members(program: Program, far: Far) -> None:
    lines = "".join(f"{number},0.81\n" for number in range(50_000)).encode()
    logs = far.root / "logs"
    logs.mkdir()
    packed: dict[str, Callable[[bytes], bytes]] = {"gz": gzip.compress, "bz2": bz2.compress, "xz": lzma.compress}
    (logs / "flux.csv").write_bytes(lines)
    for ending, pack in packed.items():
        (logs / f"flux.csv.{ending}").write_bytes(pack(lines))
    subprocess.run(["zstd", "-q", "flux.csv"], cwd=logs, check=True)
    for name in ("flux.csv", *(f"flux.csv.{ending}" for ending in (*packed, "zst"))):
        place = f"{far.name}:logs/{name}"
        assert program("peek", place, "--lines", "2").stdout == "0,0.81\n1,0.81\n", name
        assert program("peek", place, "--lines", "2", "--end").stdout == "49998,0.81\n49999,0.81\n", name
        assert program("peek", place, "--bytes", "6").stdout == "0,0.81", name
    far_bundle = program.directory / "fen"
    far_bundle.mkdir()
    (far_bundle / "a.csv").write_bytes(lines)
    program("stage", "fen", f"{far.name}:vault", "--store", "bundle")
    for place in ("vault/fen/a.csv", "vault/fen.tar.zst/fen/a.csv", "vault/fen.tar.zst/a.csv"):
        assert program("peek", f"{far.name}:{place}", "--lines", "1", "--end").stdout == "49999,0.81\n", place
    subprocess.run(["tar", "czf", far.root / "fen.tgz", "fen"], cwd=program.directory, check=True)
    assert program("peek", f"{far.name}:fen.tgz/fen/a.csv", "--lines", "1").stdout == "0,0.81\n"
    answer = program.json("peek", f"{far.name}:logs/flux.csv", "--bytes", "6", "--end")
    assert (answer["text"], answer["begins_at_byte"], answer["whole"]) == (",0.81\n", len(lines) - 6, False)
    for place, why in (
        ("fen.tgz/gone", "no such file"),
        ("logs", "it is a directory"),
        ("logs/flux.csv/x", "not a dir"),
    ):
        assert why in program("peek", f"{far.name}:{place}", expect=None).stderr, place
    os.mkfifo(far.root / "pipe")
    assert "it is a fifo" in program("peek", f"{far.name}:pipe", expect=2).stderr


def test_a_terminal_gets_no_control_characters(program: Program) -> None:
    (program.directory / "evil").write_bytes(b"red \x1b[31m and \xc2\x9b\ttab\r\nnext\n")
    (program.directory / "raw.bin").write_bytes(bytes(range(256)))
    terminal = Terminal(program, "peek", "evil")
    terminal.end()
    assert "\\x1b[31m" in terminal.seen and "all of it" in terminal.seen
    terminal = Terminal(program, "peek", "raw.bin", "--bytes", "32")
    terminal.end()
    assert "00000010  10 11 12" in terminal.seen and "the first 32 B of 256 B" in terminal.seen


def test_what_is_appended_is_followed(program: Program) -> None:
    log = program.directory / "flux.log"
    log.write_text("1\n2\n3\n")
    running = program.start("peek", "flux.log", "--follow", "--lines", "2")
    out: list[str] = []

    def reads() -> None:
        assert running.stdout is not None
        out.append(running.stdout.readline())

    reads(), reads()
    with log.open("a") as file:
        file.write("4\n")
    reads()
    log.unlink()
    log.write_text("anew, and longer than before\n")
    reads()
    running.send_signal(signal.SIGINT)
    _, said = running.communicate(timeout=30)
    assert out == ["2\n", "3\n", "4\n", "anew, and longer than before\n"]
    assert running.returncode == 0 and "it begins anew" in said
