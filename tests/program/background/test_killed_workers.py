"""The queue: its order and limits whatever happens to its workers, and many workers on one queue for real."""

from __future__ import annotations

import contextlib
import os
import random
import re
import signal
import subprocess
import time
from collections import Counter, defaultdict
from dataclasses import replace
from pathlib import Path

import pytest

from conftest import Far, OpenSsh, Program, start_sshd, wait_for
from yatagan.batches.batch_store import Batches
from yatagan.batches.queue import Queue

_OPENED = re.compile(r'open "([^"]+)" flags (\S*)')


_NAMED = re.compile(r'rename old "([^"]+)" new "([^"]+)"')


@pytest.mark.server
@pytest.mark.parametrize("count", [8, pytest.param(200, marks=pytest.mark.soak)])
def test_workers_that_are_killed(count: int, program: Program, openssh: OpenSsh, tmp_path: Path) -> None:
    """Many batches, three workers, and every moment one of them is killed: what the server has seen is proof enough."""
    (tmp_path / "far").mkdir()
    logs = tmp_path / "logs"
    logs.mkdir()
    wrapper = tmp_path / "sftp"
    wrapper.write_text(f"#!/bin/sh\nexec /usr/lib/openssh/sftp-server -e -l INFO 2>{logs}/$$\n")
    wrapper.chmod(0o755)
    # All goes through the file server, which tells what it did: nothing is done by commands.
    server, port = start_sshd(openssh.base, f"ForceCommand {wrapper}\n", sftp=str(wrapper))
    try:
        program(*replace(openssh, port=port).far(tmp_path / "far").add)
        program("node", "change", "oak", "--batches-at-once", "3")
        program("config", "set", "queue.at-once", "3")
        queued = _queue(program, count)
        stopped = _stopped(program, Far("oak", tmp_path / "far", [], ""))
        _kill_now_and_then(program, queued)
        states = Counter(batch["state"] for batch in program.json("batch", "list")["batches"])
        assert states == {"finished": count, "interrupted": 1}
        assert program.json("batch", "show", stopped)["state"] == "interrupted"
        for number, batch in enumerate(queued):
            there = tmp_path / "far" / f"to-{number}" / f"fen-{number}"
            assert sorted(os.listdir(there)) == ["a", "b", "c"], batch
            for name in ("a", "b", "c"):
                assert (there / name).read_bytes() == (program.directory / f"fen-{number}" / name).read_bytes()
    finally:
        server.terminate()
        server.wait(10)
    _look_at(logs)


def _queue(program: Program, count: int) -> list[str]:
    """Put batches into the queue; none is carried yet."""
    names = []
    program("config", "set", "queue.at-once", "1")
    for number in range(count):
        fen = program.directory / f"fen-{number}"
        fen.mkdir()
        for name in ("a", "b", "c"):
            (fen / name).write_bytes(os.urandom(40_000))
        names.append(program.json("stage", f"fen-{number}", f"oak:to-{number}", "--background")["batch"]["batch"])
    program("config", "set", "queue.at-once", "3")
    return names


def _stopped(program: Program, far: Far) -> str:
    """A stage that was ended by Ctrl-C."""
    (program.directory / "mine").write_bytes(os.urandom(3_000_000))
    mine = program.start("stage", "mine", "oak:mine", "--max-rate", "1MB/s")
    wait_for(lambda: any((far.root / "mine").glob("*.part")))
    mine.send_signal(signal.SIGINT)
    assert mine.wait(30) == 4
    return str(program.json("batch", "show")["batch"])


def _kill_now_and_then(program: Program, queued: list[str]) -> None:
    """Keep three workers at work until all is done, and kill one of them again and again."""
    (file,) = (program.home / "queue").glob("*.db")
    queue = Queue(file, Batches(program.home / "batches"))
    workers: list[subprocess.Popen[str]] = []
    rng, end = random.Random(7), time.monotonic() + 600
    while queue.entries():
        assert time.monotonic() < end
        workers = [worker for worker in workers if worker.poll() is None]
        while len(workers) < 3:
            workers.append(program.start("service", "run"))
        time.sleep(1)
        alive = [entry.worker for entry in queue.entries() if entry.worker is not None and entry.worker.is_alive]
        if alive:
            with contextlib.suppress(ProcessLookupError):
                os.kill(rng.choice(alive).pid, signal.SIGKILL)
    for worker in workers:
        worker.communicate(timeout=60)


def _look_at(logs: Path) -> None:
    """No part file was written by two sessions, and no name was given twice."""
    writers: dict[str, set[str]] = defaultdict(set)
    named: Counter[str] = Counter()
    for log in logs.iterdir():
        for line in log.read_text(errors="replace").splitlines():
            if (found := _OPENED.search(line)) and "WRITE" in found[2]:
                writers[found[1]].add(log.name)
            elif found := _NAMED.search(line):
                named[found[2]] += 1
    assert len(named) > 10 and not {name: sessions for name, sessions in writers.items() if len(sessions) > 1}
    assert not {name: many for name, many in named.items() if many > 1}
