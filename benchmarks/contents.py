"""Looking into files: only what has changed of a large one is sent, and a tree is hashed where it is."""

from __future__ import annotations

import random
import shutil
import statistics
import subprocess
import time
from collections.abc import Callable

from benchmarks.carrying import BIG, Bed
from benchmarks.scene import Result, noise, scratch, small_files
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


BENCHES: dict[str, Callable[[], Result]] = {"changed-parts": changed_parts, "hash-tree": hash_tree}
