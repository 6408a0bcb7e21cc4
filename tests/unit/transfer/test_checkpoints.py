"""Part files: what of them is trusted after a write at any moment."""

from __future__ import annotations

import asyncio
import fcntl
import os
import subprocess
import sys
from pathlib import Path
from typing import Any, cast

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import wait_for
from yatagan.portable import placing
from yatagan.portable.directories import facts
from yatagan.stores.local import LocalStore
from yatagan.transfer.checkpoints import Checkpoints

#: A program of another one's: it opens a file for writing, says so, and writes into it.
WRITER = """
import os, sys
descriptor = os.open(sys.argv[1], os.O_RDWR)
print("open", flush=True)
os.pwrite(descriptor, b"strange " * 100, int(sys.argv[2]))
print("written", flush=True)
"""


def is_waiting(process: subprocess.Popen[bytes]) -> bool:
    """Whether a process has come to its end, or waits in the kernel for a file that it opens."""
    status = Path(f"/proc/{process.pid}/syscall").read_text().split()
    return process.poll() is not None or status[:1] in (["257"], ["2"], ["56"])  # openat, open


@pytest.mark.parametrize("when", range(9))
@pytest.mark.parametrize("lease", ["given", "none"])
def test_a_write_at_any_moment_is_seen(when: int, lease: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Before and after each call to the system that we make while a file arrives, another program writes into it."""
    if lease == "none":
        monkeypatch.setattr(fcntl, "F_SETLEASE", -1)
    part, data = tmp_path / ".yatagan-x-1-1.part", os.urandom(4 * 4096)
    foreign: list[subprocess.Popen[bytes]] = []
    moment = 0

    def let_it_write() -> None:
        nonlocal moment
        if moment == when and part.exists():
            foreign.append(subprocess.Popen([sys.executable, "-c", WRITER, str(part), "100"], stdout=subprocess.PIPE))
            wait_for(lambda: foreign[0].poll() is not None or is_waiting(foreign[0]))
        moment += 1

    plain = os.pwrite

    def pwrite(*given: Any) -> int:
        let_it_write()
        count = plain(*given)
        let_it_write()
        return count

    async def work() -> bool:
        file = await LocalStore(b"/").create_part(os.fsencode(part))
        await file.keep_others_out()
        monkeypatch.setattr(os, "pwrite", pwrite)
        for at in range(0, len(data), 4096):
            await file.write(at, data[at : at + 4096])
        monkeypatch.setattr(os, "pwrite", plain)
        let_it_write()
        untouched = await file.is_untouched(len(data))
        await file.close()
        return untouched

    untouched = asyncio.run(work())
    for each in foreign:
        assert each.wait(60) == 0
    assert untouched is (lease == "given" and not foreign)


@given(st.lists(st.integers(1, 1 << 40), min_size=1, max_size=400), st.integers(0, 1 << 41))
def test_checkpoints_stay_few_and_keep_the_last(lengths: list[int], upto: int) -> None:
    points = Checkpoints()
    for length in sorted(set(lengths)):
        points.add(length, f"{length:x}", 1 << 40)
    assert points.end == max(lengths) and len(list(points)) <= 260
    assert [length for length, _ in points] == sorted(length for length, _ in points)
    assert list(Checkpoints.decode(points.encode())) == list(points)
    assert points.up_to(upto).end <= upto


def test_what_is_replaced_is_safe_under_its_other_name_first(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """The directory that it is kept in is synced before anything takes its place."""
    done: list[str] = []
    (tmp_path / "kept").mkdir()
    (tmp_path / "f").write_text("old")
    (tmp_path / "part").write_text("new!")
    sync, rename = placing.sync_directory, os.rename
    kept = os.stat(tmp_path / "kept")

    def synced(directory: int) -> None:
        done.append("kept" if os.path.samestat(os.fstat(directory), kept) else "there")
        sync(directory)

    def renamed(*names: Any, **directories: Any) -> None:
        done.append("rename")
        rename(*names, **directories)

    monkeypatch.setattr(placing, "sync_directory", synced)
    monkeypatch.setattr(placing.os, "rename", renamed)
    seen = facts(os.lstat(tmp_path / "f"))
    part, path, other = (os.fsencode(tmp_path / name) for name in ("part", "f", "kept/f"))
    placing.place_by_name(placing.Placing(part, path, 4, None, None, None, cast(Any, seen), other))
    assert done == ["kept", "rename", "there"]
    assert (tmp_path / "f").read_text() == "new!" and (tmp_path / "kept" / "f").read_text() == "old"
