"""Whether this system ends a user's processes when their last login session ends."""

from __future__ import annotations

import os
import subprocess
from pathlib import Path

#: What is read where the login manager does not answer, in the order in which it reads them (logind.conf(5)).
_FILES = ("/etc/systemd/logind.conf", "/run/systemd/logind.conf.d", "/etc/systemd/logind.conf.d")
#: Seconds in which the login manager must answer.
_PATIENCE = 3


def processes_end_at_logout() -> bool:
    """Whether it does, as far as can be known: systemd's login manager says so, or its files do."""
    if not os.path.isdir("/run/systemd/system"):
        return False
    try:
        answer = subprocess.run(
            [
                "busctl",
                "get-property",
                "org.freedesktop.login1",
                "/org/freedesktop/login1",
                "org.freedesktop.login1.Manager",
                "KillUserProcesses",
            ],
            stdin=subprocess.DEVNULL,
            capture_output=True,
            text=True,
            timeout=_PATIENCE,
            check=True,
        )
    except (OSError, subprocess.SubprocessError):
        return _said_by_files(_FILES)
    return answer.stdout.strip() == "b true"


def _said_by_files(places: tuple[str, ...]) -> bool:
    """What the login manager's files say; the last word counts."""
    found = False
    for place in map(Path, places):
        for file in sorted(place.glob("*.conf")) if place.is_dir() else [place]:
            try:
                lines = file.read_text(errors="replace").splitlines()
            except OSError:
                continue
            for line in lines:
                name, _, value = line.partition("=")
                if name.strip() == "KillUserProcesses":
                    found = value.strip().lower() in ("yes", "true", "on", "1")
    return found
