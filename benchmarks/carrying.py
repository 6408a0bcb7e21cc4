"""Carrying: one big file, many small ones, long lines, nothing to do, and how much is sent again."""

from __future__ import annotations

import contextlib
import getpass
import json
import os
import shutil
import signal
import statistics
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager, nullcontext
from pathlib import Path
from typing import Any, Self

from benchmarks import bare, link
from benchmarks.scene import FILES, YATAGAN, Result, noise, program, scratch, small_files
from benchmarks.servers import Relay, Sshd

BIG = 1 << 30
WINDOW = 8 << 20


class Bed:
    """A server and a node, perhaps at the end of a long line, and the runs that are held against each other."""

    def __init__(self, root: Path, sshd: Sshd, port: int | None = None, prefix: Sequence[str] = ()) -> None:
        self.root, self.sshd, self.prefix = root, sshd, prefix
        self.port = port or sshd.port
        self.program(*sshd.add("oak", self.port))

    def program(self, *words: str) -> str:
        return program(self.root, *words, prefix=self.prefix)

    def bare(self, kind: str, near: str, far: str, **how: Any) -> dict[str, float]:
        key, user = self.sshd.key, getpass.getuser()
        near, far = str(self.root / near), str(self.sshd.root / far)
        return bare.run(bare.Task(kind, self.sshd.address, self.port, user, key, near, far, how), *self.prefix)

    def stage(self, *words: str) -> dict[str, Any]:
        found: dict[str, Any] = json.loads(self.program("stage", *words, "--json"))["batch"]
        return found

    def up(self, name: str, *words: str) -> float:
        """Seconds to stage a file to an empty directory of the node."""
        shutil.rmtree(self.sshd.root / "in", ignore_errors=True)
        return float(self.stage(name, "oak:in", *words)["moving_seconds"])

    def down(self, name: str, *words: str) -> float:
        shutil.rmtree(self.root / "back", ignore_errors=True)
        return float(self.stage(f"oak:{name}", "back", *words)["moving_seconds"])


def one_big_file() -> Result:
    """1 GiB each way without delay: against a bare loop at its best setting, with and without a digest beside it."""
    found: dict[str, list[float]] = {}
    with scratch() as root, Sshd(root) as sshd:
        bed = Bed(root, sshd)
        noise(root / "big", BIG)
        bed.bare("one-file", "big", "ref", up=True)
        for _ in range(3):
            for way, near in (("up", "big"), ("down", "ref-back")):
                plain = bed.bare("one-file", near, "ref", up=way == "up", digest=False)["seconds"]
                digest = bed.bare("one-file", near, "ref", up=way == "up")["seconds"]
                began = time.perf_counter()
                subprocess.run(["sha256sum", sshd.root / "ref"], check=True, stdout=subprocess.DEVNULL)
                hashing = time.perf_counter() - began
                run, name = (bed.up, "big") if way == "up" else (bed.down, "ref")
                ours = run(name, "--prove", "none")
                found.setdefault(f"{way}, MB/s", []).append(BIG / ours / 1e6)
                found.setdefault(f"{way}, MB/s, bare with digest", []).append(BIG / digest / 1e6)
                found.setdefault(f"{way}, ratio", []).append(digest / ours)
                found.setdefault(f"{way}, ratio to bare without digest", []).append(plain / ours)
                if way == "up":
                    proven = run(name, "--prove", "on-node")
                    found.setdefault("up, proven on the node, ratio", []).append((digest + hashing) / proven)
    return {what: statistics.median(values) for what, values in found.items()}


def many_small() -> Result:
    """10,000 files of 4 KiB up, one by one: against loops that send the same requests, 64 files at a time."""
    found: Result = {}
    with scratch() as root, Sshd(root) as sshd:
        bed = Bed(root, sshd)
        flat(root)
        pairs = {
            "the same requests": (["--prove", "none"], {"sync": True, "facts": True, "rename": True}),
            "facts and renames, against the helper": (["--prove", "on-node"], {"facts": True, "rename": True}),
        }
        for what, (words, how) in pairs.items():
            ratios = []
            for _ in range(3):
                (sshd.root / "ref").mkdir()
                theirs = bed.bare("small-files", "fen", "ref", at_once=64, **how)["seconds"]
                shutil.rmtree(sshd.root / "ref")
                ours = bed.up("fen", "--pack", "never", *words)
                ratios.append(theirs / ours)
            found[f"files/s, {what}"] = round(FILES / ours)
            found[f"ratio, {what}"] = statistics.median(ratios)
    with scratch() as root, Sshd(root) as sshd, Relay(sshd.port, delay=0.025) as relay:
        bed = Bed(root, sshd, relay.port)
        flat(root)
        (root / "few").mkdir()
        for name in sorted(os.listdir(root / "fen"))[:40]:
            shutil.copy(root / "fen" / name, root / "few")
        (sshd.root / "ref").mkdir()
        slow = bed.bare("small-files", "few", "ref", at_once=1, facts=True, rename=True)["seconds"] / 40
        for what, words in (("together", []), ("one by one", ["--pack", "never"])):
            found[f"at 50 ms, {what}, times one at a time"] = slow * FILES / bed.up("fen", *words)
    return found


def flat(root: Path) -> None:
    """The small files in one directory."""
    small_files(root / "deep")
    (root / "fen").mkdir()
    for path in (root / "deep").rglob("*.csv"):
        path.rename(root / "fen" / path.name)
    shutil.rmtree(root / "deep")
    time.sleep(2.5)


def long_line(size: int = 2 << 30, **how: float) -> Result:
    """2 GiB at 50 ms: times one default channel, and against the best fixed setting. As root, else through a relay."""
    found: Result = {}
    real = link.possible()
    line: AbstractContextManager[object] = link.Link(**how) if real else nullcontext()
    with scratch() as root, line:
        address, space = (link.FAR_ADDRESS, link.FAR) if real else ("127.0.0.1", "")
        prefix = ["ip", "netns", "exec", link.NEAR] if real else []
        with Sshd(root, address, space) as sshd:
            relay = nullcontext() if real else Relay(sshd.port, delay=0.025)
            with relay:
                bed = Bed(root, sshd, None if real else relay.port, prefix)  # type: ignore[union-attr]
                noise(root / "big", size)
                shutil.copy(root / "big", sshd.root / "ref")
                for way in ("up", "down"):
                    found |= _long(bed, way, size)
                bed.program(*sshd.add("oak", bed.port), "--logins", "1")
                for way in ("up", "down"):
                    run, name = (bed.up, "big") if way == "up" else (bed.down, "ref")
                    rate = size / run(name, "--prove", "none") / 1e6
                    found[f"{way}, one login, times one channel"] = rate / float(found[f"{way}, MB/s, one channel"])
    return found


def _long(bed: Bed, way: str, size: int) -> Result:
    up = way == "up"
    near = "big" if up else "ref-back"

    def rate(**how: Any) -> float:
        done = bed.bare("one-file", near, "ref", up=up, **how)
        return done["in_place_bytes"] / done["moving_seconds"] / 1e6

    one = rate(seconds=10)
    settings = (
        [{"connections": 4, "channels": 2}, {"connections": 8}] if up else [{"connections": 4}, {"connections": 8}]
    )
    best = max(rate(window=WINDOW, **setting) for setting in settings)
    run, name = (bed.up, "big") if up else (bed.down, "ref")
    first = size / run(name, "--prove", "none") / 1e6
    with Watch(bed.sshd.root / "in" if up else bed.root / "back") as watch:
        ours = size / run(name, "--prove", "none") / 1e6  # it knows the line by now
    return {
        f"{way}, MB/s, one channel": one,
        f"{way}, MB/s, best fixed setting": best,
        f"{way}, MB/s, for the first time": first,
        f"{way}, MB/s": ours,
        f"{way}, times one channel": ours / one,
        f"{way}, ratio to the best fixed setting": ours / best,
        f"{way}, longest below half of that, seconds": watch.longest_below(best * 1e6 / 2),
    }


class Watch:
    """How much there is in a directory, again and again."""

    def __init__(self, directory: Path) -> None:
        self._directory = directory
        self._seen: list[tuple[float, int]] = []
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._look)

    def __enter__(self) -> Self:
        self._thread.start()
        return self

    def __exit__(self, *error: object) -> None:
        self._over.set()
        self._thread.join()

    def _look(self) -> None:
        while not self._over.wait(0.2):
            with contextlib.suppress(OSError):
                size = sum(each.stat().st_blocks * 512 for each in self._directory.iterdir())
                self._seen.append((time.monotonic(), size))

    def longest_below(self, rate: float) -> float:
        """The longest time, in seconds, in which no whole second brought so much, from the first byte to the last."""
        last = max((size for _, size in self._seen), default=0)
        moving = [(at, size) for at, size in self._seen if 0 < size < last]
        longest, since = 0.0, None
        for (at, size), (later, more) in zip(moving, moving[5:], strict=False):
            slow = (more - size) / (later - at) < rate
            since = (at if since is None else since) if slow else None
            longest = max(longest, later - since if since is not None else 0.0)
        return longest


def capped_line() -> Result:
    """The same on a line of 125 MB/s."""
    return long_line(rate=125e6)


def lossy_line() -> Result:
    """The same with one packet in 50,000 lost."""
    return long_line(loss=1 / 50_000)


def processes() -> Result:
    """Seconds of the processor that the event loop needs for 1 GiB, alone and with three processes beside it.

    On a machine with the processors for it the loop is what bounds the rate.
    """
    found: Result = {}
    with scratch() as root, Sshd(root) as sshd:
        bed = Bed(root, sshd)
        noise(root / "big", BIG)
        shutil.copy(root / "big", sshd.root / "ref")
        for way, words in (("up", ["big", "oak:in"]), ("down", ["oak:ref", "back"])):
            seconds = {}
            for beside in (0, 3):
                bed.program("config", "set", "connection.processes", str(beside))
                seconds[beside] = statistics.median(
                    _of_the_loop(root, [*words[:1], f"{words[1]}-{beside}-{turn}"]) for turn in range(3)
                )
                found[f"{way}, seconds, {beside} beside"] = seconds[beside]
            found[f"{way}, times as fast at best"] = seconds[0] / seconds[3]
    return found


def _of_the_loop(root: Path, words: list[str]) -> float:
    """Seconds of the processor that the first thread of a stage has had, the start of the program left out."""
    environment = {**os.environ, "YATAGAN_HOME": str(root)}
    command = [YATAGAN, "stage", *words, "--prove", "none", "--quiet"]
    (root / "lines").mkdir(exist_ok=True)  # as if it had learned that this line takes four lanes
    (root / "lines" / "oak.json").write_text('{"lanes": 4, "rate": 5e8, "round_trip": 0.001}')

    def so_far(child: subprocess.Popen[bytes]) -> float:
        told = Path(f"/proc/{child.pid}/task/{child.pid}/stat").read_text().rpartition(")")[2].split()
        return (int(told[11]) + int(told[12])) / os.sysconf("SC_CLK_TCK")

    with subprocess.Popen(command, cwd=root, env=environment, stdin=subprocess.DEVNULL) as child:
        found = [0.0]
        while child.poll() is None:
            found.append(so_far(child))
            time.sleep(0.02)
    return found[-1] - found[30]


def nothing_to_do(files: int = 100_000) -> Result:
    """100,000 files that are there already: against scanning both sides alone."""
    with scratch() as root, Sshd(root) as sshd:
        bed = Bed(root, sshd)
        for number in range(files):
            path = root / "fen" / f"plot-{number // 1000:03d}" / f"{number:06d}"
            path.parent.mkdir(parents=True, exist_ok=True)
            path.touch()
        subprocess.run(["cp", "-a", root / "fen", sshd.root / "fen"], check=True)
        time.sleep(2.5)
        scanning, ours = [], []
        for _ in range(3):
            began = time.perf_counter()
            subprocess.run([sys.executable, "-m", "benchmarks.scanning", str(root), "fen", "fen"], check=True)
            scanning.append(time.perf_counter() - began)
            began = time.perf_counter()
            bed.program("stage", "fen", "oak:", "--quiet")
            ours.append(time.perf_counter() - began)
        return {
            "seconds": statistics.median(ours),
            "seconds, scanning both sides": statistics.median(scanning),
            "ratio": statistics.median(theirs / mine for theirs, mine in zip(ours, scanning, strict=True)),
        }


def resume(size: int = BIG) -> Result:
    """Killed half-way: bytes sent again, against what was on its way and not synced, and 8 MiB."""
    with scratch() as root, Sshd(root) as sshd:
        bed = Bed(root, sshd)
        noise(root / "big", size)
        environment = {**os.environ, "YATAGAN_HOME": str(root)}
        with subprocess.Popen(
            [YATAGAN, "stage", "big", "oak:", "--quiet"], cwd=root, env=environment, stdin=subprocess.DEVNULL
        ) as run:
            while sum(path.stat().st_size for path in sshd.root.iterdir()) < size // 2:
                time.sleep(0.01)
            run.send_signal(signal.SIGKILL)
        time.sleep(1)
        there = sum(path.stat().st_size for path in sshd.root.iterdir())
        [journal] = root.glob("batches/*/journal.db")
        synced = _durable(journal)
        done = json.loads(bed.program("batch", "resume", "--json"))
        assert done["good"] and (sshd.root / "big").stat().st_size == size
        return {
            "MiB there at the kill": there / (1 << 20),
            "MiB synced at the kill": synced / (1 << 20),
            "MiB sent again": done["sent_again_bytes"] / (1 << 20),
            "MiB more than was not synced": (done["sent_again_bytes"] - (there - synced)) / (1 << 20),
        }


def _durable(journal: Path) -> int:
    import sqlite3

    with sqlite3.connect(journal) as sql:
        [(durable,)] = sql.execute("SELECT durable FROM step WHERE kind = 'file'")
    return sum(int(end) - int(start) for start, end in (each.split("-") for each in durable.split(",") if each))


def start_up() -> Result:
    """`yatagan --version` over `python -c pass`."""

    def best(*command: str) -> float:
        times = []
        for _ in range(15):
            began = time.perf_counter()
            subprocess.run(command, check=True, stdout=subprocess.DEVNULL, env=environment)
            times.append(time.perf_counter() - began)
        return statistics.median(times)

    environment = {key: value for key, value in os.environ.items() if key != "PYTHONDONTWRITEBYTECODE"}
    best(YATAGAN, "--version")
    nothing, version = best(sys.executable, "-c", "pass"), best(YATAGAN, "--version")
    return {"ms, python alone": nothing * 1000, "ms, --version": version * 1000, "ms more": (version - nothing) * 1000}


def memory(files: int = 1_000_000) -> Result:
    """The most memory that planning 1,000,000 entries takes, MB."""
    with scratch() as root, Sshd(root) as sshd:
        bed = Bed(root, sshd)
        for number in range(files):
            path = root / "fen" / f"{number // 10_000:03d}" / f"{number // 100 % 100:02d}"
            if number % 100 == 0:
                path.mkdir(parents=True, exist_ok=True)
            (path / f"flux-{number:07d}.csv").touch()
        time.sleep(2.5)
        del bed
        script = "import resource, subprocess, sys; subprocess.run(sys.argv[1:], check=True); "
        script += "print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss)"
        began = time.perf_counter()
        done = subprocess.run(
            [sys.executable, "-c", script, YATAGAN, "stage", "fen", "oak:", "--plan-only", "--quiet"],
            cwd=root,
            env={**os.environ, "YATAGAN_HOME": str(root)},
            check=True,
            capture_output=True,
            text=True,
        )
        return {"MB": int(done.stdout.split()[-1]) * 1024 / 1e6, "seconds": time.perf_counter() - began}


BENCHES: dict[str, Callable[[], Result]] = {
    "one-big-file": one_big_file,
    "many-small": many_small,
    "long-line": long_line,
    "capped-line": capped_line,
    "lossy-line": lossy_line,
    "processes": processes,
    "nothing-to-do": nothing_to_do,
    "resume": resume,
    "start-up": start_up,
    "memory": memory,
}
