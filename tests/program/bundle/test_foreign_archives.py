"""The tar format and what packs it, compared with GNU tar, Python's tarfile and the packers' own commands."""

from __future__ import annotations

import random
import subprocess

import pytest

from conftest import Program, needs_zstd


@needs_zstd
@pytest.mark.parametrize("packed", ["tar", "tar.gz", "tar.zst", "own.tar.zst"])
def test_a_damaged_archive_is_called_damaged(packed: str, program: Program) -> None:
    """Hit or cut anywhere: no traceback, and where a known format is left, never "no archive"."""
    fen = program.directory / "fen"
    fen.mkdir()
    for name in ("a.npy", "b.npy"):
        (fen / name).write_bytes(random.Random(name).randbytes(40_000))
    whole = program.directory / f"whole.{packed}"
    if packed == "own.tar.zst":
        program("bundle", "make", "fen", "--output", str(whole))
    else:
        how = {"tar": [], "tar.gz": ["-z"], "tar.zst": ["--zstd"]}[packed]
        subprocess.run(["tar", "-c", *how, "-f", whole, "fen"], cwd=program.directory, check=True)
    data = whole.read_bytes()
    rng = random.Random(packed)
    for number in range(8):
        hurt = bytearray(data)
        if number % 2:
            del hurt[rng.randrange(20, len(data) - 2000) :]
        else:
            # Without a checksum a first header that is hit looks like anything.
            begin = 1200 if packed == "tar.zst" else 30
            at = rng.randrange(begin, rng.choice([begin + 600, len(data) - 2000]))
            hurt[at : at + 4] = bytes(each ^ 0x55 for each in hurt[at : at + 4])
        damaged = program.directory / f"damaged.{packed}"
        damaged.write_bytes(hurt)
        for words in (("list",), ("check",), ("unpack", "--into", f"out-{number}")):
            done = program("bundle", words[0], str(damaged), *words[1:], expect=None)
            said = done.stdout + done.stderr
            assert "Traceback" not in said
            assert done.returncode == 1 or packed == "tar", (number, words, said)
            assert packed == "tar" or "no archive of a known format" not in said, (number, words, said)
