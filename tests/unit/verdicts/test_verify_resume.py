"""`verify --resume`: what an interrupted run has read counts for a day, as long as its file has not moved."""

from __future__ import annotations

import asyncio
import hashlib
import os
import random
import time
from pathlib import Path

import pytest

from yatagan.digests.checksum_lists import Listed
from yatagan.errors import StoreError
from yatagan.faults import Fault
from yatagan.stores.local import LocalStore
from yatagan.trees import hashing
from yatagan.trees.hashing import Content
from yatagan.trees.remembered_digests import RememberedDigests
from yatagan.trees.scan import scan
from yatagan.verdicts.claims import Claims
from yatagan.verdicts.verification import Finding, Verdicts, verify

FILES = 90


def run(root: Path, file: Path, cut_after: int = FILES) -> tuple[Verdicts | None, list[bytes], list[bytes]]:
    """Verify with a memory, and lose the connection after so many files. Returns the verdicts, what was read, and what
    was remembered."""
    read, known = list[bytes](), list[bytes]()

    def done(content: Content) -> None:
        (known if content.remembered else read).append(content.path)
        if len(read) > cut_after:
            raise StoreError(Fault.CONNECTION_LOST)

    async def work() -> Verdicts | None:
        store = LocalStore(b"/")
        memory = RememberedDigests(file, 86_400)
        try:
            tree = await scan(store, os.fsencode(root))
            data = b"%d" * 50
            listed = [
                Listed(b"%03d.csv" % number, hashlib.sha256(data % ((number,) * 50)).hexdigest())
                for number in range(FILES)
            ]
            return await verify(store, tree, Claims(listed), done, memory=memory)
        except StoreError:  # one error, however many files were being read
            return None
        finally:
            memory.close()

    return asyncio.run(work()), read, known


def test_what_was_read_counts_until_it_moves_or_a_day_has_passed(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(hashing, "is_fresh", lambda facts, since: False)  # or the test would have to wait
    monkeypatch.setattr(hashing, "_FILES", 4)  # in one request
    root, file = tmp_path / "fen", tmp_path / "verified.db"
    root.mkdir()
    for number in range(FILES):
        (root / f"{number:03}.csv").write_bytes(b"%d" * 50 % ((number,) * 50))
    chance, before = random.Random(7), set[bytes]()
    for _ in range(3):
        verdicts, read, known = run(root, file, cut_after=chance.randrange(2, 8))
        assert verdicts is None and not before & set(read), "what was read once is not read again"
        assert before >= set(known)
        with_memory = RememberedDigests(file, 86_400)
        paths = [os.fsencode(each) for each in root.iterdir()]
        before = {os.path.basename(path) for path in with_memory.recall("", "sha256", paths)}
        with_memory.close()
    verdicts, read, known = run(root, file)
    assert verdicts is not None and verdicts.good and verdicts.remembered == len(known) == len(before)
    assert set(read) | set(known) == {b"%03d.csv" % number for number in range(FILES)}
    # A file whose contents changed, though size and time were put back, is read again, and found.
    changed = root / "042.csv"
    status = changed.stat()
    changed.write_bytes(b"x" * status.st_size)
    os.utime(changed, ns=(status.st_atime_ns, status.st_mtime_ns))
    verdicts, read, _ = run(root, file)
    assert read == [b"042.csv"] and verdicts is not None
    assert [found.path for found in verdicts.found if found.finding is Finding.DIFFERENT] == [b"042.csv"]
    # And all of it after a day: a disk may lose what no time stamp shows.
    tomorrow = time.time() + 86_402
    monkeypatch.setattr(time, "time", lambda: tomorrow)
    _, read, known = run(root, file)
    assert len(read) == FILES and known == []
