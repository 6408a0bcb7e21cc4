"""Bundles: made at disk speed, in small pieces when a piece is wanted, and small files that travel together."""

from __future__ import annotations

import hashlib
import json
import os
import random
import shutil
import statistics
import struct
import threading
import time
import zlib
from collections.abc import Callable
from pathlib import Path

import zstandard

from benchmarks.scene import FILES, SIZE, Result, program, scratch, seconds, small_files
from benchmarks.servers import Relay, Sshd
from yatagan.archives.compression import Form, compressed
from yatagan.portable.tar_input import Entry, HeaderOptions
from yatagan.portable.tar_writer import TarWriter

MIXED = 1 << 30


def mixed(path: Path, size: int = MIXED) -> None:
    """Text, numbers, noise and records, a MiB of each in turn."""
    rng = random.Random(2)
    tile = []
    for number in range(16):
        text = "\n".join(
            f"{row},{rng.random() * 20:.3f},{rng.gauss(2, 0.1):.4f},plot-{row % 12:02d}" for row in range(36_000)
        )
        tile.append(text.encode()[: 1 << 20])
        tile.append(rng.randbytes(1 << 20))
        tile.append(b"".join(struct.pack("<d", round(rng.gauss(300, 5), 2)) for _ in range(131_072)))
        tile.append((b'{"instrument":"chamber","site":"fen","flux":%d}\n' % number * 25_000)[: 1 << 20])
    whole = b"".join(tile)
    with path.open("wb") as stream:
        for at in range(0, size, len(whole)):
            stream.write(whole[: size - at])


def entries(root: Path) -> list[Entry]:
    found = []
    for directory, names, files in os.walk(os.fsencode(root)):
        names.sort()
        for path, kind in [
            (directory, "directory"),
            *((os.path.join(directory, name), "file") for name in sorted(files)),
        ]:
            status = os.lstat(path)
            seen = status.st_size, status.st_mtime_ns, status.st_ctime_ns, status.st_ino
            found.append(Entry(os.path.relpath(path, root.parent.as_posix().encode()), path, kind, seen))
    return found


def make(found: list[Entry], out: Path, form: Form, level: int) -> None:
    """As `bundle make` does it, index digests included."""
    lines: list[bytes] = []
    making = TarWriter(found, HeaderOptions(), lambda told, offset: lines.append(told.line(offset)))
    with out.open("wb") as stream:
        for piece in compressed(making.blocks(), form, level, max(2, os.cpu_count() or 1)):
            stream.write(piece)
    Path(f"{out}.index").write_bytes(b"".join(lines))


def tar_of_small_files() -> Result:
    """10,000 files of 4 KiB into a tar, against reading and hashing them in a bare loop."""
    with scratch() as root:
        small_files(root / "fen")
        found = entries(root / "fen")
        paths = [entry.path for entry in found if entry.kind == "file"]

        def bare() -> None:
            for path in paths:
                with open(path, "rb", buffering=0) as stream:
                    hashlib.sha256(stream.read()).hexdigest()

        pairs = [(seconds(bare), seconds(lambda: make(found, root / "out.tar", Form.TAR, 0))) for _ in range(7)]
        ours = statistics.median(pair[1] for pair in pairs)
        return {
            "files/s": round(FILES / ours),
            "files/s, bare loop": round(FILES / statistics.median(pair[0] for pair in pairs)),
            "ratio": statistics.median(pair[0] / pair[1] for pair in pairs),
        }


def zstd_of_mixed_data() -> Result:
    """1 GiB into tar.zst at level 3, against zstandard's own threads with a thread that hashes beside them."""
    level, threads = 3, max(2, os.cpu_count() or 1)
    with scratch() as root:
        (root / "fen").mkdir()
        mixed(root / "fen" / "raw.bin")
        found = entries(root / "fen")

        def reference() -> None:
            value = hashlib.sha256()

            def digest() -> None:
                with (root / "fen" / "raw.bin").open("rb") as stream:
                    while block := stream.read(1 << 20):
                        value.update(block)

            hasher = threading.Thread(target=digest)
            hasher.start()
            press = zstandard.ZstdCompressor(level=level, threads=threads, write_checksum=True)
            with (root / "fen" / "raw.bin").open("rb") as stream, (root / "reference").open("wb") as out:
                press.copy_stream(stream, out, read_size=1 << 20)
            hasher.join()

        pairs = [(seconds(reference), seconds(lambda: make(found, root / "out", Form.ZSTD, level))) for _ in range(3)]
        return {
            "level": level,
            "MB/s": MIXED / statistics.median(pair[1] for pair in pairs) / 1e6,
            "MB/s, reference": MIXED / statistics.median(pair[0] for pair in pairs) / 1e6,
            "ratio": statistics.median(pair[0] / pair[1] for pair in pairs),
            "size against the reference": (root / "out").stat().st_size / (root / "reference").stat().st_size,
        }


def gzip_of_mixed_data() -> Result:
    """256 MiB into tar.gz as usual, against zlib at level 6 with a thread that hashes beside it."""
    with scratch() as root:
        (root / "fen").mkdir()
        mixed(root / "fen" / "raw.bin", MIXED // 4)
        found, size = entries(root / "fen"), 0

        def reference() -> None:
            nonlocal size
            value, press, size = hashlib.sha256(), zlib.compressobj(6), 0
            with (root / "fen" / "raw.bin").open("rb") as stream:
                while block := stream.read(1 << 20):
                    hasher = threading.Thread(target=value.update, args=(block,))
                    hasher.start()
                    size += len(press.compress(block))
                    hasher.join()
            size += len(press.flush())

        theirs, ours = seconds(reference), seconds(lambda: make(found, root / "out", Form.GZIP, 2))
        return {
            "MB/s": MIXED / 4 / ours / 1e6,
            "times zlib 6": theirs / ours,
            "size against zlib 6": (root / "out").stat().st_size / size,
        }


def one_member() -> Result:
    """One file of 4 KiB out of a tar.zst of 1 GiB on a real server: bytes that came over the line."""
    with scratch(memory=False) as root, Sshd(root) as sshd:
        program(root, *sshd.add("oak"))
        (root / "fen").mkdir()
        mixed(root / "fen" / "raw.bin")
        for number in range(2000):
            path = root / "fen" / f"plot-{number % 20:02d}" / f"{number:04d}.csv"
            path.parent.mkdir(exist_ok=True)
            path.write_bytes(os.urandom(SIZE))
        program(root, "bundle", "make", "fen", "--output", "oak:")
        began = time.perf_counter()
        read = json.loads(
            program(
                root, "bundle", "unpack", "oak:fen.tar.zst", "--only", "plot-07/1007.csv", "--into", "back", "--json"
            )
        )
        return {
            "files": read["files"],
            "MiB fetched": read["fetched_bytes"] / (1 << 20),
            "MiB in the bundle": (sshd.root / "fen.tar.zst").stat().st_size / (1 << 20),
            "seconds": time.perf_counter() - began,
        }


def small_files_together() -> Result:
    """10,000 files of 4 KiB to a real server, all proven: together, against one by one; also at 50 ms round trip."""
    result: Result = {}
    with scratch(memory=False) as root, Sshd(root) as sshd, Relay(sshd.port, delay=0.025) as relay:
        program(root, *sshd.add("oak"))
        program(root, *sshd.add("far", relay.port))
        small_files(root / "fen")
        time.sleep(2.5)  # none of them is so new that it would be waited for
        for node, line in (("oak", "no delay"), ("far", "50 ms")):
            taken = {}
            for how in ("auto", "never"):
                shutil.rmtree(sshd.root / "fen", ignore_errors=True)
                os.sync()
                done = json.loads(program(root, "stage", "fen", f"{node}:", "--pack", how, "--json"))["batch"]
                assert done["evidence"] == {"on-node": FILES}, done
                taken[how] = done["moving_seconds"]
            result[f"files/s together, {line}"] = round(FILES / taken["auto"])
            result[f"files/s one by one, {line}"] = round(FILES / taken["never"])
            result[f"ratio, {line}"] = taken["never"] / taken["auto"]
    return result


BENCHES: dict[str, Callable[[], Result]] = {
    "bundle-tar": tar_of_small_files,
    "bundle-zstd": zstd_of_mixed_data,
    "bundle-gzip": gzip_of_mixed_data,
    "bundle-one-member": one_member,
    "bundle-together": small_files_together,
}
