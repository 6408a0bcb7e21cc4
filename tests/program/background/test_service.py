"""What runs after a restart: units and crontab lines, by the programs that read them, and nobody's crontab harmed."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest

from conftest import ALL_NEEDED, Far, Program, wait_for
from yatagan.background.timers import (
    Timed,
)

needs_cron = pytest.mark.skipif(shutil.which("cron") is None and not ALL_NEEDED, reason="no cron on this machine")


def listed() -> str:
    return subprocess.run(["crontab", "-l"], capture_output=True, text=True, check=False).stdout


@pytest.fixture
def crontab() -> Iterator[None]:
    """This user's crontab, put back in the end."""
    before = subprocess.run(["crontab", "-l"], capture_output=True, text=True, check=False)
    subprocess.run(["crontab", "-r"], capture_output=True, check=False)
    yield
    if before.returncode == 0:
        subprocess.run(["crontab", "-"], input=before.stdout, text=True, check=True)
    else:
        subprocess.run(["crontab", "-r"], capture_output=True, check=False)


@needs_cron
@pytest.mark.server
def test_cron_goes_on_after_a_restart(program: Program, oak: Far, crontab: None) -> None:
    """The real cron: what is unfinished goes on when it starts, and what was in the crontab stays."""
    subprocess.run(["crontab", "-"], input="# mine\n5 4 * * * echo 100\\% > /dev/null\n", text=True, check=True)
    assert "not installed" in program("service", "show").stdout
    printed = program("service", "install", "--print").stdout
    assert listed() == "# mine\n5 4 * * * echo 100\\% > /dev/null\n"
    program("service", "install")
    assert listed() == "# mine\n5 4 * * * echo 100\\% > /dev/null\n" + printed
    program("service", "install")  # once more changes nothing
    assert listed().count("@reboot") == 1
    assert (program.home / "crontab.before").read_text().startswith("# mine\n")
    found = program.json("service", "show")
    assert found["installed"] and found["current"] and found["way"] == "crontab" and found["last_run_at"] is None
    batch = _left_behind(program, oak)
    already = Path("/run/crond.reboot")  # by this cron knows whether the machine was started since
    had = already.exists()
    already.unlink(missing_ok=True)
    cron = subprocess.Popen(["cron", "-f"], stderr=subprocess.DEVNULL)
    try:
        wait_for(lambda: program.json("batch", "show", batch)["good"])
    finally:
        cron.terminate()
        cron.wait(10)
        if not had:
            already.unlink(missing_ok=True)
    assert program.json("service", "show")["last_run_at"] is not None
    assert "installed, by crontab" in program("service", "show").stdout
    program("service", "remove")
    assert listed() == "# mine\n5 4 * * * echo 100\\% > /dev/null\n"
    assert "is not installed" in program("service", "remove").stdout


def _left_behind(program: Program, oak: Far) -> str:
    """A batch whose worker was killed."""
    program("node", "change", "oak", "--max-rate", "400kB/s")
    (program.directory / "big").write_bytes(os.urandom(4_000_000))
    batch = program.json("stage", "big", "oak:", "--background")["batch"]
    os.kill(batch["carrier"]["process"], signal.SIGKILL)
    wait_for(lambda: program.json("batch", "show")["state"] == "queued")
    program("node", "change", "oak", "--max-rate", "500MB/s")
    return str(batch["batch"])


BAD_CRONTABS = {
    "fails": "echo 'crontab: cannot open the spool: permission denied' >&2; exit 1",
    "says nothing": "exit 1",
    "prints and fails": "echo '5 4 * * * make'; echo 'no crontab for mara' >&2; exit 1",
    "is not allowed": "echo 'You (mara) are not allowed to use this program (crontab)' >&2; exit 1",
    "is broken": "printf '# begin NAME (by yatagan service install)\\n5 4 * * * make\\n'",
}


@pytest.mark.parametrize("kind", BAD_CRONTABS)
def test_a_crontab_that_cannot_be_read_is_not_written(kind: str, program: Program, tmp_path: Path) -> None:
    wrote, name = tmp_path / "wrote", Timed("", {"YATAGAN_HOME": str(program.home)}, "").name
    fake = tmp_path / "bin" / "crontab"
    fake.parent.mkdir()
    script = BAD_CRONTABS[kind].replace("NAME", name)
    fake.write_text(f'#!/bin/sh\nif [ "$1" = - ]; then cat > {wrote}; exit; fi\n{script}\n')
    fake.chmod(0o755)
    path = {"PATH": f"{fake.parent}:{program.environment()['PATH']}"}
    for what in ("install", "remove"):
        done = program("service", what, env=path, expect=5)
        assert "crontab" in done.stderr and not wrote.exists(), done
