"""Checksum lists of any open form: read as they are meant, and refused where that cannot be known."""

from __future__ import annotations

import hashlib
import os
import subprocess
from pathlib import Path

import pytest

from conftest import Far, Program
from yatagan.digests.algorithms import hasher


@pytest.mark.kept("openssh")
def test_a_published_list(program: Program, far: Far) -> None:
    """BLAKE3, SHA-512 and MD5 in one list, of other paths, made on Windows; each line counts."""
    fen = far.root / "fen"
    fen.mkdir()
    contents = {"a.csv": b"1\n", "b.csv": b"22\n"}
    lines = []
    for name, data in contents.items():
        (fen / name).write_bytes(data)
        made = hasher("blake3")
        made.update(data)
        lines += [
            f"BLAKE3 (published/v2/{name}) = {made.hexdigest()}",
            f"{hashlib.md5(data).hexdigest()} *published/v2/{name}",
        ]
        lines += [f"{hashlib.sha512(data).hexdigest().upper()}  published/v2/{name}"]
    given = program.directory / "published.sha512.txt"
    given.write_text("\r\n".join(lines) + "\r\n")
    verify = ("verify", f"{far.name}:fen", "--against", "published.sha512.txt")
    said = program(*verify, "--drop-leading", "2").stdout
    assert "good" in said and "2 files" in said and "CRLF" in said and "a bare list" in said
    assert program.json(*verify, "--below", "published/v2")["good"]
    given.write_text(given.read_text().replace(hashlib.md5(b"22\n").hexdigest(), "0" * 32))
    answer = program.json(*verify, "--drop-leading", "2", expect=1)
    assert [(entry["path"], entry["verdict"]) for entry in answer["entries"]] == [("b.csv", "different")]
    assert "--by" in program(*verify, "--drop-leading", "2", "--by", "size-and-time", expect=2).stderr
    unsaid = program.directory / "list.txt"
    unsaid.write_text(f"{hashlib.sha256(b'1' + bytes([10])).hexdigest()}  a.csv\n")
    assert program.json("verify", f"{far.name}:fen", "--against", "list.txt")["good"], "64 digits are SHA-256"
    made = hasher("blake3")
    made.update(b"1\n")
    unsaid.write_text(f"{made.hexdigest()}  a.csv\n")
    refused = program("verify", f"{far.name}:fen", "--against", "list.txt", expect=2).stderr
    assert "its digests are blake3, not sha256" in refused and "--digest blake3" in refused
    assert program.json("verify", f"{far.name}:fen", "--against", "list.txt", "--digest", "blake3")["good"]
    unsaid.write_text(f"{'0' * 64}  a.csv\n")
    assert not program.json("verify", f"{far.name}:fen", "--against", "list.txt", expect=1)["good"]


@pytest.mark.parametrize("command", ["md5sum", "sha1sum", "sha224sum", "sha384sum", "sha512sum", "b2sum"])
@pytest.mark.parametrize("tagged", [False, True])
def test_lists_of_this_machines_commands(program: Program, command: str, tagged: bool) -> None:
    fen = program.directory / "fen"
    fen.mkdir()
    for name in ("a.csv", "b (1) = x.csv", "with\nnewline"):
        (fen / name).write_text(name)
    words = [command, *(["--tag"] if tagged else []), *sorted(os.listdir(fen))]
    made = subprocess.run(words, cwd=fen, check=True, capture_output=True).stdout
    name = "list" if tagged else {"b2sum": "B2SUMS"}.get(command, command.upper() + "S")
    Path(program.directory, name).write_bytes(made)
    answer = program.json("verify", "fen", "--against", name)
    assert answer["good"] and answer["counts"]["same"] == 3


def test_a_batch_is_still_as_it_was_put(program: Program, oak: Far) -> None:
    fen = program.directory / "fen"
    (fen / "notes").mkdir(parents=True)
    for number in range(6):
        (fen / "notes" / f"{number}.csv").write_text(f"{number}\n" * 100)
        os.utime(fen / "notes" / f"{number}.csv", (1_600_000_000, 1_600_000_000))
    (fen / "latest").symlink_to("notes/1.csv")
    (oak.root / "campaign").mkdir()
    (oak.root / "campaign" / "others.txt").write_text("of a colleague")
    batch = program.json("stage", "fen", "oak:campaign")["batch"]["batch"]
    answer = program.json("verify", "--batch", batch)
    assert answer["good"] and answer["files"] == 6 and answer["against_batch"] == batch and answer["entries"] == []
    assert program.json("verify", "--batch", batch, "--by", "size-and-time")["good"]
    there = oak.root / "campaign" / "fen" / "notes"
    (there / "1.csv").write_text("other\n")
    (there / "2.csv").unlink()
    (there / "3.csv").chmod(0o600)
    (there / "new.csv").write_text("new")
    flipped = (there / "4.csv").read_bytes().replace(b"4", b"5", 1)
    (there / "4.csv").write_bytes(flipped)
    os.utime(there / "4.csv", (1_600_000_000, 1_600_000_000))
    answer = program.json("verify", "--batch", batch, expect=1)
    assert {(entry["path"], entry["verdict"]) for entry in answer["entries"]} == {
        ("fen/notes/1.csv", "different"),
        ("fen/notes/2.csv", "missing"),
        ("fen/notes/3.csv", "facts differ"),
        ("fen/notes/4.csv", "different"),
    }
    quick = program.json("verify", "--batch", batch, "--by", "size-and-time", expect=1)
    assert {entry["path"] for entry in quick["entries"]} == {f"fen/notes/{number}.csv" for number in (1, 2, 3)}
    assert not quick["contents_checked"] and quick["evidence"] == {}
    said = program("verify", "--batch", batch, expect=1).stdout
    assert f"against batch {batch}" in said and "what the batch set" in said
    assert "name a PLACE, or --batch" in program("verify", expect=2).stderr
    record = program.json("ledger", "show")["records"][0]
    assert record["batch"] == batch and record["outcome"] == "not good"


def test_a_quick_look_says_what_it_does_not_see(program: Program) -> None:
    fen = program.directory / "fen"
    fen.mkdir()
    (fen / "a.csv").write_text("1\n")
    os.utime(fen / "a.csv", (1_600_000_000, 1_600_000_000))
    program("checksums", "fen")
    said = program("verify", "fen", "--by", "size-and-time").stdout
    assert "a change that keeps both is not seen" in said and "good" in said
    (fen / "a.csv").write_text("2\n")
    assert not program.json("verify", "fen", "--by", "size-and-time", expect=1)["contents_good"]
    os.utime(fen / "a.csv", (1_600_000_000, 1_600_000_000))
    assert program.json("verify", "fen", "--by", "size-and-time")["good"]
    assert not program.json("verify", "fen", expect=1)["good"]
