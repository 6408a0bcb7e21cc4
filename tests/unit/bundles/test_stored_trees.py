"""Stored bundles seen through as the directories that they were."""

from __future__ import annotations

import asyncio
import hashlib
import os
import tempfile
from collections.abc import Coroutine
from pathlib import Path
from typing import Any, cast

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import index_line
from small_fen import age
from yatagan.archives.compression import Form
from yatagan.bundles.make import BundleContents, Recipe, make
from yatagan.bundles.see_through import SeeThrough
from yatagan.bundles.stored_bundle import StoredBundle, bundle_of
from yatagan.config.project import StoredAs
from yatagan.errors import StoreError
from yatagan.faults import Fault
from yatagan.planning.stored_bundles import BUNDLED, store
from yatagan.portable import index, tar_writer
from yatagan.portable.tar import DIRECTORY, FILE, HARD_LINK, Member
from yatagan.portable.tar_input import HeaderOptions
from yatagan.stores.interface import Facts, Kind, Placement, Writer, machine_of
from yatagan.stores.local import LocalStore
from yatagan.trees.compare import compare
from yatagan.trees.entries import Entries
from yatagan.trees.hashing import digest_by_reading
from yatagan.trees.scan import Tree, scan

_names = st.binary(min_size=1, max_size=12).filter(
    lambda name: b"/" not in name and b"\0" not in name and name not in (b".", b"..") and not name.startswith(b".yat")
)


_trees = st.recursive(
    st.one_of(st.binary(max_size=3000), st.just(None), st.integers(1, 3 << 20)),
    lambda inner: st.dictionaries(_names, inner, max_size=4),
    max_leaves=8,
)


def put(path: bytes, what: object) -> None:
    """A directory, a file, a link (None), or a file of so many bytes with holes."""
    if isinstance(what, dict):
        os.mkdir(path)
        for name, inner in what.items():
            put(os.path.join(path, name), inner)
    elif what is None:
        os.symlink(b"somewhere \xff", path)
    else:
        with open(path, "wb") as stream:
            if isinstance(what, int):
                stream.truncate(what)
                stream.seek(what // 2)
                stream.write(b"x")
            else:
                stream.write(what)  # type: ignore[arg-type]
    os.utime(path, ns=(1_600_000_000_000_000_123, -1_000_000_007), follow_symlinks=False)


@settings(max_examples=30)
@given(st.dictionaries(_names, _trees, max_size=4))
def test_through_its_bundle_a_directory_is_what_it_was(entries: dict[bytes, object]) -> None:
    async def check(base: bytes) -> None:
        here = LocalStore(base)
        real, stored = os.path.join(base, b"real"), os.path.join(base, b"stored", b"real")
        put(real, entries)
        os.mkdir(os.path.dirname(stored))
        contents, tree = BundleContents(), await scan(here, real)
        contents.add(b"real", tree)
        contents.newest_ns = 0
        recipe = Recipe(Form.ZSTD, 1, HeaderOptions(), 1, "t")
        await make(here, bundle_of(stored), contents, recipe, lambda files, size: None, b"real")
        seeing = SeeThrough(here)
        try:
            for seen in (await scan(seeing, stored), await scan(SeeThrough(here), os.path.dirname(stored))):
                below = b"" if seen.root == stored else b"real/"
                for path, facts in tree.entries.items():
                    found = seen.entries[(below + path).rstrip(b"/")]
                    wanted = facts.size if facts.kind is Kind.FILE else 0
                    assert (found.kind, found.size, found.mode) == (facts.kind, wanted, facts.mode)
                    assert found.mtime_ns == facts.mtime_ns or path == b""
                assert [seen.targets[below + path] for path in tree.targets] == list(tree.targets.values())
                assert len(seen.entries) == len(tree.entries) + bool(below)
            for path in tree.files():
                digest = await digest_by_reading(here, tree.absolute(path), "sha256")
                whole = os.path.join(stored, path)
                assert digest == await digest_by_reading(seeing, whole, "sha256") == await seeing.recorded(whole)
                [read] = await machine_of(seeing).read_small([whole], 4 << 20)
                assert hashlib.sha256(read.contents).hexdigest() == digest
        finally:
            await seeing.release()

    quick = "/dev/shm" if os.path.isdir("/dev/shm") else None
    with tempfile.TemporaryDirectory(prefix="yatagan-seen-", dir=quick) as base, pytest.MonkeyPatch.context() as patch:
        patch.setattr(tar_writer, "let_age", lambda status: None)  # nobody writes to it, so it need not grow older
        asyncio.run(check(os.fsencode(base)))


def line(name: bytes, kind: str = FILE, size: int = 0) -> bytes:
    digest = hashlib.sha256(b"").hexdigest() if kind == FILE else ""
    return index_line(Member(name, kind, size, 0o644, 0, b"t" if kind == HARD_LINK else b""), 512, digest)


_TOP = line(b"fen", DIRECTORY)


_FIRST = index.first_line(b"fen.tar.zst", b"fen")


@pytest.mark.parametrize(
    "lines",
    [
        pytest.param([index.first_line(b"fen.tar.zst"), _TOP], id="stands for nothing"),
        pytest.param([index.first_line(b"fen.tar.zst", b"bog"), _TOP], id="stands for another"),
        pytest.param([b'{"format": "another-1", "stands_for": "fen"}\n', _TOP], id="another format"),
        pytest.param([b'{"format": "yatagan-index-1", "stands_for_b64": 7}\n', _TOP], id="name that is none"),
        pytest.param([_FIRST], id="empty"),
        pytest.param([_FIRST, line(b"fen")], id="a file"),
        pytest.param([_FIRST, _TOP, line(b"fen/../../out")], id="climbs"),
        pytest.param([_FIRST, _TOP, line(b"/etc/passwd")], id="absolute"),
        pytest.param([_FIRST, _TOP, line(b"bog/a")], id="beside"),
        pytest.param([_FIRST, _TOP, line(b"fen//a")], id="empty name"),
        pytest.param([_FIRST, _TOP, line(b"fen/a\0b")], id="NUL"),
        pytest.param([_FIRST, _TOP, line(b"fen/a"), line(b"fen/a")], id="twice"),
        pytest.param([_FIRST, _TOP, line(b"fen/a"), line(b"fen/a/b")], id="below a file"),
        pytest.param([_FIRST, _TOP, line(b"fen/a/b")], id="below nothing"),
        pytest.param([_FIRST, _TOP, line(b"fen/a", HARD_LINK)], id="hard link"),
        pytest.param([_FIRST, _TOP, line(b"fen/a", size=-5)], id="less than nothing"),
        pytest.param([_FIRST, _TOP, b"no JSON\n"], id="garbage"),
    ],
)
def test_no_unsound_index_is_seen_through(tmp_path: Path, lines: list[bytes]) -> None:
    (tmp_path / "fen.tar.zst").write_bytes(b"1234567")
    beside = tmp_path / "fen.tar.zst.members.jsonl"
    totals = index.last_line(index.Totals(1, 0, 0, 7, "0" * 64))

    def seen() -> set[bytes]:
        return set(asyncio.run(scan(SeeThrough(LocalStore(b"/")), os.fsencode(tmp_path))).entries)

    beside.write_bytes(b"".join([*lines, totals]))
    assert seen() == {b"", b"fen.tar.zst", b"fen.tar.zst.members.jsonl"}
    beside.write_bytes(b"".join([_FIRST, _TOP, totals]))
    assert seen() == {b"", b"fen"}
    for cut in (_FIRST + _TOP, _FIRST + _TOP + index.last_line(index.Totals(1, 0, 0, 8, "0" * 64))):
        beside.write_bytes(cut)
        assert b"fen" not in seen()


def test_a_bundle_that_changes_while_it_is_seen_through_gives_nothing(tmp_path: Path) -> None:
    async def check() -> None:
        (tmp_path / "fen").mkdir()
        (tmp_path / "fen" / "a").write_text("a" * 1000)
        age(tmp_path / "fen")
        here, contents = LocalStore(b"/"), BundleContents()
        contents.add(b"fen", await scan(here, os.fsencode(tmp_path / "fen")))
        contents.newest_ns = 0
        bundle = tmp_path / "s" / "fen.tar.zst"
        bundle.parent.mkdir()
        recipe = Recipe(Form.ZSTD, 1, HeaderOptions(), 1, "t")
        await make(here, os.fsencode(bundle), contents, recipe, lambda files, size: None, b"fen")
        member = os.fsencode(bundle.parent / "fen" / "a")
        seeing = SeeThrough(here)
        assert await seeing.look_closely(member) is not None
        bundle.write_bytes(bundle.read_bytes())
        assert await seeing.look_closely(member) is None
        with pytest.raises(StoreError) as caught:
            await seeing.open(member)
        assert caught.value.fault is Fault.SOURCE_CHANGED
        assert (await machine_of(seeing).read_small([member], 5000))[0].fault is Fault.SOURCE_CHANGED
        await seeing.release()

    asyncio.run(check())


_paths = st.lists(
    st.tuples(st.sampled_from(["a", "b", "c"]), st.sampled_from(["", "x", "y/z"])).map(lambda pair: "/".join(pair)),
    max_size=6,
)


_directories = st.sets(st.sampled_from([b"", b"a", b"b"]))


@given(_paths, _paths, _directories, _directories, st.sampled_from([None, StoredAs.FILES, *BUNDLED]))
def test_every_entry_goes_one_way(
    here: list[str], far_away: list[str], stored: set[bytes], unfit: set[bytes], how: StoredAs | None
) -> None:
    """Whatever is where: each difference is in one bundle or in none, and what is as it should be is not made anew."""

    def tree(root: bytes, paths: list[str]) -> Tree:
        found = Tree(root, Entries({b"": Facts(Kind.DIRECTORY, 0, 0, 0)}))
        for path in paths:
            parts = [part for part in path.encode().split(b"/") if part]
            for depth in range(1, len(parts)):
                found.entries[b"/".join(parts[:depth])] = Facts(Kind.DIRECTORY, 0, 0, 0)
            found.entries.setdefault(b"/".join(parts), Facts(Kind.FILE, 1, 0, 0))
        return found

    source, destination = tree(b"/s", here), tree(b"/d", far_away)
    file = Facts(Kind.FILE, 0, 0, 0)
    bundles = {
        destination.absolute(path): StoredBundle(b"", b"", file, file, cast(Any, None), {}, {})
        for path in (stored if b"" not in stored else {b""})
        if (destination.entries.get(path) or file).kind is Kind.DIRECTORY
    }
    differences = compare(source, destination, step_ns=1, fresh_since_ns=None)
    broken = {destination.absolute(path) for path in unfit}
    storing, left, as_files = store(source, destination, differences, how, bundles, broken)
    held = [each for group in storing for each in group.differences]
    assert sorted(each.path for each in (*held, *left)) == sorted(each.path for each in differences)
    for group in storing:
        assert all(
            each.path == group.path or not group.path or each.path.startswith(group.path + b"/")
            for each in held
            if each in group.differences
        )
        assert group.changed and (group.present is not None or group.path not in destination.entries)
        assert group.path not in as_files
        assert source.entries[group.path].kind is Kind.DIRECTORY
        assert not any(
            each.path.startswith(group.path + b"/") or not group.path for each in storing if each is not group
        )
    if how in (None, StoredAs.FILES):
        assert all(group.present is not None or group.path in unfit for group in storing)


class Late(LocalStore):
    """A disk that does what it is asked for at once and answers late; nobody waits after the `last` request."""

    def __init__(self, last: int) -> None:
        super().__init__(b"/")
        self._left = last
        self.now = asyncio.Event()

    async def _late(self, work: Coroutine[Any, Any, Any]) -> Any:
        done = await work
        self._left -= 1
        if not self._left:
            self.now.set()
        await asyncio.sleep(0.01)
        return done

    async def look(self, path: bytes) -> Facts | None:
        return cast("Facts | None", await self._late(super().look(path)))

    async def create_part(self, path: bytes, mode: int = 0o600) -> Writer:
        return cast(Writer, await self._late(super().create_part(path, mode)))

    async def place(self, part: Writer, wanted: Placement) -> Fault | None:
        return cast("Fault | None", await self._late(super().place(part, wanted)))


def test_a_make_that_is_stopped_at_any_moment_leaves_no_part_file(tmp_path: Path) -> None:
    (tmp_path / "fen").mkdir()
    (tmp_path / "fen" / "a").write_text("a" * 1000)
    age(tmp_path / "fen")

    async def stop_after(request: int) -> bool:
        """Whether it came so far."""
        here, contents = Late(request), BundleContents()
        contents.add(b"fen", await scan(LocalStore(b"/"), os.fsencode(tmp_path / "fen")))
        contents.newest_ns = 0
        bundle = tmp_path / str(request) / "fen.tar.zst"
        bundle.parent.mkdir()
        recipe = Recipe(Form.ZSTD, 1, HeaderOptions(), 1, "t")
        work = asyncio.ensure_future(
            make(here, os.fsencode(bundle), contents, recipe, lambda files, size: None, b"fen")
        )
        stopped = asyncio.ensure_future(here.now.wait())
        await asyncio.wait((work, stopped), return_when=asyncio.FIRST_COMPLETED)
        reached = here.now.is_set()
        stopped.cancel()
        work.cancel()
        await asyncio.gather(work, stopped, return_exceptions=True)
        assert not list(bundle.parent.glob(".yatagan-*")), f"stopped after request {request}"
        return reached

    requests = 1
    while asyncio.run(stop_after(requests)):
        requests += 1
    assert requests > 6
