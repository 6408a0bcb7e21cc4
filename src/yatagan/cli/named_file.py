"""Small files of this machine that a person names in a command.

The shell's `<(…)` is a pipe that this process has open already, and is read to its end. A FIFO in a directory is not:
whoever may write there could have made it, and nobody may ever write into it.
"""

from __future__ import annotations

import errno
import os
import re
from pathlib import Path

from yatagan.config.guarded_files import LARGEST, read_small, read_within
from yatagan.errors import BadPlace

_DESCRIPTOR = re.compile(r"/(?:dev|proc/self)/fd/(\d{1,6})")


def open_descriptor(typed: str) -> int | None:
    """The open descriptor that a path as typed stands for; None for any other path."""
    match = _DESCRIPTOR.fullmatch("/dev/fd/0" if typed == "/dev/stdin" else typed)
    return int(match[1]) if match is not None else None


def read_named(file: Path, meant: str, largest: int = LARGEST) -> bytes:
    """What a named file or pipe holds. Raises BadPlace, with what is `meant`; NotBelieved for what is not read."""
    if os.path.isdir(file):
        raise BadPlace(str(file), os.strerror(errno.EISDIR), meant)
    try:
        descriptor = open_descriptor(str(file))
        if descriptor is not None:
            return read_within(descriptor, str(file), largest)
        return read_small(Path(os.path.abspath(file)), ours=False, largest=largest)
    except OSError as error:
        raise BadPlace(str(file), error.strerror or str(error), meant) from None
