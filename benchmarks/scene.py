"""What the measurements share: a directory of their own, the program, and files to carry."""

from __future__ import annotations

import os
import random
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

YATAGAN = str(Path(sys.executable).with_name("yatagan"))
FILES, SIZE = 10_000, 4096
Result = dict[str, float | int | str]


@contextmanager
def scratch(*, memory: bool = True) -> Iterator[Path]:
    """A directory of our own, in memory where there is such a disk."""
    where = "/dev/shm" if memory and os.path.isdir("/dev/shm") else None
    with tempfile.TemporaryDirectory(prefix="yatagan-bench-", dir=where) as name:
        yield Path(name)


def seconds(work: Callable[[], object]) -> float:
    began = time.perf_counter()
    work()
    return time.perf_counter() - began


def small_files(root: Path) -> None:
    rng = random.Random(1)
    for number in range(FILES):
        path = root / f"plot-{number // 500:02d}" / f"flux-{number:05d}.csv"
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(rng.randbytes(SIZE))


def program(home: Path, *words: str, prefix: Sequence[str] = ()) -> str:
    done = subprocess.run(
        [*prefix, YATAGAN, *words],
        cwd=home,
        env={**os.environ, "YATAGAN_HOME": str(home)},
        stdin=subprocess.DEVNULL,
        capture_output=True,
        text=True,
        check=True,
    )
    return done.stdout


def noise(path: Path, size: int) -> None:
    """A file that nothing makes smaller."""
    with path.open("wb") as stream:
        for at in range(0, size, 1 << 20):
            stream.write(os.urandom(min(1 << 20, size - at)))
    time.sleep(2.5)  # so that it is not so new that it would be waited for
