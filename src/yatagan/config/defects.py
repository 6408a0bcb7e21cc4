"""What goes wrong in this program itself, written down where its user is not bothered with it.

asyncio tells of tasks that failed unheard and of what was never closed: defects of ours. A terminal is no place for
them, and to say nothing would hide them for ever.
"""

from __future__ import annotations

import logging
import os
import time
from pathlib import Path

from yatagan.config.own_files import open_private

#: What asyncio logs for every write to a lost connection. The write fails as well, and that failure is reported.
_KNOWN = "socket.send() raised exception"


class _LazyFile(logging.Handler):
    """Appends to a file that is created with the first line."""

    def __init__(self, file: Path) -> None:
        super().__init__(logging.WARNING)
        self._file = file

    def emit(self, record: logging.LogRecord) -> None:
        """Where nothing can be written, nothing is."""
        if record.getMessage().startswith(_KNOWN):
            return
        try:
            descriptor = open_private(self._file, os.O_WRONLY | os.O_APPEND)
            with os.fdopen(descriptor, "a", encoding="utf-8", errors="backslashreplace") as file:
                file.write(f"{time.strftime('%Y-%m-%dT%H:%M:%S')} {self.format(record)}\n")
        except OSError:
            pass


def write_defects_to(file: Path) -> None:
    """Write asyncio's warnings and the SSH library's errors to a file."""
    for name in ("asyncio", "asyncssh"):
        logging.getLogger(name).propagate = False
    logging.getLogger("asyncssh").setLevel(logging.CRITICAL)
    logger = logging.getLogger("asyncio")
    logger.handlers[:] = [_LazyFile(file)]
