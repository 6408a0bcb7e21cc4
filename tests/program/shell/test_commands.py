"""Looking, listing, verifying and the record; and what every command must have."""

from __future__ import annotations

import hashlib
import json
import os
import sqlite3
import subprocess
from pathlib import Path

import pytest

from conftest import NO_RIGHTS, Far, Program

pytestmark = pytest.mark.kept("practice", "openssh")


def test_listing(program: Program, far: Far) -> None:
    (far.root / "fen" / "deep").mkdir(parents=True)
    (far.root / "fen" / "deep" / "a.csv").write_bytes(b"x" * 1500)
    (far.root / "fen" / "link").symlink_to("deep")
    shown = program("list", f"{far.name}:fen").stdout
    assert "deep/" in shown and "link -> deep" in shown and "1 directory, 1 link" in shown
    below = program("list", f"{far.name}:fen", "--recursive").stdout
    assert "deep/a.csv" in below and "1.50 kB" in below
    found = program.json("list", f"{far.name}:fen", "--recursive")
    assert [entry["path"] for entry in found["entries"]] == ["deep", "deep/a.csv", "link"]
    assert "1 file" in program("list", f"{far.name}:fen/deep/a.csv").stdout
    (program.directory / "new").mkdir()
    assert program("list", "new").stdout.strip() == "empty"


def test_nodes(program: Program) -> None:
    assert "No node is saved" in program("node", "list").stdout
    program("node", "add", "dunlin", "login.fen.example", "--role", "login", "--user", "mara", "--port", "2200")
    assert "mara@login.fen.example:2200" in program("node", "list").stdout
    assert program.json("node", "show", "dunlin")["role"] == "login"
    program("node", "remove", "dunlin")
    assert program.json("node", "list")["nodes"] == []
    (program.home / "nodes.toml").write_text("[node.x")
    assert "nodes.toml" in program("node", "list", expect=2).stderr


def test_a_damaged_journal_hides_no_other_batch(program: Program) -> None:
    (program.directory / "a").write_text("a")
    names = [program.json("stage", "a", to)["batch"]["batch"] for to in ("one", "two")]
    (program.home / "batches" / names[0] / "journal.db").write_bytes(b"rubbish " * 100)
    listed = program("batch", "list", expect=1)
    assert names[1] in listed.stdout and names[0] in listed.stderr and "is damaged" in listed.stderr
    states = {batch["batch"]: batch["state"] for batch in program.json("batch", "list", expect=1)["batches"]}
    assert states == {names[0]: "damaged", names[1]: "finished"}
    assert "stage again" in program("batch", "show", names[0], expect=1).stderr
    program("batch", "show", names[1])


@pytest.mark.parametrize("how", ["damaged", "of another version", "out of reach"])
def test_of_what_cannot_be_read_only_the_damaged_can_be_forgotten(program: Program, how: str) -> None:
    """A batch that another version or a mended disk could still read is not lost by a word."""
    (program.directory / "a").write_text("a")
    batch = program.json("stage", "a", "one")["batch"]["batch"]
    journal = program.home / "batches" / batch / "journal.db"
    if how == "damaged":
        journal.write_bytes(b"rubbish " * 100)
        assert program.json("batch", "remove", batch)["removed"] == [batch]
        assert program.json("batch", "list")["batches"] == []
        return
    if how == "of another version":
        with sqlite3.connect(journal) as newer:
            newer.execute("PRAGMA user_version = 999")
        said, status, state = "written by another version", 1, "unreadable"
    else:
        journal.unlink()
        journal.mkdir()
        said, status, state = "cannot be written or read", 4, "unreadable"
    assert said in program("batch", "remove", batch, expect=status).stderr
    assert journal.exists()
    assert program.json("batch", "list", expect=1)["batches"][0]["state"] == state


def test_a_damaged_journal_keeps_no_other_batch_from_going_on(program: Program) -> None:
    for name in ("a", "b"):
        (program.directory / name).write_text(name)
    first = program.json("stage", "a", "one")["batch"]["batch"]
    second = program.json("stage", "b", "two")["batch"]["batch"]
    (program.home / "batches" / second / "journal.db").write_bytes(b"rubbish " * 100)
    assert f"Batch {first} is finished already" in program("batch", "resume").stdout
    assert first in program("batch", "show").stdout
    assert "is damaged" in program("batch", "resume", second, expect=1).stderr
    third = program.json("stage", "b", "three")["batch"]["batch"]
    assert third in program("batch", "show").stdout


def test_where_our_own_disk_is_full_nothing_is_said_of_a_batch_that_is_none(program: Program, tmp_path: Path) -> None:
    """A home that takes no more: in its place a file, so that no directory can be made in it."""
    (program.directory / "a").write_text("a")
    (program.home / "batches").write_text("in the way")
    said = program("stage", "a", "one", expect=4).stderr
    assert "cannot be written or read" in said and "batch resume" not in said
    assert not (program.directory / "one" / "a").exists()


def test_a_lock_of_another_machine_is_never_taken_over(program: Program) -> None:
    (program.directory / "a").write_text("a")
    name = program.json("stage", "a", "one")["batch"]["batch"]
    lock = program.home / "batches" / name / "lock"
    lock.write_text('{"host": "somewhere-else", "pid": 1}')
    refused = program("batch", "resume", expect=5).stderr
    assert "process 1 on somewhere-else" in refused and f"yatagan batch resume {name} --take-over" in refused
    assert "moving on somewhere-else" in program("batch", "show").stdout
    program("batch", "resume", "--take-over")
    program("batch", "resume")


def make_tree(root: Path) -> None:
    (root / "sub").mkdir(parents=True)
    for name in ("a", "b", "sub/c", "sub/d"):
        (root / name).write_text(f"contents of {name}\n")
        os.utime(root / name, (1_500_000_000, 1_500_000_000))
    (root / "link").symlink_to("a")


@pytest.mark.parametrize("where", ["here", "there"])
def test_a_list_for_everybody_and_every_verdict(program: Program, far: Far, where: str) -> None:
    root = program.directory / "fen" if where == "here" else far.root / "fen"
    place = "fen" if where == "here" else f"{far.name}:fen"
    make_tree(root)
    program("checksums", place)
    subprocess.run(["sha256sum", "--strict", "--quiet", "-c", "SHA256SUMS"], cwd=root, check=True)
    good = program.json("verify", place)
    assert (
        good["good"]
        and good["evidence"] == {"read-here" if where == "here" else "on-node": 4}
        and good["facts_checked"]
    )
    (root / "a").write_text("CONTENTS of a\n")
    (root / "b").unlink()
    (root / "new").write_text("new")
    (root / "sub" / "c").chmod(0o600)
    os.utime(root / "sub" / "d", (1_500_000_009, 1_500_000_009))
    (root / "link").unlink()
    (root / "link").symlink_to("b")
    bad = program.json("verify", place, expect=1)
    verdicts = {entry["path"]: entry["verdict"] for entry in bad["entries"]}
    assert verdicts == {
        "a": "different",
        "b": "missing",
        "new": "not listed",
        "sub/c": "facts differ",
        "sub/d": "facts differ",
        "link": "different",
    }
    shown = program("verify", place, expect=1).stdout
    assert "NOT GOOD" in shown and "new" in shown and "it points elsewhere" in shown
    assert "other contents of the same size" in shown and "different     1 file, 1 link" in shown
    for path in ("a", "link", "new"):
        (root / path).unlink()
    (root / "a").write_text("contents of a\n")
    os.utime(root / "a", (1_500_000_000, 1_500_000_000))
    (root / "b").write_text("contents of b\n")
    os.utime(root / "b", (1_500_000_000, 1_500_000_000))
    (root / "link").symlink_to("a")
    shown = program("verify", place, expect=1).stdout
    assert "contents good, facts differ" in shown and "mode 0600, not 0644" in shown
    (root / "a").write_text("longer than the contents of a\n")
    assert "30 bytes, not 14" in program("verify", place, expect=1).stdout
    kinds = [record["kind"] for record in program.json("ledger", "show")["records"]]
    assert kinds == [*["verified"] * 5, "listed"]


def test_a_bare_list_of_a_publisher(program: Program, far: Far) -> None:
    make_tree(far.root / "fen")
    for algorithm in ("md5", "sha1", "sha512"):
        digest = hashlib.new(algorithm, b"contents of a\n").hexdigest()
        (program.directory / f"list.{algorithm}").write_text(f"{digest}  a\n")
        found = program.json("verify", f"{far.name}:fen", "--against", f"list.{algorithm}")
        assert found["good"] and not found["facts_checked"] and found["counts"]["not_listed"] == 4
    assert "could not be checked" in program("verify", f"{far.name}:fen", "--against", "list.md5").stdout
    (program.directory / "list").write_text("rubbish\n")
    assert "line 1" in program("verify", f"{far.name}:fen", "--against", "list", expect=2).stderr


def test_lists_elsewhere_of_single_files_and_again(program: Program, far: Far) -> None:
    make_tree(far.root / "fen")
    program("checksums", f"{far.name}:fen", "--output", "fen.sums")
    assert program.json("verify", f"{far.name}:fen", "--against", "fen.sums")["good"]
    printed = program("checksums", f"{far.name}:fen", "--output", "-").stdout
    assert printed == (program.directory / "fen.sums").read_text()
    program("checksums", f"{far.name}:fen/a")
    subprocess.run(["sha256sum", "--quiet", "-c", "a.sha256"], cwd=far.root / "fen", check=True)
    assert program.json("verify", f"{far.name}:fen/a")["good"]
    program("checksums", f"{far.name}:fen/a")
    kept = list((far.root / "fen" / ".yatagan-kept").rglob("a.sha256"))
    assert len(kept) == 1, "the earlier list is kept"
    facts = (program.directory / "fen.sums.facts.jsonl").read_text().splitlines()
    assert json.loads(facts[0])["digest"] == hashlib.sha256((program.directory / "fen.sums").read_bytes()).hexdigest()
    (program.directory / "fen.sums").write_text(printed.replace("0", "1"))
    assert "another list" in program("verify", f"{far.name}:fen", "--against", "fen.sums", expect=2).stderr


@pytest.mark.parametrize("asked", ["fen", "fen --output list", "fen/a", "fen/a --output list", ". --skip list*"])
def test_how_a_list_is_checked_can_be_pasted(program: Program, asked: str) -> None:
    """Both commands: that of every machine, and ours."""
    make_tree(program.directory / "fen")
    file = program.directory / "fen" / "a"
    before, facts = file.read_bytes(), file.stat()

    words = " ".join(program("checksums", *asked.split()).stdout.split())
    for line in words.partition(" check ")[2].partition(" record ")[0].split(", or: "):
        assert program.shell(line, "sh").returncode == 0, line
        file.write_bytes(b"other")
        assert program.shell(line, "sh").returncode == 1, line
        file.write_bytes(before)
        os.utime(file, ns=(facts.st_atime_ns, facts.st_mtime_ns))


def test_what_cannot_be_read_is_told_and_the_rest_goes(program: Program) -> None:
    make_tree(program.directory / "fen")
    (program.directory / "fen" / "a").chmod(0)
    (program.directory / "fen" / "sub").chmod(0)

    listed = program("checksums", "fen", "--output", "fen.sums", expect=1, env=NO_RIGHTS)
    assert "a: permission denied" in listed.stderr and "sub: permission denied" in listed.stderr
    assert (program.directory / "fen.sums").read_text().split()[1:] == ["b"]
    staged = program("stage", "fen", "there", expect=1, env=NO_RIGHTS)
    assert "fen/a" in staged.stdout + staged.stderr and "fen/sub" in staged.stdout + staged.stderr
    assert sorted(entry.name for entry in (program.directory / "there" / "fen").iterdir()) == ["b", "link"]
    (program.directory / "fen" / "a").chmod(0o644)
    (program.directory / "fen" / "sub").chmod(0o755)
    program("stage", "fen", "there", env=NO_RIGHTS)
    assert (program.directory / "there" / "fen" / "sub" / "c").read_text() == "contents of sub/c\n"


def test_output_for_a_closed_pipe(program: Program) -> None:
    make_tree(program.directory / "fen")
    assert program.shell("yatagan list fen --recursive | head -1").stderr == ""
