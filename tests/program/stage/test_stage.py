"""Staging, with the installed program, against a practice node and a real OpenSSH server."""

from __future__ import annotations

import os
import signal
import stat
from pathlib import Path

import pytest

from conftest import Far, OpenSsh, Practice, Program, snapshot, start_sshd

STRANGE = [
    b"plain",
    b"with space",
    b"'single' and \"double\"",
    b"back\\slash",
    b"new\nline",
    b"carriage\rreturn",
    b"-rf",
    b"--help",
    b"-",
    b"[brackets]*?",
    b"bell\x07escape\x1b[31m",
    b"latin-\xe9-bytes",
    b"\xff\xfe",
    b"n" * 255,
    "größe-日本-‮abc".encode(),
    b"~",
    b"$HOME`id`",
    b"a:b",
    b"#hash",
    b"\\n literally",
    b" leading and trailing ",
    b".hidden",
    b"tab\there",
]

pytestmark = pytest.mark.kept("openssh")


def make_tree(root: Path) -> None:
    """Files, a link, an empty directory, modes and times of all sorts."""
    (root / "a" / "b").mkdir(parents=True)
    (root / "empty").mkdir()
    (root / "a" / "one.txt").write_bytes(b"one\n")
    (root / "a" / "b" / "two.bin").write_bytes(os.urandom(700_000))
    (root / "a" / "nothing").write_bytes(b"")
    (root / "a" / "to-one").symlink_to("one.txt")
    (root / "a" / "to-nowhere").symlink_to("/no/such/place")
    (root / "a" / "one.txt").chmod(0o640)
    (root / "a" / "nothing").chmod(0o400)
    (root / "a" / "b").chmod(0o750)
    (root / "a" / "b" / "two.bin").chmod(0o755)
    os.utime(root / "a" / "b" / "two.bin", (1_000_000_000, 1_000_000_000))
    os.utime(root / "empty", (1_100_000_000, 1_100_000_000))
    os.utime(root / "a" / "b", (1_200_000_000, 1_200_000_000))


def test_up_and_down_again_unchanged(program: Program, far: Far) -> None:
    make_tree(program.directory / "fen")
    up = program.json("stage", "fen", f"{far.name}:data/deeper")
    assert up["batch"]["good"] and up["batch"]["evidence"] == {"on-node": 3}
    assert snapshot(far.root / "data/deeper/fen") == snapshot(program.directory / "fen")
    down = program.json("stage", f"{far.name}:data/deeper/fen/", "back")
    assert down["batch"]["evidence"] == {"on-arrival": 3}
    assert snapshot(program.directory / "back/fen") == snapshot(program.directory / "fen")
    assert not [name for name in snapshot(far.root) if b".part" in name]


def test_every_legal_name(program: Program, far: Far) -> None:
    fen = os.fsencode(program.directory / "fen")
    os.mkdir(fen)
    for number, name in enumerate(STRANGE):
        with open(os.path.join(fen, name), "wb") as stream:
            stream.write(b"%d" % number)
    os.mkdir(os.path.join(fen, b"dir\nwith\x1bnewline"))
    os.symlink(b"target\nwith newline\xff", os.path.join(fen, b"link\n\xfe"))
    program("stage", "fen", f"{far.name}:")
    assert snapshot(os.fsencode(far.root / "fen")) == snapshot(fen)
    program("checksums", f"{far.name}:fen")
    checked = os.system(f"cd {far.root}/fen && sha256sum --strict --quiet -c SHA256SUMS")
    assert checked == 0
    program("verify", f"{far.name}:fen")
    for done in (
        program("list", f"{far.name}:fen"),
        program("batch", "show"),
        program("verify", f"{far.name}:fen"),
    ):
        assert not set(done.stdout) & {chr(code) for code in (*range(10), *range(11, 32), 127, 0x202E)}
    os.unlink(far.root / "fen" / "SHA256SUMS")
    os.unlink(far.root / "fen" / "SHA256SUMS.facts.jsonl")
    program("stage", f"{far.name}:fen", "back")
    assert snapshot(os.fsencode(program.directory / "back/fen"), times=False) == snapshot(fen, times=False)


def test_again_moves_nothing_and_says_so(program: Program, far: Far) -> None:
    make_tree(program.directory / "fen")
    program("stage", "fen", f"{far.name}:")
    again = program("stage", "fen", f"{far.name}:")
    assert "Nothing to move" in again.stdout and "3 files" in again.stdout
    assert program.json("stage", "fen", f"{far.name}:")["batch"] is None
    assert len(program.json("batch", "list")["batches"]) == 1


def test_a_file_rewritten_with_the_same_size_within_the_same_second_is_noticed(program: Program, far: Far) -> None:
    file = program.directory / "reading.csv"
    file.write_text("ch4,1901\n")
    program("stage", "reading.csv", f"{far.name}:")
    second = file.stat().st_mtime_ns // 10**9 * 10**9
    file.write_text("ch4,1902\n")
    os.utime(file, ns=(second, second + 999_999_999))
    assert (far.root / "reading.csv").stat().st_mtime_ns // 10**9 == second // 10**9
    done = program.json("stage", "reading.csv", f"{far.name}:")
    assert done["plan"]["replace"] == 1
    assert (far.root / "reading.csv").read_text() == "ch4,1902\n"


def test_what_is_replaced_is_kept(program: Program, far: Far) -> None:
    (far.root / "fen").mkdir()
    (far.root / "fen" / "notes.txt").write_text("theirs, and longer")
    (program.directory / "fen").mkdir()
    (program.directory / "fen" / "notes.txt").write_text("ours")
    plan = program("stage", "fen", f"{far.name}:", "--plan-only")
    assert "1 file" in plan.stdout and ".yatagan-kept" in plan.stdout
    done = program.json("stage", "fen", f"{far.name}:")
    assert (far.root / "fen" / "notes.txt").read_text() == "ours"
    kept = far.root / ".yatagan-kept" / done["batch"]["batch"] / "fen" / "notes.txt"
    assert kept.read_text() == "theirs, and longer"
    program("stage", f"{far.name}:", "copy", "--as", "all")
    assert not (program.directory / "copy/all/.yatagan-kept").exists(), "kept files are never carried"


def test_links_are_replaced_and_never_written_through(program: Program, far: Far) -> None:
    (far.root / "fen").mkdir()
    victim = far.root / "victim"
    victim.write_text("precious")
    (far.root / "fen" / "file").symlink_to(victim)
    (far.root / "fen" / "directory").symlink_to(far.root)
    near = program.directory / "fen"
    (near / "directory").mkdir(parents=True)
    (near / "file").write_text("new")
    (near / "directory" / "inside").write_text("must not get out")
    done = program.json("stage", "fen", f"{far.name}:", expect=1)
    assert victim.read_text() == "precious" and not (far.root / "inside").exists()
    assert not (far.root / "fen" / "file").is_symlink() and (far.root / "fen" / "file").read_text() == "new"
    assert done["plan"]["in_the_way"] == 1


def test_special_files_are_told_and_never_opened(program: Program, far: Far) -> None:
    near = program.directory / "fen"
    near.mkdir()
    os.mkfifo(near / "pipe")
    (near / "file").write_text("x")
    done = program("stage", "fen", f"{far.name}:")
    assert "pipe (a fifo)" in done.stdout and (far.root / "fen/file").exists() and not (far.root / "fen/pipe").exists()


def test_one_file_under_another_name_and_into_existing_places(program: Program, far: Far) -> None:
    (program.directory / "a.txt").write_text("a")
    program("stage", "a.txt", f"{far.name}:", "--as", "b.txt")
    assert (far.root / "b.txt").read_text() == "a"
    program("stage", f"{far.name}:b.txt", ".")
    assert (program.directory / "b.txt").read_text() == "a"
    program("stage", "a.txt", "b.txt", f"{far.name}:several/")
    assert sorted(os.listdir(far.root / "several")) == ["a.txt", "b.txt"]


@pytest.mark.parametrize(
    ("words", "status", "says"),
    [
        (("stage", "nothing-here", "{far}:"), 2, "there is nothing there"),
        (("stage", "fen", "nowhere:x"), 2, "no node is called"),
        (("stage", "fen", "{far}:fen-file"), 2, "must be a directory"),
        (("stage", "fen", "fen/inside"), 5, "inside the source"),
        (("stage", "{far}:x", "{far}:y"), 2, "there is nothing there"),
        (("stage", "fen", "a", "{far}:", "--as", "x"), 2, "--as gives 2 sources one name"),
        (("stage", "fen", "a", "{far}:", "--as", "{steam}"), 2, "no field {steam}"),
        (("stage", "fen", "a", "{far}:", "--as", "{name"), 2, "--as cannot be read"),
        (("stage", "fen", "a", "{far}:", "--as", "new{suffix}", "--max-rate", "5"), 2, "no rate"),
        (("stage", "fen", "a", "{far}:", "--as", "new{suffix}"), 2, "would arrive under the same name, new"),
        (("stage", "fen", "{far}:", "--prove", "sometimes"), 2, "sometimes"),
        (("stage", "", "{far}:"), 2, "no place"),
        (("list", "{far}:no/such"), 2, "no such file"),
        (("batch", "show", "zzzz"), 2, "no batch is called"),
        (("verify", "{far}:"), 2, "no checksum list"),
        (("node", "show", "stork"), 2, "no node is called"),
        (("node", "add", "a.b", "x"), 2, "cannot be a node's name"),
    ],
)
def test_wrong_words(program: Program, practice: object, words: tuple[str, ...], status: int, says: str) -> None:
    far = practice.far()  # type: ignore[attr-defined]
    program.know(far)
    (program.directory / "fen").mkdir()
    (program.directory / "a").write_text("a")
    (far.root / "fen-file").write_text("x")
    done = program(*[word.replace("{far}", far.name) for word in words], expect=status)
    assert says in done.stderr and len(done.stderr.strip().splitlines()) <= 5


@pytest.mark.server
def test_a_server_that_offers_little(program: Program, openssh: OpenSsh, tmp_path: Path) -> None:
    """Neither sync nor links nor renaming over a name: what is replaced is kept all the same, and the plan says so."""
    (tmp_path / "far").mkdir()
    denied = "posix-rename,hardlink,fsync,statvfs,copy-data,limits"
    child, port = start_sshd(openssh.base, sftp=f"/usr/lib/openssh/sftp-server -P {denied}")
    far = OpenSsh(openssh.base, port, openssh.user).far(tmp_path / "far")
    try:
        program.know(far)
        (far.root / "notes.txt").write_text("theirs, and longer")
        (program.directory / "notes.txt").write_text("ours")
        done = " ".join(program("stage", "notes.txt", "oak:", "--prove", "none").stdout.split())
        assert "oak does not offer it" in done and "power failure" in done and "oak does not tell" in done
    finally:
        child.send_signal(signal.SIGTERM)
        child.wait(10)
    assert (far.root / "notes.txt").read_text() == "ours"
    assert [kept.read_text() for kept in far.root.glob(".yatagan-kept/*/notes.txt")] == ["theirs, and longer"]
    assert len(os.listdir(far.root)) == 2


def test_a_group_that_is_handed_down_stays_so(program: Program, far: Far) -> None:
    make_tree(program.directory / "fen")
    far.root.chmod(0o2775)
    try:
        program("stage", "fen", f"{far.name}:data")
        modes = {path: stat.S_IMODE((far.root / path).stat().st_mode) for path in ("data", "data/fen/a/b")}
    finally:
        far.root.chmod(0o755)
    assert modes == {"data": 0o2755, "data/fen/a/b": 0o2750}


def test_where_a_login_starts_by_itself(program: Program, practice: Practice) -> None:
    far = practice.far()
    program(*far.add, "--start", "scratch")
    (program.directory / "a").write_text("a")
    program("stage", "a", "heron:in-scratch")
    program("stage", "a", "heron:~/at-home")
    program("stage", "a", "heron:./~")
    assert (far.root / "scratch/in-scratch/a").exists() and (far.root / "at-home/a").exists()
    assert (far.root / "scratch/~/a").exists()
    assert "no name of its own" in program("stage", "heron:~", "back", expect=2).stderr


def test_here_to_here(program: Program) -> None:
    make_tree(program.directory / "fen")
    done = program.json("stage", "fen", "copy")
    assert done["batch"]["evidence"] == {"read-back": 3}
    assert snapshot(program.directory / "copy/fen") == snapshot(program.directory / "fen")


def test_proofs(program: Program, far: Far) -> None:
    (program.directory / "f").write_text("x" * 1000)
    for prove, evidence in (("read-back", "read-back"), ("none", "sent"), ("on-node", "on-node")):
        done = program.json("stage", "f", f"{far.name}:{prove}", "--prove", prove)
        assert done["batch"]["evidence"] == {evidence: 1}
    assert "contents not looked at" in program("stage", "f", f"{far.name}:again", "--prove", "none").stdout
    done = program.json("stage", f"{far.name}:none/f", "down", "--prove", "on-node")
    assert done["batch"]["evidence"] == {"on-node": 1}
