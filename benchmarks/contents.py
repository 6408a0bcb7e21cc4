"""Looking into files: only what has changed of a large one is sent, and a tree is hashed where it is."""

from __future__ import annotations

import os
import random
import shutil
import statistics
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

from benchmarks.carrying import BIG, Bed
from benchmarks.scene import YATAGAN, Result, noise, program, scratch, seconds, small_files
from benchmarks.servers import Sshd


def changed_parts() -> Result:
    """1 GiB with 1 % changed in ten places, and a line inserted: bytes sent, and the time against all of it."""
    found: Result = {}
    with scratch() as root, Sshd(root) as sshd:
        bed = Bed(root, sshd)
        noise(root / "old", BIG)
        shutil.copy(root / "old", root / "new")
        rng = random.Random(1)
        with (root / "new").open("r+b") as stream:
            for _ in range(10):
                stream.seek(rng.randrange(BIG - BIG // 1000))
                stream.write(rng.randbytes(BIG // 1000))
            at = BIG // 3
            stream.seek(at)
            rest = stream.read()
            stream.seek(at)
            stream.write(b"a line more\n" + rest)
        time.sleep(2.5)
        whole = {"up": bed.up("new"), "down": 0.0}
        shutil.copy(sshd.root / "in" / "new", sshd.root / "new")
        whole["down"] = bed.down("new")
        for way in ("up", "down"):
            # What is to be replaced is called as the new one is.
            old = sshd.root / "in" / "new" if way == "up" else root / "back" / "new"
            shutil.copy(root / "old", old)
            done = bed.stage("new", "oak:in") if way == "up" else bed.stage("oak:new", "back")
            assert done["good"]
            found[f"{way}, percent of the bytes sent"] = 100 * done["sent_bytes"] / BIG
            found[f"{way}, seconds"] = float(done["moving_seconds"])
            found[f"{way}, times as fast as all of it"] = whole[way] / float(done["moving_seconds"])
    return found


def hash_tree() -> Result:
    """The checksum list of 10,000 files of 4 KiB and one of 1 GiB on a node: against sha256sum there."""
    with scratch() as root, Sshd(root) as sshd:
        bed = Bed(root, sshd)
        small_files(sshd.root / "fen")
        noise(sshd.root / "fen" / "big", BIG)
        ours, theirs = [], []
        for _ in range(3):
            began = time.perf_counter()
            command = "find fen -type f -print0 | xargs -0 -n 100 sha256sum > ref.sums"
            subprocess.run(command, shell=True, cwd=sshd.root, check=True)
            theirs.append(time.perf_counter() - began)
            began = time.perf_counter()
            bed.program("checksums", "oak:fen")
            ours.append(time.perf_counter() - began)
        return {
            "seconds": statistics.median(ours),
            "seconds, sha256sum on the node": statistics.median(theirs),
            "ratio": statistics.median(theirs) / statistics.median(ours),
        }


def verify_node(files: int = 4_000, size: int = 2 << 30) -> Result:
    """2 GiB in 4,000 files on a node, verified: against as many processes of sha256sum, and what the line carries."""
    with scratch() as root, Sshd(root) as sshd:
        bed = Bed(root, sshd)
        for number in range(files):
            path = sshd.root / "fen" / f"plot-{number // 500:02d}" / f"flux-{number:05d}.csv"
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(os.urandom(size // files))
        time.sleep(2.5)
        bed.program("checksums", "oak:fen")
        ours, theirs, carried = [], [], []
        command = f"find fen -name '*.csv' -print0 | xargs -0 -n 50 -P {os.cpu_count()} sha256sum > ref.sums"
        for _ in range(3):
            theirs.append(seconds(lambda: subprocess.run(command, shell=True, cwd=sshd.root, check=True)))
            before = _loopback()
            ours.append(seconds(lambda: bed.program("verify", "oak:fen")))
            carried.append((_loopback() - before) / 1e6)
        return {
            "seconds": statistics.median(ours),
            "seconds, sha256sum on the node": statistics.median(theirs),
            "ratio of the time": statistics.median(ours) / statistics.median(theirs),
            "MB over the line": min(carried),
        }


def _loopback() -> int:
    """Bytes that the loopback device has carried."""
    (line,) = (line for line in Path("/proc/net/dev").read_text().splitlines() if line.strip().startswith("lo:"))
    return int(line.split(":")[1].split()[0])


def compare_trees(files: int = 1_000_000) -> Result:
    """1,000,000 entries on each side, compared by size and time: against scanning both, and the memory for it."""
    with scratch() as root:
        for number in range(files):
            path = root / "fen" / f"{number // 10_000:03d}" / f"{number // 100 % 100:02d}"
            if number % 100 == 0:
                path.mkdir(parents=True, exist_ok=True)
            (path / f"flux-{number:07d}.csv").touch()
        (root / "other").symlink_to("fen")
        program(root, "config", "set", "tree.entries", "4000000")
        time.sleep(2.5)
        script = "import resource, subprocess, sys; subprocess.run(sys.argv[1:], check=True); "
        script += "print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss)"
        found, scanned, most = [], [], 0
        for _ in range(2):
            once = seconds(lambda: program(root, "list", "fen", "--recursive", "--only", "none-of-them"))
            scanned.append(2 * once)
            began = time.perf_counter()
            done = subprocess.run(
                [sys.executable, "-c", script, YATAGAN, "compare", "fen", "other"],
                cwd=root,
                env={**os.environ, "YATAGAN_HOME": str(root)},
                check=True,
                capture_output=True,
                text=True,
            )
            found.append(time.perf_counter() - began)
            most = max(most, int(done.stdout.split()[-1]))
        return {
            "seconds": statistics.median(found),
            "seconds, scanning both sides": statistics.median(scanned),
            "ratio of the time": statistics.median(found) / statistics.median(scanned),
            "MB": most * 1024 / 1e6,
        }


BENCHES: dict[str, Callable[[], Result]] = {
    "changed-parts": changed_parts,
    "hash-tree": hash_tree,
    "verify-node": verify_node,
    "compare-trees": compare_trees,
}
