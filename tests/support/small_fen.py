"""A small survey, none of whose files is new."""

from __future__ import annotations

import os
import random
from pathlib import Path

FILES = 20


def make_fen(root: Path, large: int = 3 << 20) -> None:
    """Plots with small files, a large file at the top and one below, a link, an empty directory; none of it is new."""
    rng = random.Random(5)
    for number in range(FILES - 3):
        path = root / f"plot-{number % 3:02d}" / f"flux-{number:04d}.csv"
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(rng.randbytes(300 + number))
    (root / "plot-00" / "raw.npy").write_bytes(rng.randbytes(large))
    (root / "README").write_text("the survey\n")
    (root / "plot-01" / os.fsdecode(b"caf\xe9\n")).write_text("odd")
    (root / "empty").mkdir()
    (root / "latest").symlink_to("plot-00/raw.npy")
    (root / "plot-01" / "flux-0001.csv").chmod(0o640)
    age(root)


def age(root: Path) -> None:
    for path in [*root.rglob("*"), root]:
        os.utime(path, ns=(1_700_000_000_123_456_789, 1_700_000_000_123_456_789), follow_symlinks=False)
