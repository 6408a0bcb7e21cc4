"""Directories that are stored as bundles, and seen through: `stage --store bundle` and `by-directory`, both ways."""

from __future__ import annotations

import asyncio
import hashlib
import os
import random
import resource
import signal
import subprocess
import tempfile
from collections.abc import Coroutine
from dataclasses import replace
from pathlib import Path
from typing import Any, cast

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import Far, OpenSsh, Practice, Program, index_line, needs_zstd, snapshot, start_sshd
from test_interruptions import kill_at
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

pytestmark = [pytest.mark.kept("openssh"), needs_zstd]
on_openssh = pytest.mark.parametrize("far", [pytest.param("openssh", marks=pytest.mark.server)], indirect=True)

FILES = 20


def make_fen(root: Path, large: int = 3 << 20) -> None:
    """Plots with small files, a large file at the top and one below, a link, an empty directory; none of it is new."""
    rng = random.Random(5)
    for number in range(FILES - 3):
        path = root / f"plot-{number % 3:02d}" / f"flux-{number:04d}.csv"
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(rng.randbytes(300 + number))
    (root / "plot-00" / "raw.npy").write_bytes(rng.randbytes(large))
    (root / "README").write_text("the survey\n")
    (root / "plot-01" / os.fsdecode(b"caf\xe9\n")).write_text("odd")
    (root / "empty").mkdir()
    (root / "latest").symlink_to("plot-00/raw.npy")
    (root / "plot-01" / "flux-0001.csv").chmod(0o640)
    age(root)


def age(root: Path) -> None:
    for path in [*root.rglob("*"), root]:
        os.utime(path, ns=(1_700_000_000_123_456_789, 1_700_000_000_123_456_789), follow_symlinks=False)


@pytest.fixture(scope="session")
def old(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The same, to be read only: nobody waits for it to grow older."""
    root = tmp_path_factory.mktemp("old") / "fen"
    root.mkdir()
    make_fen(root)
    return root


@pytest.fixture
def fen(program: Program) -> Path:
    root = program.directory / "fen"
    root.mkdir()
    make_fen(root)
    return root


def there(far: Far) -> list[str]:
    """What is really there, below the kept files."""
    return sorted(str(path.relative_to(far.root)) for path in far.root.rglob("*") if ".yatagan-kept" not in path.parts)


# -- whole -----------------------------------------------------------------------------------------------------


def test_a_directory_stored_as_one_bundle(program: Program, far: Far, old: Path) -> None:
    program("checksums", str(old), "--output", "fen.sums")
    done = program.json("stage", str(old), f"{far.name}:a", "--store", "bundle")
    assert (done["plan"]["files"], len(done["plan"]["bundles"])) == (FILES, 1)
    assert (done["batch"]["in_place"], done["batch"]["bundles"]) == (FILES, 1)
    assert done["batch"]["evidence"] == {"on-node": FILES}
    assert there(far) == ["a", "a/fen.tar.zst", "a/fen.tar.zst.members.jsonl"]
    assert not list(program.home.rglob("spool"))
    bundle = far.root / "a" / "fen.tar.zst"
    subprocess.run(["tar", "xf", bundle, "-C", program.home], check=True)
    assert snapshot(program.home / "fen") == snapshot(old)
    assert program.json("bundle", "check", bundle)["checked_by_index"] == FILES

    # It counts as the directory: nothing to move, whether or not it is asked for as a bundle.
    again = program("stage", str(old), f"{far.name}:a").stdout
    assert f"{FILES} files" in again and "Nothing to move" in again
    assert program.json("stage", str(old), f"{far.name}:a", "--store", "by-directory")["batch"] is None
    listed = program.json("list", f"{far.name}:a/fen", "--recursive")["entries"]
    assert {each["path"] for each in listed if "path" in each} >= {"README", "plot-00/raw.npy", "empty", "latest"}
    verdict = program.json("verify", f"{far.name}:a/fen", "--against", "fen.sums")
    assert (verdict["good"], verdict["evidence"], verdict["counts"]["missing"]) == (True, {"on-node": FILES}, 0)
    sums = program("checksums", f"{far.name}:a/fen", "--output", "-").stdout
    subprocess.run(["sha256sum", "-c", "--quiet", "-"], input=os.fsencode(sums), cwd=old, check=True)
    [record] = [each for each in program.json("ledger", "show")["records"] if each["kind"] == "staged"]
    assert (record["counts"]["files"], record["counts"]["bundles"]) == (FILES, 1)

    # And it comes back as the directory.
    back = program.json("stage", f"{far.name}:a/fen", "back")
    assert (back["batch"]["in_place"], back["batch"]["evidence"]) == (FILES, {"on-arrival": FILES})
    assert snapshot(program.directory / "back" / "fen", times=False) == snapshot(old, times=False)
    assert program.json("stage", f"{far.name}:a/fen", "back")["batch"] is None
    assert program.json("stage", "back/fen", f"{far.name}:a")["batch"] is None
    assert program.json("stage", f"{far.name}:a", "all")["batch"]["in_place"] == FILES
    assert snapshot(program.directory / "all" / "a" / "fen", times=False) == snapshot(old, times=False)


@on_openssh
def test_what_is_stored_as_a_bundle_is_made_anew_as_one(program: Program, far: Far, fen: Path) -> None:
    program("stage", "fen", f"{far.name}:", "--store", "bundle")
    old = (far.root / "fen.tar.zst").read_bytes()
    (fen / "plot-01" / "new.csv").write_text("new")
    (fen / "README").write_text("the survey, second season\n")
    (fen / "plot-02" / "flux-0002.csv").unlink()
    age(fen)
    plan = " ".join(program("stage", "fen", f"{far.name}:", "--plan-only").stdout.split())
    assert "rebuilt for 2 entries" in plan and "1 entry that the source has no more" in plan
    refused = program("stage", "fen", f"{far.name}:", "--skip", "plot-02", expect=5)
    assert "rebuilt with less in it" in refused.stderr
    done = program.json("stage", "fen", f"{far.name}:")
    assert (done["batch"]["in_place"], done["plan"]["replace"]) == (FILES, 1)
    kept = far.root / ".yatagan-kept" / done["batch"]["batch"]
    assert (kept / "fen.tar.zst").read_bytes() == old and (kept / "fen.tar.zst.members.jsonl").exists()
    program("stage", f"{far.name}:fen", "back")
    assert snapshot(program.directory / "back" / "fen", times=False) == snapshot(fen, times=False)
    assert program.json("stage", "fen", f"{far.name}:")["batch"] is None

    # As files, when that is asked for; the directory then hides the bundle.
    assert "hides" in program("stage", "fen", f"{far.name}:", "--pack", "never", "--plan-only").stdout
    unpacked = program.json("stage", "fen", f"{far.name}:", "--store", "files", "--pack", "always")
    assert unpacked["plan"]["bundles"] == [] and unpacked["plan"]["bundled_files"] == FILES - 1
    assert snapshot(far.root / "fen", times=False) == snapshot(fen, times=False)
    (fen / "README").write_text("third\n")
    assert program.json("stage", "fen", f"{far.name}:", "--plan-only")["plan"]["bundles"] == []


@on_openssh
def test_every_directory_a_bundle_of_its_own(program: Program, far: Far, fen: Path) -> None:
    done = program.json("stage", "fen", f"{far.name}:", "--store", "by-directory")
    assert (done["batch"]["in_place"], done["batch"]["bundles"]) == (FILES, 3)
    bundles = [f"fen/plot-{number:02d}.tar.zst" for number in range(3)]
    assert there(far) == sorted(
        ["fen", "fen/README", "fen/empty", "fen/latest", *bundles, *(f"{each}.members.jsonl" for each in bundles)]
    )
    assert program.json("stage", "fen", f"{far.name}:")["batch"] is None
    untouched = [(far.root / each).stat().st_ino for each in bundles[:2]]
    (fen / "plot-02" / "flux-0002.csv").write_text("other")
    (fen / "README").write_text("other")
    (fen / "plot-03").mkdir()
    (fen / "plot-03" / "a.csv").write_text("a")
    plan = program.json("stage", "fen", f"{far.name}:", "--plan-only")["plan"]
    assert [Path(each["path"]).name for each in plan["bundles"]] == ["plot-02.tar.zst"]
    program("stage", "fen", f"{far.name}:", "--store", "bundle")  # what is there keeps its form
    assert [(far.root / each).stat().st_ino for each in bundles[:2]] == untouched
    assert (far.root / "fen" / "plot-03" / "a.csv").exists() and not (far.root / "fen.tar.zst").exists()
    program("stage", f"{far.name}:fen", "back")
    assert snapshot(program.directory / "back" / "fen", times=False) == snapshot(fen, times=False)
    # As what they really are: files.
    program("checksums", f"{far.name}:fen")
    assert program.json("verify", f"{far.name}:fen")["good"], "the list names the bundles, and so they are taken"
    program("stage", f"{far.name}:fen", "really", "--pack", "never")
    assert (program.directory / "really" / "fen" / "plot-00.tar.zst").exists()
    assert program.json("list", f"{far.name}:fen")["entries"][0]["path"] == "README"


@pytest.mark.server
def test_without_commands_everything_is_read_back(program: Program, openssh: OpenSsh, old: Path) -> None:
    """A node that only takes files, and gives them; what is stored there is seen all the same."""
    root = program.home.parent / "far"
    root.mkdir()
    child, port = start_sshd(openssh.base, "ForceCommand internal-sftp\n", sftp="internal-sftp")
    try:
        program(*replace(openssh, port=port).far(root).add)
        done = program.json("stage", str(old), "oak:", "--store", "bundle", "--prove", "read-back")
        assert done["batch"]["evidence"] == {"read-back": FILES}
        program("checksums", str(old), "--output", "fen.sums")
        verdict = program.json("verify", "oak:fen", "--against", "fen.sums")
        assert (verdict["good"], verdict["evidence"]) == (True, {"read-back": FILES})
        program("stage", "oak:fen", "back")
        assert snapshot(program.directory / "back" / "fen", times=False) == snapshot(old, times=False)
    finally:
        child.send_signal(signal.SIGTERM)
        child.wait(10)


def test_here_to_here_and_what_is_refused(program: Program, old: Path) -> None:
    done = program.json("stage", str(old), "store", "--store", "bundle", "--as", "f")
    assert done["batch"]["evidence"] == {"read-back": FILES}
    assert program.json("stage", str(old), "store", "--as", "f")["batch"] is None
    program("stage", "store/f", "back", "--as", "fen")
    assert snapshot(program.directory / "back" / "fen", times=False) == snapshot(old, times=False)
    assert "stored as a bundle" in program("checksums", "store/f", expect=2).stderr
    # A bundle of the same name that somebody else made is a file like others, and is kept when it is replaced.
    (program.directory / "store" / "fen.tar.zst").write_text("mine")
    done = program.json("stage", str(old), "store", "--store", "bundle")
    assert done["plan"]["replace"] == 1
    kept = program.directory / "store" / ".yatagan-kept" / done["batch"]["batch"] / "fen.tar.zst"
    assert kept.read_text() == "mine"


def test_a_bundle_beside_the_index_of_another_is_made_anew(program: Program, old: Path) -> None:
    """As it is for a moment while one is replaced: it is neither believed nor passed over."""
    program("stage", str(old), "store", "--store", "bundle")
    bundle = program.directory / "store" / "fen.tar.zst"
    whole = bundle.read_bytes()
    bundle.write_bytes(whole + b"\0")
    assert "no such file" in program("list", "store/fen", expect=2).stderr
    assert len(program.json("stage", str(old), "store")["plan"]["bundles"]) == 1
    assert bundle.read_bytes() == whole and not (program.directory / "store" / "fen").exists()
    assert program.json("stage", str(old), "store")["batch"] is None


# -- interrupted -----------------------------------------------------------------------------------------------


@pytest.mark.server
@pytest.mark.parametrize(
    "moment",
    ["apply-before:2", "apply-after:4", "bytes:2500000", "placed:1", "kept:1"],
)
def test_killed_and_resumed(program: Program, oak: Far, old: Path, moment: str) -> None:
    (oak.root / "fen.tar.zst").write_text("an older one")
    kill_at(program, moment, "stage", str(old), "oak:", "--store", "bundle")
    batch = program.json("batch", "resume")
    assert batch["good"] and batch["in_place"] == FILES
    assert there(oak) == ["fen.tar.zst", "fen.tar.zst.members.jsonl"]
    assert (oak.root / ".yatagan-kept" / batch["batch"] / "fen.tar.zst").read_text() == "an older one"
    assert not list(program.home.rglob("spool"))
    assert program.json("stage", str(old), "oak:")["batch"] is None
    program("stage", "oak:fen", "back")
    assert snapshot(program.directory / "back" / "fen", times=False) == snapshot(old, times=False)


def test_what_has_arrived_of_a_bundle_is_not_made_or_sent_again(program: Program, practice: Practice) -> None:
    """Killed at 9 of 12 MB: what goes on is the bundle that was made, whatever becomes of the directory."""
    far = practice.far()
    program.know(far)
    root = program.directory / "fen"
    make_fen(root, 12_000_000)
    practice.wrong("heron", max_rate="4MB")
    kill_at(program, "bytes:9000000", "stage", "fen", "heron:", "--store", "bundle")
    [made] = program.home.rglob("spool/*.tar.zst")
    digest = hashlib.sha256(made.read_bytes()).hexdigest()
    (root / "README").write_text("written meanwhile")
    practice.wrong("heron")
    batch = program.json("batch", "resume")
    assert batch["good"] and batch["sent_again_bytes"] < 6_000_000
    assert hashlib.sha256((far.root / "fen.tar.zst").read_bytes()).hexdigest() == digest
    plan = program.json("stage", "fen", "heron:", "--plan-only")["plan"]
    assert len(plan["bundles"]) == 1, "what was written meanwhile is new"


@pytest.mark.server
def test_a_bundle_that_cannot_be_made_is_told_once(program: Program, oak: Far, old: Path) -> None:
    small = 400_000
    done = program(
        *("stage", str(old), "oak:", "--store", "bundle"),
        expect=1,
        preexec_fn=lambda: resource.setrlimit(resource.RLIMIT_FSIZE, (small, small)),
    )
    assert "fen.tar.zst: refused: File too large" in done.stdout
    assert "and with that 26 entries that were to be in a bundle" in done.stdout
    assert done.stdout.count("failed") == 3 and len(done.stderr.splitlines()) == 1
    assert there(oak) == []
    batch = program.json("batch", "resume")
    assert batch["good"] and batch["in_place"] == FILES


@pytest.mark.server
def test_what_is_gone_when_its_bundle_is_made(program: Program, oak: Far, fen: Path) -> None:
    """A new bundle is made without it, and that is told; one that is there does not lose what it has."""
    kill_at(program, "apply-before:1", "stage", "fen", "oak:new", "--store", "bundle")
    (fen / "plot-01" / "flux-0001.csv").unlink()
    done = program("batch", "resume", expect=1).stdout
    assert "fen/plot-01/flux-0001.csv: there is no such file" in done
    assert program.json("batch", "show")["in_place"] == FILES - 1
    assert program.json("bundle", "check", "oak:new/fen.tar.zst")["checked_by_index"] == FILES - 1
    assert program.json("stage", "fen", "oak:new")["batch"] is None

    whole = (oak.root / "new" / "fen.tar.zst").read_bytes()
    (fen / "README").write_text("changed")
    kill_at(program, "apply-before:1", "stage", "fen", "oak:new")
    [spool] = program.home.rglob("batches/*/spool")
    for made in spool.iterdir():
        made.unlink()
    (fen / "plot-02" / "flux-0002.csv").unlink()
    done = program("batch", "resume", expect=1).stdout
    assert "would lose fen/plot-02/flux-0002.csv, which cannot be read here" in done
    assert (oak.root / "new" / "fen.tar.zst").read_bytes() == whole


@pytest.mark.server
def test_a_damaged_bundle_gives_back_what_is_good_and_nothing_else(program: Program, oak: Far, old: Path) -> None:
    program("stage", str(old), "oak:", "--store", "bundle")
    program("checksums", str(old), "--output", "fen.sums")
    bundle = oak.root / "fen.tar.zst"
    data = bytearray(bundle.read_bytes())
    data[len(data) // 2] ^= 0xFF  # in the middle of the large file
    bundle.write_bytes(data)
    verdict = program.json("verify", "oak:fen", "--against", "fen.sums", expect=1)
    assert "plot-00/raw.npy" in [each.get("path") for each in verdict["entries"]]
    done = program.json("stage", "oak:fen", "back", expect=1)
    assert done["batch"]["failed"] == 1
    arrived = snapshot(program.directory / "back" / "fen", times=False)
    arrived = {key: value for key, value in arrived.items() if not key.endswith(b".part")}
    assert arrived == {key: value for key, value in snapshot(old, times=False).items() if not key.endswith(b"raw.npy")}


# -- below the program -----------------------------------------------------------------------------------------

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
