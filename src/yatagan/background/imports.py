"""Importing all that a batch may need, so that an upgrade of the program in the middle of one changes nothing in it."""

from __future__ import annotations

import contextlib
import importlib
import pkgutil
from pathlib import Path

#: Rooms that no worker needs.
_NOT_NEEDED = ("yatagan.cli", "yatagan.practice", "yatagan.__main__", "yatagan.keeper.__main__")
#: Packages that other modules import late.
_OTHERS = (
    "asyncssh",
    "blake3",
    "concurrent.futures.thread",
    "isal.igzip",
    "isal.isal_zlib",
    "numpy",
    "tomlkit",
    "zstandard",
)
#: Modules that not every Python has.
_IF_THERE = ("smtplib", "ssl", "watchfiles")

#: Whether all of it is imported.
done = False


def import_all() -> None:
    """Import every module that a batch may need."""
    for found in pkgutil.walk_packages([str(Path(__file__).parents[1])], "yatagan."):
        if not found.name.startswith(_NOT_NEEDED):
            importlib.import_module(found.name)
    for name in _OTHERS:
        importlib.import_module(name)
    for name in _IF_THERE:
        with contextlib.suppress(ImportError):  # then no mail can be sent, and that is said when it is tried
            importlib.import_module(name)
    global done
    done = True
