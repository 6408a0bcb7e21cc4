"""The data of a made-up survey: fen-flux, methane from a peat bog.

About 1,500 files and 60 MB, the same at every call: readings of the chambers (CSV, one file a chamber and
day), thermal tiles (NumPy's NPY format 1.0, raw counts of the camera as 16-bit integers), station notes, a
calibration, a link to the latest of them, and a directory that is still empty.
"""

from __future__ import annotations

import array
import math
import os
import random
import struct
import time
from collections.abc import Iterator
from pathlib import Path

_SEED = 20260714
CHAMBERS = 24
DAYS = 60
_TILES = 36
_TILE_ROWS, _TILE_COLUMNS = 720, 1080
#: The survey's first day, 2026-05-04, as seconds since the epoch (UTC).
_FIRST_DAY = 1_777_852_800


def make_survey(directory: Path) -> None:
    """Write the survey's inputs below `directory`, which must not exist yet."""
    rng = random.Random(_SEED)
    directory.mkdir(parents=True)
    for name, day, data in _files(rng):
        file = directory / name
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_bytes(data)
        stamp = _FIRST_DAY + day * 86_400 + 64_800 + rng.randrange(3600)
        os.utime(file, (stamp, stamp))
    (directory / "calibration" / "latest.csv").symlink_to("2026-06.csv")
    (directory / "thermal" / "reference.npy").symlink_to("tile-00.npy")
    (directory / "drone").mkdir()
    (directory / "run-model.sh").chmod(0o755)


def _files(rng: random.Random) -> Iterator[tuple[str, int, bytes]]:
    """(name, day of the survey, contents)."""
    for chamber in range(1, CHAMBERS + 1):
        for day in range(DAYS):
            date = time.strftime("%Y-%m-%d", time.gmtime(_FIRST_DAY + day * 86_400))
            yield f"chambers/chamber-{chamber:02d}/{date}.csv", day, _readings(rng, chamber, day, date)
    waves = [_wave(rng) for _ in range(3)]
    for tile in range(_TILES):
        yield f"thermal/tile-{tile:02d}.npy", tile, _tile(rng, waves)
    for month in ("2026-05", "2026-06"):
        lines = [f"{level},{level * 1.02 + rng.uniform(-3, 3):.2f}\n" for level in range(0, 4000, 250)]
        yield f"calibration/{month}.csv", 30, ("ppb_reference,ppb_measured\n" + "".join(lines)).encode()
    for week in range(1, 9):
        yield f"notes/week-{week}.txt", week * 7, _note(rng, week)
    yield (
        "notes/chamber 7 (flooded).txt",
        21,
        b"Collar under water after the storm. Readings of days 19 to 23 are void.\n",
    )
    yield "stations.csv", 0, b"station,kind\nheather,hollow\nsedge,lawn\nsundew,hummock\n"
    yield "run-model.sh", 0, b"#!/bin/sh\n# Sum the fluxes of every chamber.\nexec sh ./sum-fluxes.sh\n"


def _readings(rng: random.Random, chamber: int, day: int, date: str) -> bytes:
    """One chamber's day: a closure every 45 minutes."""
    base = 1900 + 40 * math.sin(day / 9) + chamber
    lines = ["time,ch4_ppb,air_c,water_cm\n"]
    for closure in range(32):
        minute = closure * 45
        warmth = 14 + 9 * math.sin((minute - 540) / 1440 * 2 * math.pi)
        lines.append(
            f"{date}T{minute // 60:02d}:{minute % 60:02d}Z,{base + warmth * 6 + rng.gauss(0, 12):.1f},"
            f"{warmth + rng.gauss(0, 0.4):.2f},{-8 + rng.gauss(0, 1.5):.1f}\n"
        )
    return "".join(lines).encode()


def _wave(rng: random.Random) -> array.array[int]:
    """A long smooth profile of camera counts, with a little noise."""
    phase = rng.uniform(0, 6)
    values = (
        int(29_000 + 900 * math.sin(at / 211 + phase) + 350 * math.sin(at / 37) + rng.getrandbits(5))
        for at in range(_TILE_COLUMNS * 40)
    )
    return array.array("H", values)


def _tile(rng: random.Random, waves: list[array.array[int]]) -> bytes:
    """A tile, its rows cut from the profiles at places that wander."""
    rows, at = [], rng.randrange(_TILE_COLUMNS * 20)
    wave = rng.choice(waves)
    room = len(wave) - _TILE_COLUMNS
    for _ in range(_TILE_ROWS):
        at = (at + rng.randrange(1, 9)) % room
        rows.append(wave[at : at + _TILE_COLUMNS].tobytes())
    header = f"{{'descr': '<u2', 'fortran_order': False, 'shape': ({_TILE_ROWS}, {_TILE_COLUMNS}), }}"
    padded = header.ljust((len(header) + 11 + 63) // 64 * 64 - 11) + "\n"
    return b"\x93NUMPY\x01\x00" + struct.pack("<H", len(padded)) + padded.encode() + b"".join(rows)


def _note(rng: random.Random, week: int) -> bytes:
    weather = rng.choice(["drizzle all week", "dry and warm", "fog until noon", "two nights of frost"])
    return f"Week {week}: {weather}. Collars checked, vials changed, heather station levelled.\n".encode()


def make_results(directory: Path, survey: Path) -> None:
    """What a computation on the node would leave: monthly sums from the readings that arrived there."""
    directory.mkdir(parents=True)
    for chamber in range(1, CHAMBERS + 1):
        values = []
        for file in sorted((survey / f"chambers/chamber-{chamber:02d}").glob("*.csv")):
            values += [float(line.split(",")[1]) for line in file.read_text(encoding="ascii").splitlines()[1:]]
        mean = sum(values) / len(values)
        text = f"chamber,readings,mean_ch4_ppb\n{chamber},{len(values)},{mean:.2f}\n"
        (directory / f"flux-{chamber:02d}.csv").write_text(text, encoding="ascii")
    (directory / "model.log").write_text("24 chambers summed\n" * 200, encoding="ascii")
