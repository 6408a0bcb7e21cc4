"""What has workers run after a restart and every few minutes: systemd units of the user, or lines of a crontab. No I/O.

Everything that a run needs is written down in it, because nothing of the user's session is there then: the interpreter,
and which directories are ours.
"""

from __future__ import annotations

import hashlib
import shlex
from collections.abc import Mapping
from dataclasses import dataclass

#: Minutes between runs.
EVERY = 5
#: What of the environment says where our files are.
PLACES = ("YATAGAN_HOME", "XDG_CONFIG_HOME", "XDG_STATE_HOME", "XDG_RUNTIME_DIR")


class NotWritable(Exception):
    """A path has characters that cannot be written down there. The text is a clause."""


@dataclass(frozen=True, slots=True)
class Timed:
    """What is run: by which interpreter, with which of `PLACES`, and where what it says goes. Absolute paths."""

    python: str
    places: Mapping[str, str]
    log: str

    @property
    def words(self) -> list[str]:
        """The command."""
        return [self.python, "-P", "-m", "yatagan", "service", "run", "--from-timer"]

    @property
    def name(self) -> str:
        """A name for it, different for different directories of one user: `yatagan`, or `yatagan-1a2b3c4d`."""
        home = self.places.get("YATAGAN_HOME", "")
        return (
            f"yatagan-{hashlib.sha256(home.encode('utf-8', 'surrogateescape')).hexdigest()[:8]}" if home else "yatagan"
        )


# -- systemd ---------------------------------------------------------------------------------------------


def service_unit(timed: Timed) -> str:
    """The unit of a run (systemd.service(5)). Raises NotWritable."""
    places = [_quoted(f"{name}={value}", variables=False) for name, value in sorted(timed.places.items())]
    environment = "".join(f"Environment={place}\n" for place in places)
    # In what is run itself, no variable is looked for.
    command = " ".join([_quoted(timed.python, variables=False), *map(_quoted, timed.words[1:])])
    log = _plain(timed.log)
    return f"""\
# Written by yatagan service install, and removed by yatagan service remove.
[Unit]
Description=Yatagan: batches and routines in the background

[Service]
Type=exec
{environment}ExecStart={command}
StandardOutput=append:{log}
StandardError=append:{log}
# A worker starts others beside it, and may end before them.
KillMode=process
Nice=5
"""


def timer_unit(timed: Timed) -> str:
    """The unit that starts it: a minute after the start, then every few minutes (systemd.timer(5))."""
    return f"""\
# Written by yatagan service install, and removed by yatagan service remove.
[Unit]
Description=Yatagan: go on with what is unfinished

[Timer]
OnStartupSec=1min
OnUnitInactiveSec={EVERY}min

[Install]
WantedBy=timers.target
"""


def _plain(text: str) -> str:
    """A path in a setting that is not split into words. Raises NotWritable."""
    if any(ord(char) < 32 for char in text) or text != text.strip():
        raise NotWritable("a path has characters in it that no unit can hold")
    return text.replace("%", "%%")


def _quoted(text: str, *, variables: bool = True) -> str:
    """A word of a unit file. `variables`: a $ there would begin the name of one. Raises NotWritable."""
    escaped = _plain(text).replace("\\", "\\\\").replace('"', '\\"')
    return f'"{escaped.replace("$", "$$") if variables else escaped}"'


# -- crontab ---------------------------------------------------------------------------------------------


def crontab_lines(timed: Timed) -> list[str]:
    """The lines between our markers (crontab(5)). Raises NotWritable."""
    places = [f"{name}={shlex.quote(value)}" for name, value in sorted(timed.places.items())]
    command = " ".join(["cd", "/", "&&", *places, shlex.join(timed.words), f">>{shlex.quote(timed.log)}", "2>&1"])
    if any(ord(char) < 32 for char in command):
        raise NotWritable("a path has characters in it that no crontab can hold")
    if "\\%" in command:
        raise NotWritable("a path has a backslash before a % in it, which cron takes away")
    # An unescaped % ends the command and begins its standard input, even in quotes; cron takes the backslash away.
    command = command.replace("%", "\\%")
    return [f"@reboot {command}", f"*/{EVERY} * * * * {command}"]


def _markers(name: str) -> tuple[str, str]:
    return f"# begin {name} (by yatagan service install)", f"# end {name}"


class BrokenMarkers(Exception):
    """Our markers in a crontab are not one pair: they were edited."""


def with_lines(crontab: str, name: str, lines: list[str]) -> str:
    """A crontab with these lines between our markers, in place of what was there; without any, without the markers.

    No other line changes. Raises BrokenMarkers.
    """
    begin, end = _markers(name)
    found = crontab.splitlines(keepends=True)
    marks = [at for at, line in enumerate(found) if line.rstrip("\n") in (begin, end)]
    ours = [f"{line}\n" for line in (begin, *lines, end)] if lines else []
    if not marks:
        if found and not found[-1].endswith("\n"):
            found[-1] += "\n"
        return "".join([*found, *ours])
    if len(marks) != 2 or found[marks[0]].rstrip("\n") != begin:
        raise BrokenMarkers
    return "".join([*found[: marks[0]], *ours, *found[marks[1] + 1 :]])


def lines_in(crontab: str, name: str) -> list[str]:
    """The lines between our markers; none if there are no markers. Raises BrokenMarkers."""
    begin, end = _markers(name)
    found = crontab.splitlines()
    if begin not in found and end not in found:
        return []
    if found.count(begin) != 1 or found.count(end) != 1 or found.index(begin) > found.index(end):
        raise BrokenMarkers
    return found[found.index(begin) + 1 : found.index(end)]
