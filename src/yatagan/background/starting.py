"""Starting a worker that outlives the command, its terminal and its login session."""

from __future__ import annotations

import contextlib
import os
import subprocess
import sys
from pathlib import Path

from yatagan import version
from yatagan.config.home import Home
from yatagan.config.own_files import open_private
from yatagan.errors import JournalError

#: Bytes of the workers' log; a full one is kept beside it.
_LARGEST = 1 << 20


def is_replaced() -> bool:
    """Whether another version of this program is installed by now than the one that runs."""
    try:
        return f'"{version.__version__}"' not in Path(version.__file__).read_text()
    except OSError:  # it is being installed
        return False


def start_worker(home: Home) -> int:
    """Start a worker in a session of its own, without a terminal. Returns its process. Raises JournalError.

    It has our environment, and with that the same directories; of our open files it has none.
    """
    log = home.workers_log
    try:
        with contextlib.suppress(FileNotFoundError):
            if log.stat().st_size > _LARGEST:
                os.replace(log, log.with_name(f"{log.name}.1"))
        descriptor = open_private(log, os.O_WRONLY | os.O_APPEND)
    except OSError as error:
        raise JournalError(str(log), error.strerror or str(error)) from error
    try:
        process = subprocess.Popen(
            [sys.executable, "-P", "-m", "yatagan", "service", "run"],
            stdin=subprocess.DEVNULL,
            stdout=descriptor,
            stderr=descriptor,
            cwd="/",
            start_new_session=True,
        )
    finally:
        os.close(descriptor)
    return process.pid
