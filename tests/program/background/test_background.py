"""Batches in the background: workers, the queue, and how other commands steer them."""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import time
from pathlib import Path
from typing import Any

import pytest

from conftest import YATAGAN, Far, Practice, Program, part_file, snapshot, wait_for
from terminal import Terminal, log_in
from yatagan.batches.batch_store import Batches
from yatagan.batches.queue import Queue


def big(program: Program, name: str = "big", size: int = 8_000_000) -> bytes:
    data = os.urandom(size)
    (program.directory / name).write_bytes(data)
    return data


def queue(program: Program) -> Queue:
    (file,) = (program.home / "queue").glob("*.db")
    return Queue(file, Batches(program.home / "batches"))


def shown(program: Program, *words: str) -> Any:
    return program.json("batch", "show", *words)


def ends(program: Program, batch: str, seconds: float = 60) -> Any:
    """The batch when nothing carries it any more."""
    found: dict[str, Any] = {}

    def over() -> bool:
        found.update(shown(program, batch))
        # Between a worker's taking it and its lock nothing carries it, and it is in the queue.
        waits = found["queue"] is not None and found["state"] not in ("finished", "held", "needs a login")
        return not found["carried_now"] and not waits and found["state"] != "queued"

    wait_for(over, seconds)
    return found


def test_it_outlives_all_that_started_it(program: Program, oak: Far, tmp_path: Path) -> None:
    """The session, with its processes, its agent and its runtime directory."""
    program("node", "change", "oak", "--max-rate", "1MB/s")
    data = big(program)
    runtime = tmp_path / "runtime"
    runtime.mkdir(mode=0o700)
    agent = subprocess.Popen(["ssh-agent", "-D", "-a", str(runtime / "agent")], stdout=subprocess.DEVNULL)
    environment = {**program.environment(), "XDG_RUNTIME_DIR": str(runtime), "SSH_AUTH_SOCK": str(runtime / "agent")}
    session = subprocess.Popen(
        ["sh", "-c", '"$0" stage big oak:campaign --background; sleep 60', YATAGAN],
        cwd=program.directory,
        env=environment,
        stdout=subprocess.PIPE,
        start_new_session=True,
        text=True,
    )
    assert session.stdout is not None
    said: list[str] = []
    while not (said and "restart" in said[-1]):
        said.append(session.stdout.readline())
    os.killpg(session.pid, signal.SIGHUP)
    os.killpg(session.pid, signal.SIGKILL)
    agent.kill()
    agent.wait()
    shutil.rmtree(runtime)
    session.wait()
    text = "".join(said)
    name = shown(program)["batch"]
    for words in (
        f"Batch {name} goes on in the background: big → oak:campaign, 1 file, 8.00 MB",
        "moving now",
        f"yatagan batch hold {name}",
        "oak lets this account in by a key on this disk",
    ):
        assert words in text, text
    done = ends(program, name)
    assert done["good"] and (oak.root / "campaign" / "big").read_bytes() == data and done["queue"] is None
    story = program("batch", "log", name).stdout
    for words in ("accepted: 1 file, 8.00 MB", "put into the queue", "connected", "finished; in this run"):
        assert words in story, story


@pytest.mark.parametrize("word", ["hold", "cancel"])
def test_what_is_said_on_another_machine(word: str, program: Program, oak: Far) -> None:
    """Its file appears beside the journal; the worker here stops, and no worker takes the batch any more."""
    program("node", "change", "oak", "--max-rate", "1MB/s")
    data = big(program)
    batch = program.json("stage", "big", "oak:in", "--background")["batch"]["batch"]
    wait_for(lambda: part_file(oak.root / "in", 100_000) is not None)
    said = program.home / "batches" / batch / "said.json"
    said.write_text(json.dumps({"said": word, "on": "elsewhere"}))
    wait_for(lambda: not shown(program, batch)["carried_now"])
    wait_for(lambda: shown(program, batch)["queue"] is None)
    assert shown(program, batch)["state"] == ("held" if word == "hold" else "interrupted")
    queue(program).add(batch, ["oak"], 0o022)  # as the queue of this machine would have it still
    program("service", "run")
    assert shown(program, batch)["queue"] is None and not (oak.root / "in" / "big").exists()
    program("node", "change", "oak", "--max-rate", "500MB/s")
    program("batch", "resume", batch)
    assert (oak.root / "in" / "big").read_bytes() == data and not said.exists()


def test_who_picks_up_what(program: Program, oak: Far) -> None:
    """The next worker takes what a killed one had, and never what a person has stopped."""
    program("node", "change", "oak", "--max-rate", "1MB/s", "--batches-at-once", "3")
    data = big(program)
    mine = program.start("stage", "big", "oak:mine")
    wait_for(lambda: part_file(oak.root / "mine", 100_000) is not None)
    mine.send_signal(signal.SIGINT)
    assert mine.wait(30) == 4
    stopped = shown(program)["batch"]
    left = program.json("stage", "big", "oak:left", "--background")["batch"]
    assert left["state"] == "moving" and left["carrier"]["process"] != os.getpid()
    wait_for(lambda: part_file(oak.root / "left", 1_000_000) is not None)
    os.kill(left["carrier"]["process"], signal.SIGKILL)
    wait_for(lambda: shown(program, left["batch"])["state"] == "queued")
    assert "waits: no worker runs" in program("batch", "show", left["batch"]).stdout
    held = program.json("stage", "big", "oak:held", "--background")["batch"]["batch"]
    said = program("batch", "hold", held).stdout
    assert f"yatagan batch resume {held}" in said
    program("service", "run")  # the worker of the third batch took the one that was left; this finds nothing more
    done = ends(program, left["batch"])
    assert done["good"] and (oak.root / "left" / "big").read_bytes() == data
    assert done["sent_bytes"] - done["sent_again_bytes"] <= len(data)
    assert [shown(program, batch)["state"] for batch in (stopped, held)] == ["interrupted", "held"]
    assert not queue(program).entries()
    assert program("batch", "resume", "--all", "--quiet").stdout == ""
    assert snapshot(oak.root / "mine", times=False) == snapshot(oak.root / "held", times=False)


def test_a_shutdown_is_nobodys_wish(program: Program, oak: Far) -> None:
    program("node", "change", "oak", "--max-rate", "700kB/s")
    big(program)
    first = program.json("stage", "big", "oak:first", "--background")["batch"]
    second = program.json("stage", "big", "oak:second", "--background")["batch"]
    assert (second["state"], second["queue"]["waits_for"]) == ("queued", None)  # one at a time over a node
    watching = program.start("batch", "watch", first["batch"], "--json-lines")
    os.kill(first["carrier"]["process"], signal.SIGTERM)
    wait_for(lambda: any(line["event"] == "waits" for line in program.json("batch", "log", first["batch"])["log"]))
    program("batch", "cancel", second["batch"])
    program("node", "change", "oak", "--max-rate", "500MB/s")
    program.json("service", "run")  # unless the worker that was started for the second has taken it already
    assert ends(program, first["batch"])["good"]
    lines = watching.communicate(timeout=30)[0].splitlines()
    assert watching.returncode == 0 and '"state":"finished"' in lines[-1]
    assert not (oak.root / "second" / "big").exists()


def test_a_login_that_needs_a_person(program: Program, practice: Practice) -> None:
    """The person answers once, and the batch goes over that login."""
    far = practice.far("bittern")
    program.know(far)
    practice.wrong("bittern", max_rate="3MB")
    data = big(program, size=3_000_000)
    refused = program("stage", "big", "bittern:", "--background", expect=3)
    assert "there is no terminal to answer at" in refused.stderr and not program.json("batch", "list")["batches"]
    log_in(terminal := Terminal(program, "stage", "big", "bittern:", "--background"), practice)
    terminal.expect("over the open login to bittern")
    assert terminal.end() == 0
    done = ends(program, shown(program)["batch"])
    assert done["good"] and (far.root / "big").read_bytes() == data


def test_a_node_that_is_away_is_tried_again(program: Program, practice: Practice) -> None:
    far = practice.far()
    program.know(far)
    program("config", "set", "connection.patience", "500ms")
    practice.wrong("heron", max_rate="600kB")
    big(program)
    batch = program.json("stage", "big", "heron:", "--background")["batch"]["batch"]
    practice.wrong("heron", refuse_for="300s")
    os.kill(shown(program, batch)["carrier"]["process"], signal.SIGTERM)
    wait_for(lambda: not shown(program, batch)["carried_now"])
    worker = program.start("service", "run")
    wait_for(lambda: (shown(program, batch)["queue"] or {}).get("retry_at") is not None)
    said = program("batch", "show", batch).stdout
    assert "queued, because the connection was lost; tries again at" in said and "It goes on by itself" in said
    assert "waits in the queue, and is tried again in 1 min" in program("batch", "log", batch).stdout
    again = program.start("service", "run")  # one waits; another has nothing to do
    assert again.wait(20) == 0
    worker.send_signal(signal.SIGTERM)
    assert worker.wait(20) == 0
    practice.wrong("heron")
    assert program.json("batch", "resume", batch)["good"]


def test_who_may_not_resume_a_batch_takes_it_out_of_no_queue(program: Program, oak: Far) -> None:
    """It is carried by a worker, and goes on by itself after a lost line, whoever asked for it in vain."""
    program("node", "change", "oak", "--max-rate", "1MB/s")
    data = big(program)
    batch = program.json("stage", "big", "oak:in", "--background")["batch"]["batch"]
    wait_for(lambda: part_file(oak.root / "in", 100_000) is not None)
    assert "is being carried by" in program("batch", "resume", batch, expect=5).stderr
    assert shown(program, batch)["queue"] is not None
    program("node", "change", "oak", "--max-rate", "500MB/s")
    assert ends(program, batch)["good"] and (oak.root / "in" / "big").read_bytes() == data


#: Writes down which modules that are not Python's own are imported after a worker has imported what it needs.
LATE = """
import sys, sysconfig

class Late:
    def find_spec(self, name, path=None, target=None):
        imports = sys.modules.get("yatagan.background.imports")
        frame = sys._getframe()
        while frame is not None and frame.f_code.co_name != "import_all":
            frame = frame.f_back
        if frame is not None:
            open(FILE + "-early", "a").close()
        if frame is None and getattr(imports, "done", False) and name.partition(".")[0] not in sys.stdlib_module_names:
            with open(FILE, "a") as file:
                file.write(name + "\\n")

sys.meta_path.insert(0, Late())
"""


def test_a_worker_has_imported_all_that_it_needs(program: Program, oak: Far, tmp_path: Path) -> None:
    """An upgrade in the middle of a batch must not change the program that carries it."""
    late = tmp_path / "late"
    (tmp_path / "site").mkdir()
    (tmp_path / "site" / "sitecustomize.py").write_text(LATE.replace("FILE", repr(str(late))))
    watched = {"PYTHONPATH": str(tmp_path / "site")}
    fen = program.directory / "fen"
    for number in range(40):
        (fen / f"plot-{number % 4}").mkdir(parents=True, exist_ok=True)
        (fen / f"plot-{number % 4}" / f"{number}.csv").write_bytes(os.urandom(3000))
    old = big(program, "fen/big", 2_000_000)
    ways: list[tuple[str, ...]] = [
        ("fen", "oak:in"),
        ("fen", "oak:store", "--store", "bundle"),
        ("fen", "oak:in", "--if-newer-there", "replace"),
        ("oak:in/fen", "back"),
        ("oak:store/fen", "out"),
    ]
    for at, way in enumerate(ways):
        if at == 2:
            (fen / "big").write_bytes(os.urandom(1_000_000) + old[1_000_000:])
        batch = program.json("stage", *way, "--background", env=watched)["batch"]["batch"]
        assert ends(program, batch)["good"]
    assert snapshot(program.directory / "back" / "fen") == snapshot(fen)
    assert (tmp_path / "late-early").exists() and not late.exists(), late.read_text()


def test_a_list_of_every_state(program: Program, oak: Far) -> None:
    """What is shown is read from the batches' own files, or remembered: both say the same."""
    big(program, size=2000)
    for place in ("one", "two"):
        program("stage", "big", f"oak:{place}")
    before = program.json("batch", "list")
    assert (program.home / "batch-list.db").exists()
    assert program.json("batch", "list") == before
    (program.home / "batch-list.db").write_bytes(b"no database at all")
    assert program.json("batch", "list") == before
    assert [batch["batch"] for batch in before["batches"]] == sorted(
        (batch["batch"] for batch in before["batches"]), key=lambda name: shown(program, name)["made_at"], reverse=True
    )
    assert "No batch is unfinished." in program("batch", "list", "--unfinished").stdout
    assert "No batch moves." in program("batch", "watch").stdout


@pytest.mark.parametrize("words", [("hold",), ("cancel",)])
def test_what_has_ended_is_not_stopped(words: tuple[str, ...], program: Program) -> None:
    (program.directory / "a").write_text("a")
    program("stage", "a", "there")
    assert "is finished" in program("batch", *words, shown(program)["batch"], expect=5).stderr


@pytest.mark.parametrize("opened", [False, True])
def test_a_batch_is_cancelled_at_any_moment(opened: bool, program: Program, practice: Practice) -> None:
    """Also before its run has begun, or when that has just ended: then it is finished, and no process is killed."""
    far = practice.far()
    program.know(far)
    if opened:
        program("node", "open", "heron")
    (program.directory / "some").mkdir()
    for number in range(40):
        (program.directory / "some" / f"{number}.csv").write_text(f"{number}\n" * 2000)

    def names() -> set[str]:
        return {journal.parent.name for journal in (program.home / "batches").glob("*/journal.db")}

    for number, wait in enumerate((0.0, 0.05, 0.1, 0.2, 0.4), start=1):
        before = names()
        running = program.start("stage", "some", f"heron:at-{wait}")
        wait_for(lambda: len(names()) == number)  # noqa: B023  # it is called here only
        time.sleep(wait)
        (name,) = names() - before
        cancelled = program("batch", "cancel", name, expect=None)
        said, trouble = running.communicate(timeout=60)
        assert running.returncode == (4 if cancelled.returncode == 0 else 0), said + trouble + cancelled.stderr
        assert shown(program, name)["state"] == ("cancelled" if cancelled.returncode == 0 else "finished")
