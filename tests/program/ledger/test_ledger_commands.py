"""The ledger's commands: what people and scripts see of it, and that nothing fails because of it."""

from __future__ import annotations

import csv
import io
import json
import shutil
import subprocess
from pathlib import Path

import pytest

from conftest import Far, Practice, Program
from ledgers import statement
from terminal import Terminal
from yatagan.ledger.ledger import Ledger
from yatagan.ledger.memory import LedgerMemory
from yatagan.ledger.records import RecordKind

KEY = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIHAFPTN8lTSUt8PQoSkRX9pyCV7HvRFCtSTjVgyJe/lI"


def make_fen(program: Program) -> None:
    (program.directory / "fen").mkdir()
    for number in range(3):
        (program.directory / "fen" / f"flux-{number}.csv").write_text(f"{number}\n")


@pytest.fixture
def recorded(program: Program) -> Program:
    """Six records: staged, listed, verified (good and not), renamed, removed."""
    make_fen(program)
    program("stage", "fen", "copy")
    program("checksums", "copy/fen")
    program("verify", "copy/fen")
    (program.directory / "copy" / "fen" / "flux-1.csv").write_text("other\n")
    program("verify", "copy/fen", expect=1)
    program("rename", "copy/fen", "bog")
    program("remove", "copy/bog/flux-2.csv", "--yes")
    return program


@pytest.fixture
def small(program: Program) -> Program:
    """Two records: renamed there and back."""
    make_fen(program)
    program("rename", "fen", "bog")
    program("rename", "bog", "fen")
    return program


def writer_file(program: Program) -> Path:
    (file,) = (program.home / "ledger" / "writers").iterdir()
    return file


def tampered(program: Program, at: int, old: bytes = b'"outcome":"good"', new: bytes = b'"outcome":"sure"') -> None:
    lines = writer_file(program).read_bytes().splitlines(keepends=True)
    assert old in lines[at - 1]
    lines[at - 1] = lines[at - 1].replace(old, new)
    writer_file(program).write_bytes(b"".join(lines))


def test_what_is_on_record(recorded: Program) -> None:
    head, names, *rows = recorded("ledger", "show").stdout.splitlines()
    assert head.startswith("6 records in ") and names.split()[:2] == ["time", "(UTC)"]
    assert [row.split()[2] for row in rows] == ["removed", "renamed", "verified", "verified", "listed", "staged"]
    assert "not good" in rows[2] and rows[1].endswith("copy/fen → bog")
    full = recorded("ledger", "show", "--full", "--command", "stage").stdout
    staged = recorded.json("ledger", "show", "--command", "stage")["records"][0]
    for words in ("staged, good, by ", "yatagan stage fen copy", str(recorded.directory / "fen"), "3 read-back"):
        assert words in full
    assert f"lists/{staged['list']}" in full and f"digest {staged['digest'][:32]}" in full
    assert staged["from"] == [{"node": "", "path": str(recorded.directory / "fen")}]
    assert staged["to"] == {"node": "", "path": str(recorded.directory / "copy")}
    listed = (recorded.home / "ledger" / "lists" / staged["list"]).read_text()
    assert (
        subprocess.run(["sha256sum", "-c", "--quiet"], input=listed, text=True, cwd=recorded.directory).returncode == 0
    )


SOME = [
    (["--command", "verify"], ["verified", "verified"]),
    (["--command", "checksums copy/fen"], ["listed"]),
    (["--command", "removed"], ["removed"]),
    (["--trouble"], ["verified"]),
    (["--node", "heron"], []),
    (["--person", "nobody"], []),
    (["--since", "1h"], ["removed", "renamed", "verified", "verified", "listed", "staged"]),
    (["--since", "2099-01-01"], []),
    (["--until", "2020-01-01"], []),
    (["--until", "2099-01-01T12:00", "--command", "staged"], ["staged"]),
    (["--file", "flux-1.csv"], ["verified", "verified", "listed", "staged"]),
    (["--file", "fen/flux-1.csv"], ["staged"]),
    (["--file", "ux-1.csv"], []),
    (["--file", "bog/flux-2.csv"], ["removed"]),
]


def test_some_of_the_records(recorded: Program) -> None:
    for options, kinds in SOME:
        found = [record["kind"] for record in recorded.json("ledger", "show", *options)["records"]]
        assert found == kinds, options
    assert "Nothing like that" in recorded("ledger", "show", "--node", "heron").stdout


def test_records_about_a_file_by_its_whole_path(recorded: Program) -> None:
    path = recorded.directory / "copy" / "fen" / "flux-0.csv"
    kinds = [record["kind"] for record in recorded.json("ledger", "show", "--file", str(path))["records"]]
    assert kinds == ["verified", "verified", "listed", "staged"]
    person = recorded.json("ledger", "show")["records"][0]["who"]
    assert len(recorded.json("ledger", "show", "--person", person.partition("@")[0])["records"]) == 6


def test_dates_that_are_none(program: Program) -> None:
    for given in ("yesterday", "2026-13-01", "9" * 15 + "d", ""):
        assert "is no date" in program("ledger", "show", "--since", given, expect=2).stderr or "before" in given
    assert "16" in program("ledger", "check", "--last", "abc", expect=2).stderr


def test_more_than_a_screen_goes_through_the_pager(recorded: Program, monkeypatch: pytest.MonkeyPatch) -> None:
    ledger = Ledger(recorded.home / "ledger", recorded.home / "ledger-memory")
    for number in range(40):
        ledger.append(statement(f"{number}", RecordKind.RENAMED))
    pager = recorded.directory / "pager"
    pager.write_text("#!/bin/sh\nsed s/^/paged:/\n")
    pager.chmod(0o755)
    monkeypatch.setenv("PAGER", str(pager))
    terminal = Terminal(recorded, "ledger", "show")
    assert terminal.end() == 0
    assert "paged:" in terminal.seen and terminal.seen.count("renamed") == 41
    few = Terminal(recorded, "ledger", "show", "--trouble")
    assert few.end() == 0 and "paged:" not in few.seen


def test_an_export_for_other_programs(recorded: Program) -> None:
    rows = list(csv.DictReader(io.StringIO(recorded("ledger", "export", "--csv").stdout)))
    whole = json.loads(recorded("ledger", "export", "--json").stdout)["records"]
    assert [row["digest"] for row in rows] == [record["digest"] for record in whole]
    assert rows[-1]["kind"] == "staged" and rows[-1]["files"] == "3" and rows[-1]["size_bytes"] == "6"
    assert rows[-1]["to_path"] == str(recorded.directory / "copy")
    some = csv.DictReader(io.StringIO(recorded("ledger", "export", "--csv", "--trouble").stdout))
    assert [row["outcome"] for row in some] == ["not good"]
    assert "--csv or --json" in recorded("ledger", "export", expect=2).stderr


def test_a_check_names_what_was_changed(recorded: Program) -> None:
    good = recorded("ledger", "check").stdout
    assert "all as it was written" in good and "6 in 1 file, 3 lists" in good
    assert "not tamper-proof" in good
    newest = recorded.json("ledger", "check")["newest_digest"]
    assert recorded.json("ledger", "check", "--last", newest[:32])["good"]
    tampered(recorded, 2)
    bad = recorded("ledger", "check", expect=1).stdout
    name = writer_file(recorded).name
    assert "NOT as it was written" in bad and f"{name}: record 2 (listed-" in bad and ") was changed" in bad
    assert "record 1 " not in bad and "record 3 " not in bad
    found = recorded.json("ledger", "check", expect=1)
    assert [(each["file"], each["problem"], each["first"]) for each in found["findings"]] == [(name, "changed", 2)]
    assert len(recorded.json("ledger", "show")["records"]) == 6, "show checks nothing"


def test_a_copy_is_checked_by_anybody(recorded: Program, tmp_path: Path) -> None:
    """With nothing set up, and from a directory that cannot be written."""
    recorded("stage", str(recorded.home / "ledger"), str(tmp_path / "copies"))
    stranger = Program(tmp_path / "stranger", tmp_path)
    stranger.home.mkdir()
    copy = tmp_path / "copies" / "ledger"
    said = stranger("ledger", "check", str(copy)).stdout
    assert "6 in 1 file" in said and "a cut there would go unnoticed" in said, "and what it cannot see"
    digest = recorded.json("ledger", "show")["records"][1]["digest"]
    assert stranger.json("ledger", "check", str(copy), "--last", digest)["good"]
    (file,) = (copy / "writers").iterdir()
    file.write_bytes(b"".join(file.read_bytes().splitlines(keepends=True)[:4]))
    said = stranger("ledger", "check", str(copy), expect=1).stdout
    assert "missing at the end: records 5 to 6, which this machine has seen otherwise" in said
    other = Program(tmp_path / "other", tmp_path)
    other.home.mkdir()
    assert other.json("ledger", "check", str(copy))["good"], "who has not seen it cannot know"
    assert not other.json("ledger", "check", str(copy), "--last", digest, expect=1)["good"]
    for nothing, words in ((tmp_path / "nowhere", "no such directory"), (tmp_path / "stranger", "no ledger")):
        assert words in other("ledger", "check", str(nothing), expect=2).stderr


def test_summaries_name_the_digest_of_their_record(recorded: Program, far: Far) -> None:
    """So that a notebook on paper can pin it."""
    for words in (
        ["stage", "fen", f"{far.name}:"],
        ["checksums", f"{far.name}:fen"],
        ["verify", f"{far.name}:fen"],
        ["bundle", "make", "fen", "--output", "fen.tar.gz"],
        ["bundle", "unpack", "fen.tar.gz", "--into", "out"],
    ):
        said = recorded(*words).stdout
        (digest,) = (line.split()[-1] for line in said.splitlines() if line.split()[:2] == ["record", "in"])
        newest = recorded.json("ledger", "show")["records"][0]
        assert newest["digest"].startswith(digest) and len(digest) == 32
        assert recorded.json("ledger", "check", "--last", digest)["good"]
    again = recorded.json("stage", "fen", f"{far.name}:again")["batch"]
    assert recorded.json("batch", "show")["ledger_digest"] == again["ledger_digest"]
    assert recorded.json("ledger", "show")["records"][0]["digest"] == again["ledger_digest"]


class TestUnwritable:
    """Exit statuses never change because of the ledger."""

    @pytest.fixture
    def without(self, small: Program) -> Program:
        """There is something else where the ledger should be."""
        small("config", "set", "ledger.directory", "group")
        (small.directory / "group").rmdir()
        (small.directory / "group").write_text("in the way\n")
        return small

    def test_records_wait_with_a_word(self, without: Program, far: Far) -> None:
        done = without("stage", "fen", f"{far.name}:")
        assert "waits" in done.stdout and "not in the ledger yet" in done.stderr
        batch = without.json("batch", "show")
        assert batch["good"] and batch["ledger_waits"] and batch["ledger_digest"] is None
        without("checksums", f"{far.name}:fen")
        assert without.json("verify", f"{far.name}:fen")["good"]
        (far.root / "fen" / "flux-1.csv").write_text("wrong\n")
        assert not without.json("verify", f"{far.name}:fen", expect=1)["good"]
        without("rename", f"{far.name}:fen", "bog")
        for words in (["show"], ["check"], ["export", "--csv"]):
            assert "cannot be read" in without("ledger", *words, expect=5).stderr
        (without.directory / "group").unlink()
        (without.directory / "group").mkdir()
        shown = without("ledger", "show")
        assert "5 records could not be written yet" in shown.stderr
        done = without("remove", f"{far.name}:bog", "--yes")
        assert not done.stderr
        kinds = [record["kind"] for record in without.json("ledger", "show")["records"]]
        assert kinds == ["removed", "renamed", "verified", "verified", "listed", "staged"]
        assert without.json("ledger", "check")["good"] and without.json("batch", "show")["ledger_digest"]

    @pytest.mark.kept("practice")
    def test_in_a_keeper_too(self, without: Program, far: Far) -> None:
        done = without("stage", "fen", f"{far.name}:")
        assert "not in the ledger yet" in done.stderr


class TestSigned:
    """Who has written what, by keys that the group trusts."""

    @pytest.fixture
    def key(self, small: Program) -> Path:
        key = small.directory / "mara"
        subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", key], check=True)
        small("config", "set", "ledger.sign-with", "mara")
        return key

    def test_signed_and_trusted(self, small: Program, key: Path) -> None:
        small("rename", "fen", "bog")
        assert "no key is trusted yet" in small("ledger", "check").stdout
        assert "mara is trusted" in small("ledger", "trust", "mara", "mara.pub").stdout
        said = small("ledger", "check").stdout
        assert "1 by mara; 2 not signed" in said
        assert "mara" in small("ledger", "signers").stdout
        small("ledger", "revoke", "mara.pub")
        said = small("ledger", "check", expect=1).stdout
        assert ": the signature does not hold: by a revoked key" in said
        assert "revoked" in small("ledger", "signers").stdout

    def test_trust_for_a_time(self, small: Program, key: Path) -> None:
        small("rename", "fen", "bog")
        small("ledger", "trust", "mara", "mara.pub", "--until", "2020-12-31")
        said = small("ledger", "check", expect=1).stdout
        assert "after the key was valid" in said
        trusted = small.home / "mine"
        trusted.write_text("mara " + (key.with_name("mara.pub")).read_text())
        assert "1 by mara" in small("ledger", "check", "--signers", str(trusted)).stdout

    def test_without_the_key_records_are_not_signed_and_say_so(self, small: Program, key: Path) -> None:
        key.unlink()
        done = small("rename", "fen", "bog")
        assert "not signed: the key is missing" in done.stderr
        assert "the key is missing" in small("ledger", "show", "--full").stdout
        done = small("stage", "bog", "again")
        assert "not signed" in done.stderr and small.json("batch", "show")["ledger_unsigned"] == "key missing"

    def test_keys_that_cannot_be(self, small: Program) -> None:
        for words, said in (
            (["config", "set", "ledger.sign-with", "nowhere"], "the key is missing"),
            (["config", "set", "ledger.sign-with", "fen"], "cannot be read"),
            (["config", "set", "ledger.directory", "fen/flux-0.csv"], "File exists"),
            (["config", "set", "ledger.directory", "nowhere/ledger"], "No such file"),
            (["ledger", "trust", "mara", "nowhere"], "No such file"),
            (["ledger", "trust", "mara", "fen/flux-0.csv"], "no public key"),
            (["ledger", "trust", "ma ra", KEY], "no name"),
            (["ledger", "revoke", "fen"], "Is a directory"),
            (["ledger", "accept", "nothing"], "no such fork"),
            (["ledger", "merge", "fen"], "no ledger"),
            (["ledger", "merge", str(small.home / "ledger")], "is this ledger"),
        ):
            done = small(*words, expect=2)
            assert said in done.stderr, (words, done.stderr)


def test_two_continuations_until_somebody_has_looked(small: Program) -> None:
    shutil.copytree(small.home / "ledger", small.directory / "laptop")
    small("rename", "fen", "bog")
    (file,) = (small.directory / "laptop" / "writers").iterdir()
    *lines, last = file.read_bytes().splitlines(keepends=True)
    file.write_bytes(b"".join([*lines, last.replace(b'"outcome":"good"', b'"outcome":"else"')]))
    done = small("ledger", "merge", "laptop")
    assert "Brought 2 records" in done.stdout and "two continuations" in done.stderr
    said = small("ledger", "check", expect=1).stdout
    assert "two continuations from record 2 on, also " in said
    fork = small.json("ledger", "check", expect=1)["findings"][0]["detail"]
    assert "no terminal" in small("ledger", "accept", fork, expect=5).stderr
    terminal = Terminal(small, "ledger", "accept", fork)
    terminal.expect("are two?")
    terminal.type("y")
    assert terminal.end() == 0 and "renamed, else" in terminal.seen
    good = small("ledger", "check").stdout
    assert "two continuations of" in good and "all as it was written" in good
    assert "Nothing new" in small("ledger", "merge", "laptop").stdout


def test_a_fork_of_a_second_host_is_a_writer_of_its_own(small: Program, monkeypatch: pytest.MonkeyPatch) -> None:
    """One home on the network, two hosts."""
    memory = LedgerMemory(small.home / "ledger-memory", small.home / "ledger")
    assert memory.writer() == writer_file(small).stem
    monkeypatch.setattr("platform.node", lambda: "bog")
    assert LedgerMemory(small.home / "ledger-memory", small.home / "ledger").writer() is None


def test_records_of_nodes(program: Program, practice: Practice) -> None:
    far = practice.far()
    program.know(far)
    (far.root / "in").mkdir()
    (far.root / "in" / "a").write_text("a\n")
    program("stage", "heron:in", "back")
    program("checksums", "heron:in")
    records = program.json("ledger", "show", "--node", "heron")["records"]
    assert [record["from"][0]["node"] for record in records] == ["heron", "heron"]
    assert records[1]["from"][0]["path"] == str(far.root / "in")
    assert "heron → " in program("ledger", "show", "--command", "stage").stdout
