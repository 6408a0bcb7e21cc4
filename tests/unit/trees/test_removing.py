"""Removing many files, and renaming without replacing."""

from __future__ import annotations

import asyncio
import os
import tempfile
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import snapshot
from yatagan.errors import StoreError
from yatagan.faults import Fault
from yatagan.request_errors import BadEntry
from yatagan.stores.local import LocalStore
from yatagan.trees import housekeeping
from yatagan.trees.scan import scan


def test_what_cannot_go_is_told_once_and_the_rest_goes(tmp_path: Path) -> None:
    class Stubborn(LocalStore):
        """Something appears after the scan, something is replaced, something is refused."""

        async def remove(self, path: bytes) -> None:
            if path.endswith(b"stays"):
                raise StoreError(Fault.DENIED, path)
            await super().remove(path)

    for name in ("a/b/stays", "a/b/goes", "a/goes", "c/goes", "d/goes", "d/late/goes"):
        (tmp_path / "fen" / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / "fen" / name).write_text(name)
    (tmp_path / "outside").mkdir()
    (tmp_path / "outside" / "goes").write_text("not this one")

    async def work() -> tuple[int, dict[bytes, Fault]]:
        store, failures = Stubborn(b"/"), dict[bytes, Fault]()
        tree = await scan(store, os.fsencode(tmp_path / "fen"), ours=True)
        (tmp_path / "fen/c/goes").unlink()
        (tmp_path / "fen/c").rmdir()
        (tmp_path / "fen/c").symlink_to(tmp_path / "outside")
        (tmp_path / "fen/d/late/new").write_text("new")
        removed = await housekeeping.remove(store, tree, lambda path, fault, detail: failures.update({path: fault}))
        return removed, failures

    removed, failures = asyncio.run(work())
    assert failures == {b"a/b/stays": Fault.DENIED, b"c": Fault.KIND_IN_THE_WAY, b"d/late": Fault.EXISTS}
    assert removed == 4
    left = sorted(str(path.relative_to(tmp_path)) for path in tmp_path.rglob("*") if not path.is_dir())
    assert left == ["fen/a/b/stays", "fen/d/late/new", "outside/goes"]


NAMES = st.lists(st.sampled_from(["a", "b", "ab", "a b"]), min_size=1, max_size=4)


@given(target=NAMES, protected=NAMES)
def test_what_holds_a_protected_directory_is_protected(target: list[str], protected: list[str]) -> None:
    path, home = ("/" + "/".join(names) for names in (target, protected))
    try:
        housekeeping.refuse_to_remove(path.encode(), [home.encode()])
    except BadEntry:
        assert protected[: len(target)] == target
    else:
        assert protected[: len(target)] != target


MAKE: dict[str, Callable[[Path], object]] = {
    "file": Path.touch,
    "directory": Path.mkdir,
    "link": lambda path: path.symlink_to("x"),
}


def test_a_rename_here_replaces_nothing() -> None:
    with tempfile.TemporaryDirectory() as directory:
        root = Path(directory)
        for kind in ("file", "directory", "link"):
            for name in ("old", "new"):
                path = root / f"{kind}-{name}"
                MAKE[kind](path)
        before = snapshot(root)
        for old in ("file", "directory", "link"):
            for new in ("file", "directory", "link"):
                with pytest.raises(Exception, match="exists"):
                    asyncio.run(
                        housekeeping.rename(LocalStore(b"/"), os.fsencode(root / f"{old}-old"), f"{new}-new".encode())
                    )
        assert snapshot(root) == before
