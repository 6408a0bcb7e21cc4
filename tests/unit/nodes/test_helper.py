"""The helper program, run on this machine as a node would run it, and our end of it. No sockets."""

from __future__ import annotations

import asyncio
import hashlib
import os
from collections.abc import Coroutine
from pathlib import Path
from typing import Any

import pytest

from helper_here import with_helper
from yatagan.errors import StoreError
from yatagan.faults import Fault
from yatagan.nodes import helper
from yatagan.nodes.helper import Helper, NoHelper


def digests(helper: Helper, *paths: bytes) -> Coroutine[Any, Any, dict[str, Any]]:
    """As they come over the wire."""
    return helper.ask("digests", files=[[path.decode("latin-1"), []] for path in paths], algorithm="sha256")


def test_what_has_not_moved_is_not_read_again(tmp_path: Path) -> None:
    name = os.fsencode(tmp_path / "flux")
    (tmp_path / "flux").write_bytes(b"fen")

    async def work(helper: Helper) -> list[Any]:
        path = name.decode("latin-1")
        known = (await digests(helper, name))["files"][0][2]
        asked = [[path, known], *([path, [*known[:at], known[at] + 1, *known[at + 1 :]]] for at in range(5))]
        reply: dict[str, Any] = await helper.ask("digests", files=asked, algorithm="sha256")
        return list(reply["files"])

    same, *moved = with_helper(work)
    assert same[:2] == [0, ""]
    assert [made[:2] for made in moved] == [[0, hashlib.sha256(b"fen").hexdigest()]] * 5


def test_it_hashes_looks_and_reads(tmp_path: Path) -> None:
    name = os.fsencode(tmp_path) + b"/new\nline \xff"
    with open(name, "wb") as file:
        file.write(b"fen" * 1000)

    async def work(helper: Helper) -> tuple[dict[str, Any], ...]:
        assert {"sha256", "md5"} <= set(helper.greeting.algorithms)
        asked = [digests(helper, name), helper.ask("look", name), helper.ask("read", name)]
        return tuple(await asyncio.gather(*asked, helper.ask("clock")))

    digest, look, read, clock = with_helper(work, before="echo welcome; echo; ")
    assert digest["files"] == [[0, hashlib.sha256(b"fen" * 1000).hexdigest(), look["facts"]]]
    status = os.stat(name)
    assert look["facts"] == [status.st_mode, 3000, status.st_mtime_ns, status.st_ctime_ns, status.st_ino]
    assert read["text"].startswith("fenfen") and clock["clock_ns"] > status.st_mtime_ns


def test_what_it_will_not_touch(tmp_path: Path) -> None:
    os.mkfifo(tmp_path / "pipe")
    (tmp_path / "link").symlink_to("target")
    (tmp_path / "target").write_text("x")

    async def work(helper: Helper) -> dict[str, Any]:
        return await digests(helper, *(os.fsencode(tmp_path / name) for name in ("pipe", "link", "gone", ".")))

    assert all(outcome > 0 and not digest for outcome, digest, _ in with_helper(work)["files"])


def test_it_shows_signs_of_life_while_it_hashes(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "big").write_bytes(bytes(5 << 20))
    program = helper.program_with
    monkeypatch.setattr(
        helper, "program_with", lambda token: program(token).replace(b"BUSY_SECONDS = 5.0", b"BUSY_SECONDS = 0.0")
    )
    heard = 0

    async def work(helper: Helper) -> dict[str, Any]:
        def hear() -> None:
            nonlocal heard
            heard += 1

        helper.listeners.add(hear)
        return await digests(helper, os.fsencode(tmp_path / "big"))

    assert with_helper(work)["files"][0][1] == hashlib.sha256(bytes(5 << 20)).hexdigest()
    assert heard == 1 + 5 + 1  # before the file, at each MiB, and the answer


def test_which_processes_still_live() -> None:
    async def work(helper: Helper) -> tuple[Any, Any, Any]:
        greeting = helper.greeting
        ours = [list(process) for process in greeting.session if process.number == os.getpid()]
        live = await helper.ask("alive", boot=greeting.boot, processes=ours)
        reused = await helper.ask("alive", boot=greeting.boot, processes=[[os.getpid(), 1]])
        rebooted = await helper.ask("alive", boot="another", processes=ours)
        return live["alive"] == ours, reused["alive"], rebooted["alive"]

    assert with_helper(work) == (True, [], [])


@pytest.mark.parametrize("answer", ["echo This service allows file transfer only.; exit 1; ", "exit 127; "])
def test_a_node_that_runs_no_commands(answer: str) -> None:
    with pytest.raises(NoHelper):
        with_helper(lambda helper: helper.ask("clock"), before=answer)


def test_one_that_ends_is_a_lost_line() -> None:
    async def work(helper: Helper) -> None:
        helper._pipe.stdin.close()
        await helper.ask("clock")

    with pytest.raises(StoreError) as caught:
        with_helper(work)
    assert caught.value.fault is Fault.CONNECTION_LOST
