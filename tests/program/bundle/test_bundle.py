"""`yatagan bundle`, here and on nodes; and small files that travel together."""

from __future__ import annotations

import gzip
import hashlib
import io
import json
import os
import random
import signal
import subprocess
import tarfile
from functools import partial
from pathlib import Path

import pytest

from conftest import Far, Program, needs_zstd, snapshot, wait_for
from yatagan.archives.compression import FRAME

pytestmark = pytest.mark.kept("openssh")


#: Where a real server shows all that a practice node would.
on_openssh = pytest.mark.parametrize("far", [pytest.param("openssh", marks=pytest.mark.server)], indirect=True)


def make_tree(root: Path, files: int = 40) -> None:
    """Small files, a large one, a link, an empty directory, names that are awkward."""
    rng = random.Random(5)
    for number in range(files):
        path = root / f"plot-{number % 4:02d}" / f"flux-{number:04d}.csv"
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(rng.randbytes(300 + number))
    (root / "large.npy").write_bytes(rng.randbytes(3 << 20))
    (root / "new\nline").write_text("x")
    (root / "empty").mkdir()
    (root / "link").symlink_to("large.npy")
    (root / "plot-00" / "flux-0000.csv").chmod(0o640)
    for path in [*root.rglob("*"), root]:
        os.utime(path, ns=(1_700_000_000_123_456_789, 1_700_000_000_123_456_789), follow_symlinks=False)


@pytest.fixture(scope="session")
def aged(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The tree, to be read only: of files that are older, nobody waits for the next tick of a clock."""
    root = tmp_path_factory.mktemp("aged") / "fen"
    root.mkdir()
    make_tree(root)
    return root


@pytest.fixture
def fen(program: Program) -> Path:
    root = program.directory / "fen"
    root.mkdir()
    make_tree(root)
    return root


@pytest.mark.parametrize("form", ["tar", "tar.gz", pytest.param("tar.zst", marks=needs_zstd)])
def test_made_here_listed_checked_and_unpacked(program: Program, aged: Path, form: str) -> None:
    made = program.json("bundle", "make", aged, "--format", form)
    bundle = program.directory / f"fen.{form}"
    assert made["path"] == str(bundle)
    assert (made["files"], made["bundle_bytes"]) == (42, bundle.stat().st_size)
    assert made["bundle_sha256"] == hashlib.sha256(bundle.read_bytes()).hexdigest()
    assert stat_of(bundle) == 0o644

    members = {each["path"]: each for each in program.json("bundle", "list", bundle)["members"]}
    for path, each in members.items():
        there = aged.parent / path
        assert each["size_bytes"] == (there.stat().st_size if each["kind"] == "file" else 0)
        if each["kind"] == "file":
            assert each["sha256"] == hashlib.sha256(there.read_bytes()).hexdigest()
    assert len(members) == 1 + len(list(aged.rglob("*")))
    assert program.json("bundle", "check", bundle)["checked_by_index"] == 42

    read = program.json("bundle", "unpack", bundle, "--into", "back")
    assert (read["files"], read["checked_by_index"]) == (42, 42)
    assert snapshot(program.directory / "back" / "fen") == snapshot(aged)
    subprocess.run(["tar", "xf", bundle, "-C", program.home], check=True)
    assert snapshot(program.home / "fen") == snapshot(aged)
    checksums = program("bundle", "list", bundle, "--checksums").stdout
    subprocess.run(["sha256sum", "-c", "--quiet", "-"], input=checksums.encode(), cwd=program.home, check=True)
    assert [record["kind"] for record in program.json("ledger", "show")["records"]] == ["unpacked", "bundled"]


def stat_of(path: Path) -> int:
    return path.stat().st_mode & 0o777


def test_what_is_there_is_left_alone_unless_told(program: Program, fen: Path) -> None:
    program("bundle", "make", "fen")
    changed, untouched = fen / "plot-01" / "flux-0001.csv", fen / "large.npy"
    changed.write_text("mine")
    assert program.json("bundle", "unpack", "fen.tar.zst", expect=1)["counts"]["in_the_way"] == 1
    assert changed.read_text() == "mine"
    done = program("bundle", "unpack", "fen.tar.zst", expect=1)
    assert "a file is there already" in done.stderr and "--if-there replace-older or replace keeps" in done.stderr
    os.utime(changed, (2_000_000_000, 2_000_000_000))
    program("bundle", "unpack", "fen.tar.zst", "--if-there", "replace-older", expect=1)
    assert changed.read_text() == "mine"
    inode = untouched.stat().st_ino
    assert program.json("bundle", "unpack", "fen.tar.zst", "--if-there", "replace")["counts"]["replaced"] == 1
    assert changed.read_text(errors="replace") != "mine" and untouched.stat().st_ino == inode
    assert [kept.read_text() for kept in program.directory.glob(".yatagan-kept/*/fen/plot-01/*.csv")] == ["mine"]


def test_nothing_is_bundled_over_what_is_there(program: Program, fen: Path) -> None:
    (program.directory / "fen.tar.zst").write_text("mine")
    assert "exists already" in program("bundle", "make", "fen", expect=5).stderr
    assert (program.directory / "fen.tar.zst").read_text() == "mine"
    assert sorted(path.name for path in program.directory.iterdir()) == ["fen", "fen.tar.zst"]


def test_a_bundle_holds_all_that_was_chosen_or_is_none(program: Program, fen: Path) -> None:
    program("bundle", "make", "fen", "--skip", "*.npy", "--output", "small.tar")
    names = program.json("bundle", "list", "small.tar")["members"]
    assert not any(each["path"].endswith(".npy") for each in names)
    if os.geteuid():
        (fen / "large.npy").chmod(0)
        assert "cannot be read" in program("bundle", "make", "fen", expect=5).stderr
    assert (
        "does not end in .tar"
        in program("bundle", "make", "fen", "--output", "x.tar.gz", "--format", "tar", expect=2).stderr
    )
    assert "no such directory" in program("bundle", "make", "fen", "--output", "no/x.tar", expect=2).stderr
    assert "needs a name" in program("bundle", "make", "fen", "fen/empty", expect=2).stderr
    assert "from 1 to 19" in program("bundle", "make", "fen", "--level", "40", expect=2).stderr


def test_the_same_tree_gives_the_same_bundle(program: Program, fen: Path) -> None:
    first = program.json("bundle", "make", "fen", "--reproducible", "--output", "a.tar.zst")
    fen.rename(program.directory / "away")
    subprocess.run(["cp", "-a", "away", "fen"], cwd=program.directory, check=True)
    second = program.json("bundle", "make", "fen", "--reproducible", "--output", "b.tar.zst")
    assert first["bundle_sha256"] == second["bundle_sha256"]


def test_a_stopped_make_leaves_nothing(program: Program, fen: Path) -> None:
    (fen / "huge").write_bytes(os.urandom(1 << 20) * 400)
    child = program.start("bundle", "make", "fen", "--level", "19")
    wait_for(lambda: any(program.directory.glob(".yatagan-*.part")))
    child.send_signal(signal.SIGINT)
    assert child.wait(20) == 4
    assert [path.name for path in program.directory.iterdir()] == ["fen"]


@pytest.mark.parametrize("form", ["tar", "tar.gz", "tar.zst"])
def test_a_damaged_bundle_says_where_and_gives_back_what_is_good(program: Program, aged: Path, form: str) -> None:
    program("bundle", "make", aged, "--format", form)
    bundle = program.directory / f"fen.{form}"
    data = bytearray(bundle.read_bytes())
    data[len(data) // 2] ^= 0xFF
    bundle.write_bytes(data)
    assert program.json("bundle", "check", bundle, expect=1)["good"] is False
    plain = program.json("bundle", "unpack", bundle, "--into", "plain", expect=1)
    salvaged = program.json("bundle", "unpack", bundle, "--into", "salvaged", "--salvage", expect=1)
    assert plain["files"] <= salvaged["files"] < 42
    if form != "tar.gz":
        assert salvaged["files"] == 41
    whole = snapshot(aged)
    for path, facts in snapshot(program.directory / "salvaged" / "fen").items():
        if facts[0] == "file":
            assert whole[path] == facts


def test_a_cut_bundle_gives_back_what_is_good(program: Program, aged: Path) -> None:
    program("bundle", "make", aged, "--format", "tar.zst")
    bundle = program.directory / "fen.tar.zst"
    bundle.write_bytes(bundle.read_bytes()[: FRAME + FRAME // 2])
    done = program("bundle", "list", bundle, expect=1)
    assert "archive is damaged" in done.stderr and "made for another archive" in done.stderr
    assert program.json("bundle", "unpack", bundle, "--into", "back", expect=1)["checked_by_index"] > 0


def test_what_is_no_archive(program: Program) -> None:
    (program.directory / "notes.txt").write_text("nothing of the kind\n" * 100)
    for command in ("list", "unpack", "check"):
        assert "no archive of a known format" in program("bundle", command, "notes.txt", expect=2).stderr
        assert "no such file" in program("bundle", command, "no.tar", expect=2).stderr
        assert "not an archive" in program("bundle", command, ".", expect=2).stderr


# -- nodes -----------------------------------------------------------------------------------------------------


def test_straight_on_to_a_node_and_back(program: Program, far: Far, aged: Path) -> None:
    made = program.json("bundle", "make", aged, "--output", f"{far.name}:")
    assert made["evidence"] == {"on-node": 1}
    assert not list(program.directory.iterdir())
    assert sorted(path.name for path in far.root.iterdir()) == ["fen.tar.zst", "fen.tar.zst.members.jsonl"]
    place = f"{far.name}:fen.tar.zst"
    assert len(program.json("bundle", "list", place)["members"]) == made["members"]
    assert program.json("bundle", "check", place)["good"]
    read = program.json("bundle", "unpack", place, "--into", "back")
    assert read["checked_by_index"] == 42
    assert snapshot(program.directory / "back" / "fen") == snapshot(aged)


@on_openssh
def test_one_member_is_fetched_without_the_rest(program: Program, far: Far, fen: Path) -> None:
    for number in range(8):
        (fen / f"raw-{number}").write_bytes(os.urandom(4 << 20))
    program("bundle", "make", "fen", "--output", f"{far.name}:")
    read = program.json("bundle", "unpack", f"{far.name}:fen.tar.zst", "--only", "plot-03/*7.csv", "--into", "back")
    assert read["files"] > 0 and read["files"] == read["checked_by_index"]
    assert read["fetched_bytes"] < 4 << 20 < (far.root / "fen.tar.zst").stat().st_size


@on_openssh
@pytest.mark.parametrize("form", ["tar.gz", pytest.param("tar.zst", marks=needs_zstd)])
def test_made_and_unpacked_on_the_node_by_the_node(program: Program, far: Far, form: str) -> None:
    (far.root / "fen").mkdir()
    make_tree(far.root / "fen")
    made = program.json("bundle", "make", f"{far.name}:fen", "--format", form)
    assert made["path"].endswith(f"fen.{form}")
    there = far.root / f"fen.{form}"
    assert made["bundle_sha256"] == hashlib.sha256(there.read_bytes()).hexdigest()
    read = program.json("bundle", "unpack", f"{far.name}:fen.{form}", "--into", f"{far.name}:again")
    assert (read["files"], read["checked_by_index"]) == (42, 42)
    assert snapshot(far.root / "again" / "fen") == snapshot(far.root / "fen")
    some = program.json(
        "bundle",
        "unpack",
        f"{far.name}:fen.{form}",
        "--into",
        f"{far.name}:some",
        "--only",
        "plot-01",
        "--skip",
        "*1.csv",
    )
    assert 0 < some["files"] == len([path for path in (far.root / "some").rglob("*") if path.is_file()]) < 10
    home = program.json("bundle", "unpack", f"{far.name}:fen.{form}", "--into", "home")
    assert home["checked_by_index"] == 42
    assert snapshot(program.directory / "home" / "fen") == snapshot(far.root / "fen")
    assert not list(far.root.rglob("*.part"))


@on_openssh
def test_archives_of_others_on_a_node(program: Program, far: Far, fen: Path) -> None:
    with tarfile.open(far.root / "theirs.tar.bz2", "w:bz2") as archive:
        archive.add(fen, "fen")
    cut = gzip.compress((far.root / "theirs.tar.bz2").read_bytes())
    (far.root / "no.tar").write_bytes(cut[: len(cut) // 2])
    read = program.json("bundle", "unpack", f"{far.name}:theirs.tar.bz2", "--into", f"{far.name}:out")
    assert (read["files"], read["checked_by_index"]) == (42, 0)
    hostile = far.root / "hostile.tar"
    with tarfile.open(hostile, "w") as archive:
        archive.addfile(tarfile.TarInfo("../harm"))
    done = program("bundle", "unpack", f"{far.name}:hostile.tar", "--into", f"{far.name}:out", expect=1)
    assert "climbs out" in done.stderr and not (far.root / "harm").exists()
    assert program("bundle", "unpack", f"{far.name}:no.tar", "--into", f"{far.name}:out", expect=None).returncode == 1


# -- small files that travel together --------------------------------------------------------------------------


def test_small_files_travel_together_both_ways(program: Program, far: Far, aged: Path) -> None:
    always = "--pack", "always"  # whether it pays for so few hangs on how busy this machine is
    plan = program("stage", aged, f"{far.name}:", *always, "--plan-only").stdout
    assert "41 small files" in plan and "unpacked on arrival" in plan
    done = program.json("stage", aged, f"{far.name}:", *always)
    assert done["plan"]["bundled_files"] == 41
    assert done["batch"]["evidence"] == {"on-node": 42}
    assert snapshot(far.root / "fen", times=False) == snapshot(aged, times=False)
    for path in aged.rglob("*"):
        if path.is_file() and not path.is_symlink():
            assert (far.root / "fen" / path.relative_to(aged)).stat().st_mtime == pytest.approx(
                path.stat().st_mtime, abs=1
            )
    assert program.json("stage", aged, f"{far.name}:")["plan"]["files"] == 0

    back = program.json("stage", f"{far.name}:fen", "back", *always)
    assert back["plan"]["bundled_files"] == 41
    assert back["batch"]["evidence"] == {"on-arrival": 42}
    assert snapshot(program.directory / "back" / "fen", times=False) == snapshot(aged, times=False)
    assert not list(far.root.rglob("*.part")) and not list(program.directory.rglob("*.part"))


@on_openssh
def test_bundles_are_left_out_where_they_are_not_wanted(program: Program, far: Far, aged: Path) -> None:
    assert program.json("stage", aged, f"{far.name}:", "--pack", "never", "--plan-only")["plan"]["bundled_files"] == 0
    assert (
        program.json("stage", aged, f"{far.name}:x", "--prove", "read-back", "--plan-only")["plan"]["bundled_files"]
        == 0
    )
    assert program.json("stage", aged, "here", "--plan-only")["plan"]["bundled_files"] == 0


@on_openssh
def test_what_cannot_travel_with_the_others_goes_alone(program: Program, far: Far, fen: Path) -> None:
    """Files that are gone, and names that are taken, when the bundle comes to them."""
    (far.root / "fen").mkdir()
    (far.root / "fen" / "plot-02").mkdir()
    child = program.start("stage", "fen", f"{far.name}:", "--json")
    taken = far.root / "fen" / "plot-02" / "flux-0002.csv"
    taken.write_text("somebody else's")
    (fen / "plot-03" / "flux-0003.csv").unlink()
    out, err = child.communicate(timeout=60)
    assert child.returncode in (0, 1), err
    assert taken.read_bytes() == b"somebody else's" or child.returncode == 0
    whole = snapshot(fen, times=False)
    arrived = snapshot(far.root / "fen", times=False)
    wrong = {path for path in whole if arrived.get(path) != whole[path]}
    assert wrong <= {b"plot-02/flux-0002.csv"}, wrong
    assert json.loads(out)["batch"]["failed"] <= 2


def _has(root: Path, entries: int, child: subprocess.Popen[str]) -> bool:
    return len(list(root.rglob("*"))) > entries or child.poll() is not None


@on_openssh
def test_killed_in_the_middle_of_bundles(program: Program, far: Far) -> None:
    """Killed three times while two thousand small files travel: all arrive, and little is sent twice."""
    root = program.directory / "many"
    root.mkdir()
    rng = random.Random(3)
    for number in range(2000):
        path = root / f"d{number % 20:02d}" / f"{number:05d}"
        path.parent.mkdir(exist_ok=True)
        path.write_bytes(rng.randbytes(rng.randrange(0, 9000)))
    for stop in (1, 700, 1400):
        words = ("stage", "many", f"{far.name}:", "--quiet") if stop == 1 else ("batch", "resume", "--quiet")
        child = program.start(*words)
        wait_for(partial(_has, far.root, stop, child))
        child.send_signal(signal.SIGKILL)
        child.wait(10)
    wait_for(lambda: program("batch", "resume", expect=None).returncode != 5)  # a keeper stops a moment later
    done = program.json("batch", "show")
    assert done["in_place"] + done["left_as_is"] == 2000
    assert snapshot(far.root / "many", times=False) == snapshot(root, times=False)
    assert not list(far.root.rglob("*.part"))


@pytest.mark.soak
@needs_zstd
def test_sparse_files_of_nine_gigabytes(program: Program) -> None:
    """More than a plain header can say, and almost all of it holes: by us and by others, both ways."""
    fen, size = program.directory / "fen", 9 << 30
    fen.mkdir()
    with (fen / "sparse").open("wb") as stream:
        stream.truncate(size)
        for offset in (0, 5 << 30, size - 3):
            stream.seek(offset)
            stream.write(b"end")
    digest = subprocess.run(["sha256sum", "fen/sparse"], cwd=program.directory, capture_output=True, check=True).stdout
    made = program.json("bundle", "make", "fen")
    assert (made["size_bytes"], made["bundle_bytes"] < 100_000) == (size, True)
    with tarfile.open(fileobj=_plain(program.directory / "fen.tar.zst")) as archive:
        assert archive.getmember("fen/sparse").size == size
    assert program("bundle", "list", "fen.tar.zst", "--checksums").stdout.encode() == digest
    subprocess.run(["tar", "xf", "fen.tar.zst", "-C", program.home], cwd=program.directory, check=True)
    program("bundle", "unpack", "fen.tar.zst", "--into", "ours")
    for form in ("posix", "gnu"):
        subprocess.run(["tar", "cSf", f"{form}.tar", f"--format={form}", "fen"], cwd=program.directory, check=True)
        program("bundle", "unpack", f"{form}.tar", "--into", form)
    for out in (program.home, *(program.directory / name for name in ("ours", "posix", "gnu"))):
        subprocess.run(["cmp", fen / "sparse", out / "fen" / "sparse"], check=True)
        assert (out / "fen" / "sparse").stat().st_blocks * 512 < 1 << 20


def _plain(path: Path) -> io.BytesIO:
    return io.BytesIO(subprocess.run(["zstd", "-dcq", path], capture_output=True, check=True).stdout)
