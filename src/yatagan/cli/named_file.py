"""Small files of this machine that a person names in a command: any kind, a pipe of the shell among them."""

from __future__ import annotations

import os
from pathlib import Path

from yatagan.config.guarded_files import LARGEST, read_within
from yatagan.errors import BadPlace


def read_named(file: Path, meant: str, largest: int = LARGEST) -> bytes:
    """What a named file or pipe holds. Raises BadPlace, with what is `meant`; NotBelieved for more than `largest`."""
    try:
        descriptor = os.open(file, os.O_RDONLY | os.O_CLOEXEC)
        try:
            return read_within(descriptor, str(file), largest)
        finally:
            os.close(descriptor)
    except OSError as error:
        raise BadPlace(str(file), error.strerror or str(error), meant) from None
