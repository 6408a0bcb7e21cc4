"""A server that lies: whatever it says, the program ends in time, in little memory, with one line and no wrong verdict.

The server (`hostile.py`) is started by a real SSH server, and tells one lie at a time.
"""

from __future__ import annotations

import os
import signal
import sys
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path
from typing import Any

import pytest

from conftest import OpenSsh, Program, run_forked, snapshot, start_sshd
from terminal import Terminal

pytestmark = pytest.mark.server

#: Seconds and bytes that a command may take, whatever the server does.
LIMIT, MEMORY = 40, 200 << 20

#: A lie, and the commands that it is told to.
LIES: list[tuple[str, str]] = [
    # Silence at any request.
    *((f"{request}:silent", "down") for request in ("init", "realpath", "lstat", "opendir", "readdir", "open", "read")),
    *((f"{request}:silent", "up") for request in ("mkdir", "write", "close", "rename", "fsetstat", "fsync")),
    ("extended:silent", "up"),
    ("readlink:silent", "down"),
    ("read:late", "down"),
    # Names.
    *((f"names:{name}", "list down") for name in ("climbs", "slash", "nul", "no-name", "long", "control", "twice")),
    *((f"names:{name}", "list down") for name in ("differs", "same-for-ever", "endless", "ours", "itself")),
    ("names:not-there", "down"),
    # Attributes.
    *((f"facts:{fact}", "down") for fact in ("none", "large", "larger", "grown", "directory", "fifo")),
    *((f"facts:{fact}", "down") for fact in ("unknown", "moving", "extended")),
    # Bytes.
    *((f"bytes:{how}", "down") for how in ("few", "more", "early-end", "no-end", "nothing")),
    ("drops:", "up"),
    ("half:", "up"),
    ("drops:", "up --prove read-back"),
    ("fsync:refuses", "up"),
    ("rename:not-done", "up --prove none"),
    ("rename:done-but-refused", "up --prove none"),
    ("write:no-room", "up"),
    ("write:refuses", "up"),
    ("no-space:", "up"),
    ("space:", "up"),
    ("open:denies", "down"),
    *((f"{request}:refuses", "down") for request in ("open", "read", "readlink")),
    *((f"{request}:refuses", "list down") for request in ("opendir", "readdir")),
    ("mkdir:denies", "up"),
    ("lstat:strange-code", "list"),
    ("close:refuses", "up"),
    # The protocol.
    *((f"lstat:{how}", "list") for how in ("other-number", "twice", "other-kind", "unknown-kind", "short", "empty")),
    *((f"readdir:{how}", "list") for how in ("huge", "cut-off", "dies", "says-good", "short")),
    *((f"read:{how}", "down") for how in ("other-kind", "short", "dies", "says-good", "twice")),
    *((f"realpath:{how}", "list") for how in ("relative", "none", "several", "control", "nul")),
    *((f"limits:{how}", "up") for how in ("zero", "tiny", "large")),
    ("version:", "list"),
    ("extension:", "list"),
    ("banner:", "list"),
    *((f"target:{how}", "down") for how in ("nul", "long", "out", "empty")),
]


@pytest.fixture(scope="module")
def liar(openssh: OpenSsh, tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[OpenSsh, Path]]:
    base = tmp_path_factory.mktemp("liar")
    lie = base / "lie"
    lie.write_text("nothing")
    here = Path(__file__).parents[1] / "support" / "hostile.py"
    (base / "files").write_text(f"#!/bin/sh\nexec {sys.executable} -I -S {here} {lie}\n")
    (base / "files").chmod(0o755)
    child, port = start_sshd(base, sftp=str(base / "files"))
    yield OpenSsh(base, port, openssh.user), lie
    child.send_signal(signal.SIGTERM)
    child.wait(10)


@pytest.fixture
def ground(liar: tuple[OpenSsh, Path], program: Program, tmp_path: Path) -> Path:
    """A node with a tree, and a tree here; the file in which the lie is chosen."""
    return prepare(liar, program, tmp_path)


def prepare(liar: tuple[OpenSsh, Path], program: Program, tmp_path: Path) -> Path:
    """See `ground`."""
    server, lie = liar
    (program.home / "settings.toml").write_text(
        '[connection]\npatience = "2s"\nsilence = "2s"\nkeepalive = "5s"\nshell = "10s"\n[tree]\nentries = 4000\n'
    )
    far = tmp_path / "far"
    for root in (far / "tree", program.directory / "tree"):
        (root / "sub").mkdir(parents=True)
        for name in ("a", "b", "sub/c"):
            (root / name).write_bytes(name.encode() * 40_000)
            os.utime(root / name, (1_600_000_000, 1_600_000_000))
        (root / "link").symlink_to("a")
    lie.write_text("nothing:")
    program.know(server.far(far))
    return lie


def run(program: Program, *words: str) -> tuple[int, str, int]:
    """Status, output, and the most memory that the program had, in bytes."""
    memory = 0

    def watch(process: int) -> None:
        nonlocal memory
        with suppress(OSError, IndexError):
            used = Path(f"/proc/{process}/status").read_text().partition("VmHWM:")[2].split()[0]
            memory = max(memory, int(used) * 1024)

    done = run_forked(words, program.directory, program.environment(), LIMIT, watch)
    return done.returncode, done.stdout + done.stderr, memory


COMMANDS: dict[str, list[str]] = {
    "list": ["list", "oak:tree", "--recursive"],
    "down": ["stage", "oak:tree", "back"],
    "up": ["stage", "tree", "oak:up"],
    "bundle": ["bundle", "make", "oak:tree", "--output", "oak:tree.tar.gz"],
}


@pytest.mark.parametrize(("lie", "commands"), LIES, ids=[f"{lie} {commands}" for lie, commands in LIES])
def test_a_lie(lie: str, commands: str, program: Program, ground: Path, tmp_path: Path) -> None:
    words, _, more = commands.partition(" --")
    for command in words.split():
        ground.write_text(lie)
        outside = outside_of(tmp_path)
        status, said, memory = run(program, *COMMANDS[command], *(f"--{more}".split() if more else ()))
        ground.write_text("nothing")
        check(program, tmp_path, command, status, said)
        assert memory < MEMORY, memory
        assert outside_of(tmp_path) == outside, "something was touched that nobody meant"


def outside_of(tmp_path: Path) -> dict[bytes, Any]:
    """Everything but what is staged and where we keep our own things."""
    found = snapshot(tmp_path, times=False)
    mine = (b"home", b"out", b"near/back", b"far/up", b"far/tree.tar.gz")
    return {
        path: what
        for path, what in found.items()
        if not path.startswith(mine) and path not in (b"near", b"far") and b"/.yatagan-" not in path
    }


def check(program: Program, tmp_path: Path, command: str, status: int, said: str) -> None:
    """Words that a terminal does not obey, no more than a screen of them, and no verdict that is not so."""
    assert "Traceback" not in said and status in (0, 1, 2, 3, 4, 5), (status, said)
    assert all(char.isprintable() or char == "\n" for char in said), said
    assert len(said.splitlines()) < 60 and len(said) < 8000, said
    if status:
        assert said.strip(), "it failed without a word"
    if command != "up":
        assert "exists already" not in said, "what is read may well exist"
    if command == "list":
        return
    if command == "bundle":
        made = tmp_path / "far" / "tree.tar.gz"
        assert made.exists() or status, "it said good, but there is no bundle"
        return
    source, there = (tmp_path / "far" / "tree", program.directory / "back" / "tree")
    if command == "up":
        source, there = program.directory / "tree", tmp_path / "far" / "up" / "tree"
    real = contents(source)
    if "not carried" in said:
        real = {}  # it called them something that is not carried, which nobody can see through
    found = contents(there) if there.exists() else {}
    for path, data in found.items():
        assert real.get(path, data) == data, f"{path} is wrong"
    if status == 0:
        assert real.items() <= found.items(), f"it said good, but there is {found.keys()}"


def contents(root: Path) -> dict[str, bytes]:
    """The files below a directory, without part files and kept ones."""
    return {
        str(path.relative_to(root)): path.read_bytes()
        for path in root.rglob("*")
        if path.is_file() and not path.is_symlink() and ".yatagan-" not in str(path)
    }


# -- the helper ------------------------------------------------------------------------------------------

#: What a helper says instead of the truth, and the commands that it says it to.
HELPER_LIES: list[tuple[str, str]] = [
    *((f"hello:{how}", "up") for how in ("empty", "strings", "nothing", "lists", "noise", "no-end", "silent", "dies")),
    *((f"rest:{how}", "up") for how in ("empty", "strings", "nothing", "objects", "huge", "negative", "fractions")),
    *((f"rest:{how}", "up") for how in ("other-digest", "words-for-digests", "fewer", "more", "turned-round")),
    *((f"rest:{how}", "up") for how in ("silent", "busy", "other-id", "no-id", "twice", "a-list", "noise", "no-end")),
    *((f"rest:{how}", "up") for how in ("deep", "strange-error", "words-for-errors", "broken", "dies")),
    *((f"rest:{how}", "down") for how in ("huge", "other-digest", "noise")),
    *((f"rest:{how}", "bundle") for how in ("strings", "fewer", "strange-error")),
    *((f"clock:{how}", "up") for how in ("huge", "strings")),
    ("look:huge", "up"),
]


@pytest.fixture(scope="module")
def lying(openssh: OpenSsh, tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[OpenSsh, Path]]:
    """A real server whose commands pass through somebody who lies."""
    base = tmp_path_factory.mktemp("lying")
    lie = base / "lie"
    here = Path(__file__).parents[1] / "support" / "lying.py"
    child, port = start_sshd(base, f"ForceCommand exec {sys.executable} -I -S {here} {lie}\n")
    yield OpenSsh(base, port, openssh.user), lie
    child.send_signal(signal.SIGTERM)
    child.wait(10)


@pytest.fixture
def plain(lying: tuple[OpenSsh, Path], program: Program, tmp_path: Path) -> Path:
    """A node with a tree, and a tree here; the file in which the lie is chosen."""
    return prepare(lying, program, tmp_path)


@pytest.mark.parametrize(("lie", "command"), HELPER_LIES, ids=[f"{lie} {command}" for lie, command in HELPER_LIES])
def test_a_lie_of_the_helper(lie: str, command: str, program: Program, plain: Path, tmp_path: Path) -> None:
    plain.write_text(lie)
    outside = outside_of(tmp_path)
    status, said, memory = run(program, *COMMANDS[command])
    plain.write_text("nothing:")
    check(program, tmp_path, command, status, said)
    assert memory < MEMORY, memory
    assert outside_of(tmp_path) == outside, "something was touched that nobody meant"


def test_the_helper_tells_the_truth_otherwise(program: Program, plain: Path, tmp_path: Path) -> None:
    for command in COMMANDS.values():
        assert run(program, *command)[0] == 0
    assert snapshot(tmp_path / "far" / "up" / "tree") == snapshot(program.directory / "tree")


def test_the_server_tells_the_truth_otherwise(program: Program, ground: Path, tmp_path: Path) -> None:
    for command in ("list", "down", "up"):
        assert run(program, *COMMANDS[command])[0] == 0
    assert snapshot(program.directory / "back" / "tree") == snapshot(tmp_path / "far" / "tree")
    assert snapshot(tmp_path / "far" / "up" / "tree") == snapshot(program.directory / "tree")


def test_there_are_enough_lies() -> None:
    assert len({lie for lie, _ in LIES}) >= 40
    assert len({lie for lie, _ in HELPER_LIES}) >= 12


def test_a_wait_for_what_a_login_starts_has_a_word(program: Program, plain: Path) -> None:
    plain.write_text("hello:silent")
    terminal = Terminal(program, "list", "oak:tree")
    terminal.expect("mode")  # looking needs no helper
    assert terminal.end() == 0
    staging = Terminal(program, "stage", "tree", "oak:up", "--plan-only")
    staging.expect("logged in to oak; its shell has not answered yet (2 s)")
    staging.press("\x03")
    assert staging.end() == 4
    plain.write_text("nothing:")
