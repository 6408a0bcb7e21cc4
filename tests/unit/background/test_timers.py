"""Units and crontab lines, by the programs that read them."""

from __future__ import annotations

import contextlib
import os
import shlex
import shutil
import subprocess
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import ALL_NEEDED
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


@pytest.mark.skipif(shutil.which("systemd-analyze") is None and not ALL_NEEDED, reason="no systemd on this machine")
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
