"""The same contents, as a directory, as a stored bundle and as an archive of another program: here, on a node with
commands and on one for files alone every command says the same of them, or says plainly that it cannot."""

from __future__ import annotations

import hashlib
import os
import shutil
import subprocess
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import pytest

from conftest import OpenSsh, Program, needs_zstd, start_sshd

pytestmark = [pytest.mark.server, needs_zstd]

OLD_NS = 1_700_000_000_123_456_789
CONTENTS = {
    "a.csv": b"1958.2\n" * 90,
    "week 1/b.csv": b"1961.0\n" * 70,
    "week 1/c\n.csv": b"",
    "big.npy": bytes(99_000),
}
FILES, SIZE = len(CONTENTS), sum(map(len, CONTENTS.values()))


@dataclass
class Spot:
    """Where the contents are: `node` as it is typed before a path, and the directory behind it as tests see it."""

    node: str
    root: Path
    kind: str

    def place(self, name: str) -> str:
        return self.node + name if self.node else str(self.root / name)


@pytest.fixture(params=["here", "commands", "files"])
def spot(request: pytest.FixtureRequest, program: Program, tmp_path: Path) -> Iterator[Spot]:
    root = tmp_path / "spot"
    root.mkdir()
    if request.param == "here":
        program("config", "set", "roots", str(tmp_path), expect=None)
        yield Spot("", root, "here")
        return
    openssh: OpenSsh = request.getfixturevalue("openssh")
    if request.param == "commands":
        program.know(openssh.far(root))
        yield Spot("oak:", root, "commands")
        return
    child, port = start_sshd(openssh.base, "ForceCommand internal-sftp\n", sftp="internal-sftp")
    program(*replace(openssh, port=port).far(root).add)
    yield Spot("oak:", root, "files")
    child.terminate()
    child.wait(10)


@pytest.fixture
def source(program: Program) -> Path:
    """The contents as a directory of this machine."""
    root = program.directory / "fen"
    for name, data in CONTENTS.items():
        (root / name).parent.mkdir(parents=True, exist_ok=True)
        (root / name).write_bytes(data)
    (root / "latest").symlink_to("a.csv")
    for path in [*root.rglob("*"), root]:
        os.utime(path, ns=(OLD_NS, OLD_NS), follow_symlinks=False)
    return root


def put_tree(program: Program, spot: Spot, source: Path) -> str:
    program("stage", "fen", spot.place("held"))
    return spot.place("held/fen")


def put_bundle(program: Program, spot: Spot, source: Path) -> str:
    program("stage", "fen", spot.place("held"), "--store", "bundle", "--prove", "read-back")
    assert not (spot.root / "held" / "fen").exists()
    return spot.place("held/fen")


FORMS: dict[str, Callable[[Program, Spot, Path], str]] = {"tree": put_tree, "bundle": put_bundle}


@pytest.mark.parametrize("form", FORMS)
def test_every_command_says_the_same(form: str, program: Program, spot: Spot, source: Path) -> None:
    place = FORMS[form](program, spot, source)

    listed = program.json("list", place, "--recursive")["entries"]
    assert {each["path"] for each in listed if each["kind"] == "file"} == set(CONTENTS)
    for pair in ((place, "fen"), ("fen", place)):
        for by in ("size-and-time", "digest"):
            compared = program.json("compare", *pair, "--by", by)
            assert compared["same"], (pair, by, compared)
            assert (compared["time_step_ns"] >= 10**9) is (spot.kind == "files"), "how finely times can be compared"
    sums = "".join(
        f"{chr(92) * (chr(10) in name)}{hashlib.sha256(data).hexdigest()}  {name.replace(chr(10), chr(92) + 'n')}\n"
        for name, data in CONTENTS.items()
    )
    (program.directory / "sums").write_text(sums)
    verdict = program.json("verify", place, "--against", "sums")
    assert (verdict["good"], verdict["files"], verdict["size_bytes"]) == (True, FILES, SIZE)
    md5 = "".join(f"{hashlib.md5(data).hexdigest()}  {name}\n" for name, data in CONTENTS.items() if "\n" not in name)
    (program.directory / "sums.md5").write_text(md5)
    assert program.json("verify", place, "--against", "sums.md5")["counts"]["same"] == FILES - 1
    printed = program("checksums", place, "--output", "-").stdout
    subprocess.run(["sha256sum", "-c", "--quiet", "-"], input=os.fsencode(printed), cwd=source, check=True)

    before = sorted((path.name, path.stat().st_mtime_ns) for path in spot.root.rglob("*"))
    for by in ("size-and-time", "digest"):
        for _ in range(2):
            again = program.json("stage", "fen", spot.place("held"), "--by", by)
            assert (again["batch"], again["plan"]["left_as_is"]) == (None, FILES), (by, again)
    said = program("stage", "fen", spot.place("held"), "--plan-only").stdout
    assert ("by size and time (to " in said) is (spot.kind == "files"), said
    assert sorted((path.name, path.stat().st_mtime_ns) for path in spot.root.rglob("*")) == before, (
        "nothing is made anew"
    )

    for name in ("a.csv", "week 1/b.csv"):
        if form == "tree":
            shown = program("peek", f"{place}/{name}", "--bytes", "20").stdout
            assert shown == CONTENTS[name][:20].decode()
        else:
            shown = program("peek", spot.place(f"held/fen.tar.zst/fen/{name}"), "--bytes", "20").stdout
            assert shown == CONTENTS[name][:20].decode()

    # One file is lost, one damaged: it comes back, with the digest on record.
    (source / "a.csv").unlink()
    (source / "week 1" / "b.csv").write_bytes(b"1961.1\n" * 70)
    os.utime(source / "week 1" / "b.csv", ns=(OLD_NS, OLD_NS))
    compared = program.json("compare", "fen", place, "--by", "digest", expect=1)
    assert {each["path"] for each in compared["entries"]} == {"a.csv", "week 1/b.csv"}
    program("restore", "fen")
    assert {name: (source / name).read_bytes() for name in CONTENTS} == CONTENTS

    # What is damaged there is found, wherever it is.
    victim = spot.root / "held" / ("fen/big.npy" if form == "tree" else "fen.tar.zst")
    status, data = victim.stat(), bytearray(victim.read_bytes())
    data[len(data) // 2] ^= 1
    victim.write_bytes(data)
    os.utime(victim, ns=(status.st_atime_ns, status.st_mtime_ns))
    assert not program.json("verify", place, "--against", "sums", expect=1)["good"]


@pytest.mark.parametrize("packed", ["zip", "tar", "tar.gz", "tar.zst"])
def test_an_archive_of_another_program(packed: str, program: Program, spot: Spot, source: Path) -> None:
    """It is a file, and what is in it can be listed, checked and looked at where it is."""
    (spot.root / "held").mkdir()
    made = spot.root / "held" / f"fen.{packed}"
    if packed == "zip":
        shutil.make_archive(str(spot.root / "held" / "fen"), "zip", program.directory, "fen")
    else:
        how = {"tar": [], "tar.gz": ["-z"], "tar.zst": ["--zstd"]}[packed]
        subprocess.run(["tar", "-c", *how, "-f", made, "fen"], cwd=program.directory, check=True)
    place = spot.place(f"held/fen.{packed}")
    inside = {each["path"] for each in program.json("bundle", "list", place)["members"] if each["kind"] == "file"}
    assert inside >= {f"fen/{name}" for name in CONTENTS}
    assert program("peek", f"{place}/fen/a.csv", "--bytes", "20").stdout == CONTENTS["a.csv"][:20].decode()
    program("bundle", "check", place)
    digest = hashlib.sha256(made.read_bytes()).hexdigest()
    assert program("checksums", place, "--output", "-").stdout.split()[0] == digest
    (program.directory / "one.sha256").write_text(f"{digest}  fen.{packed}\n")
    assert program.json("verify", place, "--against", "one.sha256")["good"]
    program("bundle", "unpack", place, "--into", "out")
    assert {name: (program.directory / "out" / "fen" / name).read_bytes() for name in CONTENTS} == CONTENTS


def test_a_bag_is_checked_wherever_it_is(program: Program, spot: Spot, source: Path) -> None:
    program("bag", "make", "fen", "--output", "bag", "--skip", "latest")
    program("stage", "bag", spot.place("held"))
    assert program.json("bag", "check", spot.place("held/bag"))["valid"]
    (spot.root / "held" / "bag" / "data" / "a.csv").write_bytes(b"other")
    said: dict[str, Any] = program.json("bag", "check", spot.place("held/bag"), expect=1)
    assert not said["valid"] and any(problem["path"] == "data/a.csv" for problem in said["problems"])
