"""Part files, and what others do to them."""

from __future__ import annotations

import contextlib
from pathlib import Path

STRANGE = b"strange " * 1000


def untouched(aside: Path) -> bool:
    if not aside.exists():
        return True  # it has become the part file
    status = aside.stat()
    return aside.read_bytes() == STRANGE and status.st_mode & 0o777 == 0o640 and status.st_mtime == 1_000_000_000


def part_sizes(root: Path) -> list[int]:
    """Sizes of the part files there now; the token by which a session proves its disk is none of them."""
    found = []
    for path in root.glob(".yatagan-*.part"):
        with contextlib.suppress(FileNotFoundError):
            found += [path.stat().st_size] if "token" not in path.name else []
    return found
