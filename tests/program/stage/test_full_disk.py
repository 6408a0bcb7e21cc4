"""A disk that is full is said to be full, and nothing else; in the background it goes on once there is room."""

from __future__ import annotations

import os
import signal
import subprocess
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path
from typing import Any

import pytest

from conftest import Practice, Program, wait_for
from processes import catches
from yatagan.batches.batch_store import Batches
from yatagan.batches.queue import Queue
from yatagan.batches.queueing import WaitsFor

pytestmark = pytest.mark.server


MB = 1 << 20


@pytest.fixture(params=["here", "commands"])
def full(request: pytest.FixtureRequest, program: Program, tmp_path: Path) -> Iterator[tuple[str, Path]]:
    """A disk of 8 MB, as it is typed, and where it is; six files of 2 MB each are to go there."""
    if os.geteuid():
        pytest.skip("mounting needs root")
    root = tmp_path / "small"
    root.mkdir()
    subprocess.run(["mount", "-t", "tmpfs", "-o", "size=8m", "none", str(root)], check=True)
    (program.directory / "fen").mkdir()
    for number in range(6):
        (program.directory / "fen" / f"{number}.npy").write_bytes(os.urandom(2 * MB))
    place = str(root)
    if request.param == "commands":
        program.know(request.getfixturevalue("openssh").far(root))
        place = "oak:"
    yield place, root
    subprocess.run(["umount", "-l", str(root)], check=True)


def files_there(root: Path) -> int:
    found = [file for file in (root / "fen").iterdir() if file.suffix == ".npy"]
    return sum(file.stat().st_size == 2 * MB for file in found)


def fill(root: Path) -> None:
    """Write until nothing more fits."""
    with suppress(OSError), (root / "filler").open("wb", buffering=0) as file:
        while True:
            file.write(bytes(4096))


def test_a_full_disk_is_called_full(program: Program, full: tuple[str, Path]) -> None:
    place, root = full
    first = program("stage", "fen", place, "--no-space-check", expect=4).stdout
    fill(root)
    again = program("batch", "resume", expect=4).stdout
    for said in (first, again, program("batch", "show", expect=None).stdout):
        assert "no space" in said and "different disks" not in said and "prove" not in said.replace("proven", ""), said
    (batch,) = program.json("batch", "list")["batches"]
    assert (batch["state"], batch["reason"]) == ("held", "no-space")
    assert batch["in_place"] == files_there(root)


def test_it_goes_on_by_itself_once_there_is_room(program: Program, full: tuple[str, Path]) -> None:
    place, root = full
    told = program.directory / "told"
    program("config", "set", "notice.command", f"cat >> {told}; echo >> {told}")
    program("stage", "fen", place, "--no-space-check", "--background", expect=None)

    def waiting() -> dict[str, Any]:
        return program.json("batch", "list")["batches"][0]["queue"] or {}

    wait_for(lambda: waiting().get("waits_for") == "free space")
    (batch,) = program.json("batch", "list")["batches"]
    assert batch["state"] == "held"
    shown = " ".join(program("batch", "show", expect=None).stdout.split())
    assert "no space" in shown and "looks again" in shown and "goes on by itself" in shown
    placed = files_there(root)

    def look_now() -> None:
        """The ten minutes are over."""
        (file,) = (program.home / "queue").glob("*.db")
        Queue(file, Batches(program.home / "batches")).wait(batch["batch"], WaitsFor.ROOM, 0.0)

    look_now()  # there is no more room than before: nothing is written, and nothing said
    wait_for(lambda: waiting().get("retry_at") is not None)
    assert files_there(root) == placed and told.read_text().count('"notice"') <= 1
    subprocess.run(["mount", "-o", "remount,size=40m", str(root)], check=True)
    look_now()
    wait_for(lambda: program.json("batch", "list")["batches"][0]["state"] == "finished")
    assert files_there(root) == 6
    wait_for(lambda: len([line for line in told.read_text().splitlines() if line]) == 2)  # it is sent a moment later
    assert [line.count("held") > 0 for line in told.read_text().splitlines() if line] == [True, False]


def test_a_list_that_does_not_fit_leaves_nothing(program: Program, full: tuple[str, Path]) -> None:
    """And is not said to belong to a batch."""
    place, root = full
    (root / "many").mkdir()
    for number in range(300):
        (root / "many" / f"{'long' * 40}-{number}").touch()
    fill(root)
    done = program("checksums", f"{place.rstrip('/')}/many" if place != "oak:" else "oak:many", expect=None)
    assert "SHA256SUMS: no space" in done.stderr and "resume the batch" not in done.stderr
    assert not [name for name in os.listdir(root / "many") if name.startswith(".yatagan")]


def test_a_destination_that_was_read_only_for_a_while(program: Program, full: tuple[str, Path]) -> None:
    """Nothing was ever put there: it is not gone."""
    place, root = full
    if place == "oak:":
        pytest.skip("there it is the start directory")
    (program.directory / "one").mkdir()
    (program.directory / "one" / "f").write_text("f")
    subprocess.run(["mount", "-o", "remount,ro", str(root)], check=True)
    program("stage", "one", f"{place}/new", "--no-space-check", expect=None)
    subprocess.run(["mount", "-o", "remount,rw", str(root)], check=True)
    done = program("batch", "resume", "--failed", expect=None)
    assert done.returncode == 0 and "gone" not in done.stdout, done
    assert (root / "new" / "one" / "f").read_text() == "f"


def test_sigterm_ends_with_the_status_of_an_interruption(program: Program, practice: Practice) -> None:
    """While it plans, and while it carries."""
    program.know(practice.far())
    (program.directory / "big").write_bytes(bytes(30 * MB))
    practice.wrong("heron", delay="1s")
    planning = program.start("list", "heron:")
    wait_for(lambda: catches(planning.pid, signal.SIGTERM))
    planning.terminate()
    assert planning.wait(20) == 4
    practice.wrong("heron", max_rate="3MB")
    carrying = program.start("stage", "big", "heron:")
    wait_for(lambda: bool(program.json("batch", "list")["batches"]))
    carrying.terminate()
    assert carrying.wait(30) == 4
