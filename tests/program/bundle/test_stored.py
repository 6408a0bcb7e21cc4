"""Directories that are stored as bundles, and seen through: `stage --store bundle` and `by-directory`, both ways."""

from __future__ import annotations

import hashlib
import os
import resource
import signal
import subprocess
from dataclasses import replace
from pathlib import Path

import pytest

from conftest import Far, OpenSsh, Practice, Program, needs_zstd, snapshot, start_sshd
from small_fen import FILES, age, make_fen

pytestmark = [pytest.mark.kept("openssh"), needs_zstd]


on_openssh = pytest.mark.parametrize("far", [pytest.param("openssh", marks=pytest.mark.server)], indirect=True)


@pytest.fixture
def fen(program: Program) -> Path:
    root = program.directory / "fen"
    root.mkdir()
    make_fen(root)
    return root


@pytest.fixture(scope="session")
def old(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The same, to be read only: nobody waits for it to grow older."""
    root = tmp_path_factory.mktemp("old") / "fen"
    root.mkdir()
    make_fen(root)
    return root


def there(far: Far) -> list[str]:
    """What is really there, below the kept files."""
    return sorted(str(path.relative_to(far.root)) for path in far.root.rglob("*") if ".yatagan-kept" not in path.parts)


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


@pytest.mark.server
@pytest.mark.parametrize(
    "moment",
    ["apply-before:2", "apply-after:4", "bytes:2500000", "placed:1", "kept:1"],
)
def test_killed_and_resumed(program: Program, oak: Far, old: Path, moment: str) -> None:
    (oak.root / "fen.tar.zst").write_text("an older one")
    program.dies_at(moment, "stage", str(old), "oak:", "--store", "bundle")
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
    program.dies_at("bytes:9000000", "stage", "fen", "heron:", "--store", "bundle")
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
    program.dies_at("apply-before:1", "stage", "fen", "oak:new", "--store", "bundle")
    (fen / "plot-01" / "flux-0001.csv").unlink()
    done = program("batch", "resume", expect=1).stdout
    assert "fen/plot-01/flux-0001.csv: there is no such file" in done
    assert program.json("batch", "show")["in_place"] == FILES - 1
    assert program.json("bundle", "check", "oak:new/fen.tar.zst")["checked_by_index"] == FILES - 1
    assert program.json("stage", "fen", "oak:new")["batch"] is None

    whole = (oak.root / "new" / "fen.tar.zst").read_bytes()
    (fen / "README").write_text("changed")
    program.dies_at("apply-before:1", "stage", "fen", "oak:new")
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
