"""Directories that become links while they are worked in: nothing is ever read or written where they lead.

Every call to the system that takes a path is tried in turn: just before it a directory is moved away, and a link to a
stranger's directory put in its place, where the same names are to be found.
"""

from __future__ import annotations

import asyncio
import hashlib
import os
import shutil
import stat
import sys
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import pytest

import swapping
from yatagan.archives.compression import Form
from yatagan.batches.journal import Journal
from yatagan.batches.journal_data import Header
from yatagan.batches.states import BatchState, StepState
from yatagan.batches.steps import Prove
from yatagan.bundles import make as making
from yatagan.bundles.make import BundleContents, Recipe
from yatagan.engine.executor import Conditions, Executor
from yatagan.engine.retry import STEP_RETRIES, RetryPolicy, StepRetries
from yatagan.engine.scheduler import Limits
from yatagan.errors import YataganError
from yatagan.planning.planner import make_plan
from yatagan.portable import archives, delta_handlers, program
from yatagan.portable import tar_input as reading_rules
from yatagan.portable.tar_input import Changed, HeaderOptions
from yatagan.stores.interface import Facts, Reader
from yatagan.stores.local import LocalFile, LocalSource, LocalStore
from yatagan.trees.scan import scan

OLD_NS = 1_600_000_000 * 10**9
#: Calls between those that are tried in the suite; the soak tries all.
STRIDE = 11


class FarFile(LocalFile):
    """A file that is to be had over a line alone."""

    read_here = None  # type: ignore[assignment]

    async def read(self, offset: int, size: int) -> bytes:
        return LocalFile.read_here(self, offset, size)


class FarStore(LocalStore):
    """This machine as if it were a node without commands."""

    traits = replace(LocalStore.traits, here=False)
    name = "far"

    def __init__(self, base: bytes) -> None:
        super().__init__(base)
        self.machine = None  # type: ignore[assignment]

    async def open(self, path: bytes) -> Reader:
        found = await super().open(path)
        assert isinstance(found, LocalFile)
        return FarFile(os.dup(found._descriptor), path, found.flow)

    async def clock_ns(self) -> int | None:
        return None


class Source(LocalSource):
    """Opens this machine, near or far, on which nothing is too new."""

    def __init__(self, kind: type[LocalStore]) -> None:
        super().__init__(b"/")
        self._kind = kind

    async def open(self) -> LocalStore:
        return self._kind(b"/")


class OldStore(LocalStore):
    async def clock_ns(self) -> int | None:
        return None


class PlainStore(FarStore):
    """A node that knows no inodes."""

    async def look(self, path: bytes) -> Facts | None:
        found = await super().look(path)
        return replace(found, inode=None, changed_ns=None) if found is not None else None

    async def look_closely(self, path: bytes) -> Facts | None:
        return await self.look(path)


@dataclass
class Ground:
    """What a run works on: a tree, where it goes, and a stranger's directory that nobody meant."""

    root: Path

    def __post_init__(self) -> None:
        shutil.rmtree(self.root, ignore_errors=True)
        for name in ("near", "far", "victim", "aside"):
            (self.root / name).mkdir(parents=True)
        self.fill(self.root / "near" / "a", b"ours ")
        self.fill(self.root / "victim", b"the stranger's ")

    @staticmethod
    def fill(directory: Path, start: bytes) -> None:
        (directory / "deeper").mkdir(parents=True, exist_ok=True)
        for name in ("f0", "f1", "deeper/f2"):
            (directory / name).write_bytes(start + name.encode() * 50)
            os.utime(directory / name, ns=(OLD_NS, OLD_NS))
        (directory / "link").symlink_to("f0")

    def path(self, *names: str) -> bytes:
        return os.fsencode(self.root.joinpath(*names))

    def victim(self) -> dict[str, Any]:
        found = {}
        for path in [self.root / "victim", *sorted((self.root / "victim").rglob("*"))]:
            status = path.lstat()
            content = path.read_bytes() if stat.S_ISREG(status.st_mode) else b""
            times = status.st_mtime_ns if not stat.S_ISDIR(status.st_mode) else 0
            found[str(path)] = (status.st_mode, times, content, sorted(os.listdir(path)) if path.is_dir() else [])
        return found

    def strays(self) -> list[str]:
        """Files below near and far, links not followed, that hold what is the stranger's."""
        found = []
        for above, _, names in os.walk(self.root):
            for name in names:
                path = Path(above, name)
                if "victim" not in path.parts and not path.is_symlink() and b"stranger" in path.read_bytes():
                    found.append(str(path))
        return found


#: Gets everything ready, and returns what is to be done while something is swapped.
Work = Callable[[Ground], Callable[[], object]]


def prepared(
    ground: Ground, source: type[LocalStore], destination: type[LocalStore]
) -> tuple[Callable[[], object], Journal]:
    """What carries a batch, and its journal."""
    ends = Source(source), Source(destination)

    async def plan() -> Journal:
        stores = await ends[0].open(), await ends[1].open()
        made = await make_plan(*stores, [(ground.path("near", "a"), b"a")], ground.path("far"))
        header = Header("261127-swap", 0, ("stage",), "", "far", ground.path("far"), Prove.AUTO)
        return Journal.in_memory(replace(header, top_inode=made.top_inode), made.steps())

    journal = asyncio.run(plan())
    conditions = Conditions(
        limits=Limits(retry=RetryPolicy(backoff=(0.0,), steps=dict.fromkeys(STEP_RETRIES, StepRetries(2, (0.0,)))))
    )
    return lambda: asyncio.run(Executor(journal, *ends, lambda event: None, conditions).run()), journal


def stage(source: type[LocalStore], destination: type[LocalStore]) -> Work:
    return lambda ground: prepared(ground, source, destination)[0]


def helper(ask: Callable[[Ground], list[tuple[Callable[..., Any], dict[str, Any]]]]) -> Work:
    """Requests to the helper, answered in this process, which is what runs on a node."""

    def ready(ground: Ground) -> Callable[[], object]:
        asked = ask(ground)

        def work() -> object:
            for handler, request in asked:
                with suppress(OSError, Changed):
                    handler(request, lambda *given: None)
            return None

        return work

    return ready


def digest(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()


def text(path: bytes) -> str:
    return path.decode("latin-1")


def part_files(ground: Ground) -> list[list[Any]]:
    """Part files in far/a, as the helper is asked to finish them."""
    directory = ground.root / "far" / "a"
    directory.mkdir(exist_ok=True)
    found = []
    for number, name in enumerate(("f0", "f1")):
        data = b"ours " + name.encode() * 50
        part = directory / f".yatagan-x-{number}-1.part"
        with suppress(OSError):
            part.write_bytes(data)
        path = text(ground.path("far", "a", name))
        found.append([0, len(data), digest(data), text(os.fsencode(part)), [], path, 0o600, 0o640, OLD_NS])
    return found


def finishing(ground: Ground) -> list[tuple[Callable[..., Any], dict[str, Any]]]:
    return [(program.do_finish, {"files": part_files(ground)})]


def placing(ground: Ground) -> list[tuple[Callable[..., Any], dict[str, Any]]]:
    wanted = [[part, path, size, None, 0o640, OLD_NS, None, ""] for _, size, _, part, _, path, *_ in part_files(ground)]
    return [(program.do_place, {"placings": wanted})]


def replacing(ground: Ground) -> list[tuple[Callable[..., Any], dict[str, Any]]]:
    files = part_files(ground)
    wanted = []
    kept = ground.root / "far" / "kept"
    kept.mkdir()
    for _, size, _, part, _, path, *_ in files:
        Path(path).write_bytes(b"older")
        status = os.lstat(path)
        seen = [status.st_mode, status.st_size, status.st_mtime_ns, status.st_ctime_ns, status.st_ino]
        wanted.append([part, path, size, None, 0o640, OLD_NS, seen, str(kept / Path(path).name)])
    return [(program.do_place, {"placings": wanted})]


def unloading(ground: Ground) -> list[tuple[Callable[..., Any], dict[str, Any]]]:
    files = part_files(ground)
    bundle, at = ground.root / "far" / "bundle", 0
    data = b"".join(Path(each[3]).read_bytes() for each in files)
    bundle.write_bytes(data)
    for each in files:
        each[0], at = at, at + each[1]
        os.unlink(each[3])
    return [(program.do_extract, {"path": str(bundle), "files": files})]


def reading(ground: Ground) -> list[tuple[Callable[..., Any], dict[str, Any]]]:
    paths = [text(ground.path("near", "a", name)) for name in ("f0", "f1", "deeper/f2")]
    return [
        (program.do_read_small, {"paths": paths, "most": 1000}),
        (program.do_digests, {"files": [[path, []] for path in paths], "algorithm": "sha256"}),
        (program.do_read, {"path": paths[0]}),
        (delta_handlers.block_sums, {"path": paths[0], "block": 64}),
    ]


def reusing(ground: Ground) -> list[tuple[Callable[..., Any], dict[str, Any]]]:
    (first, second) = part_files(ground)
    return [(delta_handlers.copy_matches, {"path": second[3], "part": first[3], "matches": [[0, 0, 20, ""]]})]


def making_there(ground: Ground) -> list[tuple[Callable[..., Any], dict[str, Any]]]:
    names = {"a": "directory", "a/f0": "file", "a/f1": "file", "a/link": "link", "a/deeper/f2": "file"}
    entries = [[name, text(ground.path("near", name)), kind] for name, kind in names.items()]
    (ground.root / "far" / "a").mkdir(exist_ok=True)
    final = text(ground.path("far", "a", "a.tar"))
    request = {"path": final, "part": final + ".1", "index_part": final + ".2", "token": "t"}

    def hear_and_make(request: dict[str, Any], alive: Callable[[], None]) -> dict[str, Any]:
        archives.hear({"token": "t", "entries": entries}, alive)
        return archives.make(request, alive)

    return [(hear_and_make, {**request, "anonymous": False, "latest_ns": None, "form": "tar", "level": 0})]


def unpacking(ground: Ground) -> list[tuple[Callable[..., Any], dict[str, Any]]]:
    import tarfile

    archive = ground.root / "far" / "a.tar"
    with tarfile.open(archive, "w") as tar:
        tar.add(ground.root / "near" / "a", "a")
    (ground.root / "far" / "a").mkdir()
    request = {"path": str(archive), "into": text(ground.path("far")), "only": [], "skip": [], "run": "x"}
    more = {"if_there": "replace", "links_out": False, "most": None, "ratio": 0, "salvage": False}
    return [(archives.unpack, {**request, **more})]


def bundling(ground: Ground) -> Callable[[], object]:
    store, contents = OldStore(b"/"), BundleContents()
    tree = asyncio.run(scan(store, ground.path("near", "a")))
    for path in tree.entries.in_order():
        contents.add_one(b"a/" + path if path else b"a", tree.absolute(path), tree.entries[path])
    (ground.root / "far" / "a").mkdir()
    recipe = Recipe(Form.TAR, 0, HeaderOptions(), 1, "x")

    def work() -> object:
        making.FRESH_NS = reading_rules._FRESH = 0  # files are taken for old ones
        with suppress(YataganError):
            asyncio.run(
                making.make(store, ground.path("far", "a", "a.tar"), contents, recipe, lambda files, size: None)
            )
        return None

    return work


WORKS: dict[str, Work] = {
    "here to here": stage(OldStore, OldStore),
    "download": stage(FarStore, OldStore),
    "finish": helper(finishing),
    "place": helper(placing),
    "replace": helper(replacing),
    "extract": helper(unloading),
    "read": helper(reading),
    "copy_matches": helper(reusing),
    "make on a node": helper(making_there),
    "unpack on a node": helper(unpacking),
    "make": bundling,
}
#: What is swapped for a link to the stranger's directory.
SWAPPED = {"destination": ("far", "a"), "source": ("near", "a"), "root": ("far",)}


def play(root: Path, ready: Work, swapped: tuple[str, ...], number: int) -> int:
    """One run with one swap: how many calls there were. Raises AssertionError when anything strange was touched."""
    ground = Ground(root)
    before = ground.victim()
    if swapped == ("far",):  # what is below the root is to be found in the stranger's directory, too
        shutil.copytree(root / "victim", root / "victim" / "a", symlinks=True)
        before = ground.victim()

    work = ready(ground)

    def whole() -> int:
        directory = str(root.joinpath(*swapped))
        count = swapping.install(
            number, lambda: swapping.swap(directory, str(root / "aside" / "moved"), str(root / "victim"))
        )
        work()
        return count()

    calls = swapping.in_a_child(whole)
    assert ground.victim() == before, f"call {number}: something was done to the stranger's directory"
    assert not ground.strays(), f"call {number}: the stranger's files were read"
    assert isinstance(calls, int)
    return calls


@pytest.mark.parametrize("swapped", SWAPPED)
@pytest.mark.parametrize("name", WORKS)
def test_nothing_leads_elsewhere(name: str, swapped: str, tmp_path: Path) -> None:
    hunt(tmp_path / "ground", name, swapped, STRIDE)


@pytest.mark.soak
@pytest.mark.parametrize("swapped", SWAPPED)
@pytest.mark.parametrize("name", WORKS)
def test_nothing_leads_elsewhere_before_any_call(name: str, swapped: str, tmp_path: Path) -> None:
    hunt(tmp_path / "ground", name, swapped, 1)


def hunt(root: Path, name: str, swapped: str, stride: int) -> None:
    calls = play(root, WORKS[name], SWAPPED[swapped], 0)
    assert calls > 5, "too little happens for this to prove anything"
    for number in range(1, calls + 1, stride):
        play(root, WORKS[name], SWAPPED[swapped], number)


#: Another directory gets the name of one that is moved away: empty, or with files of the same names.
REPLACED = {"root": ("far",), "directory": ("far", "a"), "deeper": ("far", "a", "deeper")}
#: What is looked at in it.
CLAIMS = {"root": ("f0", "f1", "link", "deeper/f2"), "directory": ("f0", "f1", "link"), "deeper": ("deeper/f2",)}


@dataclass
class Replaced:
    """One run, and another directory in the place of one before a call.

    `calls`: how many there were, `named` the last that gave a name, and `last_look` when what is in the directory was
    last looked at. `good`: whether all
    was said to be. `there`: how many files of three are where they were meant to be.
    """

    calls: int
    named: int
    last_look: int
    good: bool
    there: int


ENDS: dict[str, tuple[type[LocalStore], type[LocalStore]]] = {
    "here to here": (OldStore, OldStore),
    "download": (FarStore, OldStore),
    "upload": (OldStore, PlainStore),
}


def replaced(root: Path, ends: str, name: str, number: int, *, filled: bool) -> Replaced:
    names, ground = REPLACED[name], Ground(root)
    work, journal = prepared(ground, *ENDS[ends])
    known = name == "root" and ends != "upload"  # by its inode
    looks = {ground.path("far")} if known else {ground.path("far", "a", each) for each in CLAIMS[name]}

    def swap() -> None:
        os.rename(root.joinpath(*names), root / "aside" / "moved")
        root.joinpath(*names).mkdir()
        if filled:
            root.joinpath(*names, "f0").write_bytes(b"another")

    def whole() -> tuple[int, int, int, bool]:
        count, last, named = swapping.install(number, swap), 0, 0

        def naming(event: str, given: tuple[Any, ...]) -> None:
            nonlocal named
            named = count() if event in ("os.link", "os.rename") else named

        def noting(plain: Callable[..., Any]) -> Callable[..., Any]:
            async def look(store: LocalStore, path: bytes) -> Facts | None:
                nonlocal last
                last = count() if path in looks else last
                return await plain(store, path)  # type: ignore[no-any-return]

            return look

        for asked in ("look", "look_closely"):
            setattr(ENDS[ends][1], asked, noting(getattr(ENDS[ends][1], asked)))
        sys.addaudithook(naming)
        standing = work()
        failed = list(journal.steps(StepState.FAILED))
        return count(), named, last, standing.state is BatchState.FINISHED and not failed  # type: ignore[attr-defined]

    calls, named, last, good = swapping.in_a_child(whole)
    there = 0
    for each in ("f0", "f1", "deeper/f2"):
        with suppress(OSError):
            there += (root / "far" / "a" / each).read_bytes() == b"ours " + each.encode() * 50
    return Replaced(calls, named, last, good, there)


def hunt_replaced(root: Path, ends: str, name: str, stride: int) -> None:
    undisturbed = replaced(root, ends, name, 0, filled=False)
    assert undisturbed.good
    assert undisturbed.there == 3
    assert undisturbed.last_look > undisturbed.named, "nothing was looked at again"
    for number in range(1, undisturbed.calls + stride, stride):
        found = replaced(root, ends, name, number, filled=number % 2 > 0)
        seen = not found.good or found.there == 3
        assert seen or number > found.last_look, f"finished, with {found.there} of 3 files, swapped at call {number}"


@pytest.mark.parametrize("name", REPLACED)
@pytest.mark.parametrize("ends", ENDS)
def test_what_is_called_finished_is_in_the_directory_that_was_meant(ends: str, name: str, tmp_path: Path) -> None:
    hunt_replaced(tmp_path / "ground", ends, name, STRIDE + 4)


@pytest.mark.soak
@pytest.mark.parametrize("name", REPLACED)
@pytest.mark.parametrize("ends", ENDS)
def test_what_is_called_finished_is_where_it_was_meant_before_any_call(ends: str, name: str, tmp_path: Path) -> None:
    """Another directory takes the name of one at every moment up to the last look."""
    hunt_replaced(tmp_path / "ground", ends, name, 1)


def test_the_hunt_finds_what_follows_links(tmp_path: Path) -> None:
    """A store that hands whole paths to the system, as it once was, is caught."""

    def careless(ground: Ground) -> Callable[[], object]:
        (ground.root / "far" / "a").mkdir()

        def work() -> object:
            for name in ("f0", "f1", "f2", "f3"):
                Path(ground.root, "far", "a", f"new-{name}").write_bytes(b"ours")
            return None

        return work

    with pytest.raises(AssertionError, match="something was done"):
        for number in range(1, 10):
            play(tmp_path / "ground", careless, ("far", "a"), number)
