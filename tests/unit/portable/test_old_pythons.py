"""Everything that runs on a node, under the Pythons that nodes have: from 3.6 on, which is the system's own on many."""

from __future__ import annotations

import hashlib
import os
import tarfile
from pathlib import Path
from typing import Any

import pytest

from conftest import snapshot
from helper_here import with_helper
from other_pythons import directory_of
from yatagan.nodes.helper import Helper
from yatagan.nodes.replies import (
    BundleReply,
    ClockReply,
    DigestsReply,
    LookReply,
    SmallFilesReply,
    TextReply,
    UnpackReply,
    read_reply,
)
from yatagan.portable.modules import ARCHIVES, DELTA


@pytest.mark.parametrize("version", ["3.6", "3.7", "3.8", "3.13"])
def test_each_request(version: str, tmp_path: Path) -> None:
    path = directory_of(version)
    tree, out = tmp_path / "tree", tmp_path / "out"
    (tree / "sub").mkdir(parents=True)
    out.mkdir()
    (tree / "sub" / "a").write_bytes(b"fen" * 100)
    (tree / "b").symlink_to("sub/a")
    digest = hashlib.sha256(b"fen" * 100).hexdigest()

    async def work(helper: Helper) -> None:
        assert helper.greeting.python.startswith(version + ".")
        assert read_reply(ClockReply, await helper.ask("clock")).clock_ns > 0
        name = str(tree / "sub" / "a")
        assert read_reply(LookReply, await helper.ask("look", os.fsencode(name))).facts.size == 300
        assert read_reply(TextReply, await helper.ask("read", os.fsencode(name))).text.startswith("fen")
        made = await helper.ask("digests", files=[[name, []]], algorithm="sha256")
        assert read_reply(DigestsReply, made).files[0].digest == digest
        gathered = await helper.ask("read_small", paths=[name], most=1000)
        assert read_reply(SmallFilesReply, gathered).files[0].contents == b"fen" * 100
        bundle = out / "bundle"
        bundle.write_bytes(b"fen" * 100)
        parcel = [0, 300, digest, str(out / ".yatagan-x-1-1.part"), [], str(out / "unloaded"), 0o600, 0o640, 10**18]
        assert (await helper.ask("extract", os.fsencode(bundle), files=[parcel]))["outcomes"] == [[0, 0]]
        for number, do in enumerate(("finish", "place")):
            part, final = out / f".yatagan-x-2-{number}.part", out / do
            part.write_bytes(b"fen" * 100)
            parcel[3], parcel[5] = str(part), str(final)
            placing = [str(part), str(final), 300, None, 0o640, 10**18, None, ""]
            asked: dict[str, Any] = {"files": [parcel]} if do == "finish" else {"placings": [placing]}
            assert (await helper.ask(do, **asked))["outcomes"] == [[0, 0]]
            assert final.read_bytes() == b"fen" * 100 and final.stat().st_mtime_ns == 10**18
        await helper.learn(DELTA)
        assert (await helper.ask("block_sums", os.fsencode(name), block=64))["rolling"]
        (out / "new").write_bytes(bytes(300))
        runs = [[0, 0, 100, ""]]
        assert (await helper.ask("copy_matches", os.fsencode(name), part=str(out / "new"), matches=runs))["good"] == [
            True
        ]
        await helper.learn(ARCHIVES)
        await archives(helper)

    async def archives(helper: Helper) -> None:
        entries = [["tree", str(tree), "directory"], ["tree/sub", str(tree / "sub"), "directory"]]
        entries += [["tree/sub/a", str(tree / "sub" / "a"), "file"], ["tree/b", str(tree / "b"), "link"]]
        final = os.fsencode(out / "tree.tar.gz")
        parts = {"part": str(out / "1"), "index_part": str(out / "2"), "token": "t"}
        for some in (entries[:3], entries[3:]):
            assert await helper.ask("hear", token="t", entries=some)
        reply = await helper.ask("make", final, **parts, anonymous=False, latest_ns=None, form="tar.gz", level=6)
        assert read_reply(BundleReply, reply).totals[:3] == (4, 1, 300)
        with tarfile.open(os.fsdecode(final)) as tar:
            assert tar.getnames() == ["tree", "tree/sub", "tree/sub/a", "tree/b"]
        (out / "back").mkdir()
        wish = {"only": [], "skip": [], "run": "x", "if_there": "leave", "links_out": False, "most": None}
        unpacked = await helper.ask("unpack", final, into=str(out / "back"), ratio=0, salvage=False, **wish)
        assert read_reply(UnpackReply, unpacked).counts == {"unpacked": 4}
        assert snapshot(out / "back" / "tree") == snapshot(tree)
        assert (await helper.ask("contents", final, token="t"))["found"] == [["tree/sub/a", digest]]
        assert (await helper.ask("more", token="t"))["found"] == []
        await helper.learn(("yatagan.portable.facts_not_kept",))
        os.link(tree / "sub" / "a", out / "again")
        assert (await helper.ask("not_kept", root=str(tree), paths=["", "sub/a", "gone"]))["counts"] == [1, 0, 0]

    with_helper(work, f"PATH={path}:$PATH; ")


def test_many_lessons_at_once(tmp_path: Path) -> None:
    """Of 96 tasks that teach it at the same time none finds half a module."""
    import asyncio

    (tmp_path / "a").write_bytes(b"fen" * 100)

    async def work(helper: Helper) -> None:
        async def one() -> None:
            await helper.learn(DELTA)
            assert (await helper.ask("block_sums", os.fsencode(tmp_path / "a"), block=64))["rolling"]

        async def other() -> None:  # another process' end of the same helper knows nothing of ours
            helper._learned.clear()
            await helper.learn(ARCHIVES)

        await asyncio.gather(*(one() if number % 2 else other() for number in range(96)))

    with_helper(work)
