"""A ledger after years: 100,000 records by 20 writers, half of them with a checksum list."""

from __future__ import annotations

import hashlib
import os
import random
import statistics
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from benchmarks.scene import YATAGAN, Result, scratch
from yatagan.ledger.ledger import Ledger
from yatagan.ledger.records import RecordedPlace, RecordKind, Statement, canonical

_MANY, _FEW, _WRITERS = 100_000, 10, 20
_APPENDS = 400
#: Runs a command, and says how many KiB it took at most. A child of ours would begin with as much as we have.
_MEASURE = """
import resource, subprocess, sys
subprocess.run(sys.argv[1:], stdout=subprocess.DEVNULL, check=True)
print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss)
"""
#: Seconds.
_SYNC = 0.005
_LIST = [(f"fen/plot-{number:02}/chamber-{number:03}.csv".encode(), f"{number:064x}") for number in range(100)]


def ledger() -> Result:
    """An append against a bare append and sync of the same bytes, with ten records and with all; check and show."""
    found: Result = {}
    with scratch(memory=False) as root:
        few, many = _Grown(root / "few", _FEW), _Grown(root / "many", _MANY)
        for what, listed in (("without a list", False), ("with a list", True)):
            times = _append_in_turns(few, many, listed=listed)
            found[f"append {what}, times a bare one"] = times["many"] / times["bare"]
            found[f"append {what}, times that with ten records"] = times["many"] / times["few"]
            found[f"append {what}, ms more than a bare one"] = 1000 * (times["many"] - times["bare"])
        with _slow_sync():
            times = _append_in_turns(few, many, listed=False, turns=40)
            found["append where a sync takes 5 ms, times a bare one"] = times["many"] / times["bare"]
        for name, words in (("check", ["check"]), ("show --since", ["show", "--since", "2026-11-27", "--json"])):
            found[f"{name}, seconds"], found[f"{name}, MB"] = _run(many.place, ["ledger", *words])
    return found


class _Grown:
    """A ledger with so many records."""

    def __init__(self, place: Path, count: int) -> None:
        self.place = place
        self.ledger = Ledger(place / "ledger", place / "ledger-memory")
        self._number = 0
        self.append(listed=True)
        (own,) = self.ledger.directory.writer_files()
        names = [own, *(f"writer{number:02}-{number:016x}.jsonl" for number in range(_WRITERS - 1))]
        for name, lines in _written(names, count, self._fields).items():
            (self.ledger.directory.writers / name).write_bytes(b"".join(lines))
        (self.ledger.memory.directory / "head").write_bytes(b"")  # what the file ends with is looked up
        self.append(listed=True)

    def _fields(self, at: int) -> dict[str, object]:
        day, rest = divmod(at, 60)
        record = {**_statement(f"r{at}").fields(), "format": 2, "who": "mara@moor", "version": "0.1.0"}
        record["recorded_at"] = (
            f"{2020 + day // 28 // 12}-{day // 28 % 12 + 1:02}-{day % 28 + 1:02}T10:{rest:02}:00.000000Z"
        )
        if at % 2:
            record["list"] = self.ledger.directory.list_names()[0]
        return record

    def append(self, *, listed: bool) -> float:
        """Seconds that an append takes."""
        self._number += 1
        statement = _statement(f"new{self._number}")
        began = time.perf_counter()
        done = self.ledger.append(
            statement, (lambda: [(b"%d" % self._number, _LIST[0][1]), *_LIST]) if listed else tuple
        )
        took = time.perf_counter() - began
        assert done.digest, done
        return took

    def last_bytes(self) -> tuple[bytes, bytes]:
        """The bytes of the newest record and of a checksum list."""
        own = self.ledger.directory.writers / f"{self.ledger.memory.writer()}.jsonl"
        listed = self.ledger.directory.lists / self.ledger.directory.list_names()[0]
        return own.read_bytes().splitlines(keepends=True)[-1], listed.read_bytes()


def _written(names: list[str], count: int, fields: Callable[[int], dict[str, object]]) -> dict[str, list[bytes]]:
    """The lines of writers who write in no order, each record with the newest of others that have moved."""
    chance = random.Random(1)
    lines: dict[str, list[bytes]] = {name: [] for name in names}
    newest: dict[str, tuple[int, str]] = {}
    named: dict[str, dict[str, int]] = {name: {} for name in names}
    for at in range(count):
        name = chance.choice(names)
        known, previous = named[name], newest.get(name, (0, ""))
        moved = [other for other in newest if other != name and known.get(other, 0) < newest[other][0]]
        chance.shuffle(moved)
        some = moved[:4] if previous[0] else moved
        known.update({other: newest[other][0] for other in some})
        record = {
            **fields(at),
            "writer": name.removesuffix(".jsonl"),
            "number": previous[0] + 1,
            "previous": previous[1],
        }
        if some:
            record["others"] = {
                other.removesuffix(".jsonl"): {"number": newest[other][0], "digest": newest[other][1]} for other in some
            }
        line = canonical(record)
        newest[name] = previous[0] + 1, hashlib.sha256(line).hexdigest()
        lines[name].append(line + b"\n")
    return {name: found for name, found in lines.items() if found}


def _statement(id: str) -> Statement:
    return Statement(
        id,
        RecordKind.STAGED,
        "good",
        (RecordedPlace("", b"/home/mara/fen-flux/july/fen"),),
        RecordedPlace("heron", b"/scratch/fenflux/july"),
        {"files": 1489, "directories": 31, "failed": 0},
        57_680_804,
        {"on-node": 1489},
        ("yatagan", "stage", "fen", "heron:@scratch/july"),
        "261127-y2cx",
    )


@contextmanager
def _slow_sync() -> Iterator[None]:
    """As on a disk that has to move something: the one here may answer from its memory."""
    really = os.fsync

    def slow(descriptor: int) -> None:
        time.sleep(_SYNC)
        really(descriptor)

    os.fsync = slow
    try:
        yield
    finally:
        os.fsync = really


def _append_in_turns(few: _Grown, many: _Grown, *, listed: bool, turns: int = _APPENDS) -> dict[str, float]:
    """Median seconds of appends, one after the other in turns, so that a disk that changes changes for all."""
    line, contents = many.last_bytes()
    bare = _bare(many.place / "bare", line, contents if listed else b"")
    times: dict[str, list[float]] = {"few": [], "many": [], "bare": []}
    for _ in range(turns):
        times["few"].append(few.append(listed=listed))
        times["many"].append(many.append(listed=listed))
        times["bare"].append(next(bare))
    return {name: statistics.median(taken) for name, taken in times.items()}


def _bare(place: Path, line: bytes, contents: bytes) -> Iterator[float]:
    """Seconds that it takes to append and sync a line, and to put a file in its place, with nothing else."""
    place.mkdir(exist_ok=True)
    number = 0
    while True:
        number += 1
        began = time.perf_counter()
        if contents:
            with (place / "new").open("wb") as stream:
                stream.write(contents)
                stream.flush()
                os.fsync(stream.fileno())
            os.replace(place / "new", place / f"list{number}")
            directory = os.open(place, os.O_RDONLY)
            os.fsync(directory)
            os.close(directory)
        with (place / "lines").open("ab") as stream:
            stream.write(line)
            stream.flush()
            os.fsync(stream.fileno())
        yield time.perf_counter() - began


def _run(home: Path, words: list[str]) -> tuple[float, float]:
    """Seconds and MB (10^6 bytes) that the program takes."""
    began = time.perf_counter()
    environment = {**os.environ, "YATAGAN_HOME": str(home)}
    command = [sys.executable, "-c", _MEASURE, YATAGAN, *words]
    done = subprocess.run(command, env=environment, stdout=subprocess.PIPE, check=True)
    return time.perf_counter() - began, int(done.stdout.splitlines()[-1]) * 1024 / 1e6


BENCHES: dict[str, Callable[[], Result]] = {"ledger": ledger}
