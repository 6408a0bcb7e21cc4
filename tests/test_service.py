"""What runs after a restart: units and crontab lines, by the programs that read them, and nobody's crontab harmed."""

from __future__ import annotations

import contextlib
import os
import shlex
import shutil
import signal
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import Far, Program, wait_for
from yatagan.background.timers import (
    BrokenMarkers,
    NotWritable,
    Timed,
    crontab_lines,
    lines_in,
    service_unit,
    timer_unit,
    with_lines,
)

NEEDED = "YATAGAN_NEED_SSHD" in os.environ
needs_cron = pytest.mark.skipif(shutil.which("cron") is None and not NEEDED, reason="no cron on this machine")

#: Paths as they may be.
paths = st.text(st.characters(min_codepoint=32, exclude_categories=["Cs", "Cc"]), min_size=1, max_size=20).map(
    "/a".__add__
)


@given(python=paths, home=paths, log=paths)
def test_a_shell_reads_what_was_meant(python: str, home: str, log: str) -> None:
    """cron gives a line to the shell, once it has taken the backslash before each % away."""
    with contextlib.suppress(NotWritable):
        line = crontab_lines(Timed(python, {"YATAGAN_HOME": home}, log))[0]
        assert "%" not in line.replace("\\%", "")
        given_to_shell = line.removeprefix("@reboot ").replace("\\%", "%")
        assert shlex.split(given_to_shell) == [
            *("cd", "/", "&&", f"YATAGAN_HOME={home}", python, "-P", "-m", "yatagan", "service", "run"),
            *("--from-timer", f">>{log}", "2>&1"),
        ]


@given(
    before=st.lists(st.sampled_from(["MAILTO=mara", "", "# a note", "5 4 * * * make", "@daily \\%d"]), max_size=6),
    end=st.booleans(),
)
def test_no_other_line_of_a_crontab_changes(before: list[str], end: bool) -> None:
    crontab = "\n".join(before) + ("\n" if end and before else "")
    once = with_lines(crontab, "yatagan", ["@reboot x", "*/5 * * * * x"])
    assert lines_in(once, "yatagan") == ["@reboot x", "*/5 * * * * x"]
    assert with_lines(once, "yatagan", ["@reboot x", "*/5 * * * * x"]) == once
    other = with_lines(once, "yatagan-0123abcd", ["@reboot y"])  # of another directory of the same user
    again = with_lines(with_lines(other, "yatagan", ["@reboot z"]), "yatagan-0123abcd", [])
    assert lines_in(again, "yatagan") == ["@reboot z"]
    assert with_lines(again, "yatagan", []) == crontab + ("" if crontab.endswith("\n") or not crontab else "\n")
    lines = once.splitlines(keepends=True)
    del lines[next(at for at, line in enumerate(lines) if line.startswith("# begin yatagan"))]
    with pytest.raises(BrokenMarkers):
        with_lines("".join(lines), "yatagan", ["@reboot x"])
    with pytest.raises(BrokenMarkers):
        lines_in("".join(lines), "yatagan")


@pytest.mark.skipif(shutil.which("systemd-analyze") is None and not NEEDED, reason="no systemd on this machine")
def test_systemd_understands_the_units(tmp_path: Path) -> None:
    python = tmp_path / "an odd % name" / "python $3"
    python.parent.mkdir()
    python.symlink_to(shutil.which("true") or "/bin/true")
    timed = Timed(str(python), {"YATAGAN_HOME": str(tmp_path / 'h"o\\me %h')}, str(tmp_path / "workers.log"))
    files = [tmp_path / f"{timed.name}.service", tmp_path / f"{timed.name}.timer"]
    for file, text in zip(files, (service_unit(timed), timer_unit(timed)), strict=True):
        file.write_text(text)
    done = subprocess.run(
        ["systemd-analyze", "verify", "--user", *map(str, files)],
        capture_output=True,
        text=True,
        env={**os.environ, "XDG_RUNTIME_DIR": str(tmp_path), "SYSTEMD_LOG_LEVEL": "warning"},
        check=False,
    )
    ours = [line for line in done.stderr.splitlines() if timed.name in line]
    assert not ours and (done.returncode == 0 or not done.stderr.strip() or "Failed to" in done.stderr), done.stderr
    with pytest.raises(NotWritable):
        service_unit(Timed("/a\nb", {}, "/log"))
    with pytest.raises(NotWritable):  # cron would take the path's own backslash away
        crontab_lines(Timed("/python", {"YATAGAN_HOME": "/a\\%b"}, "/log"))


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


def listed() -> str:
    return subprocess.run(["crontab", "-l"], capture_output=True, text=True, check=False).stdout


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
