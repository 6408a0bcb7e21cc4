"""The ledger: nobody rewrites it unseen."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from yatagan.ledger.records import Ledger, RecordKind

DIGEST = "0123456789abcdef" * 4


def test_a_process_may_keep_several_ledgers_in_one_second(tmp_path: Path) -> None:
    """As a keeper does whose batches end at the same time."""
    several = [Ledger(tmp_path) for _ in range(3)]
    for turn in range(6):
        several[turn % 3].append(f"batch-{turn}", RecordKind.STAGED, {"turn": turn}, [(b"fen/a", "00" * 32)])
    records = list(Ledger(tmp_path).records())
    assert len(records) == 6 and all(record.fits for record in records)
    assert len({record.file for record in records}) == 3
    assert [path.name for path in (tmp_path / "lists").iterdir() if path.name.startswith(".")] == []


def test_nobody_quietly_rewrites_the_ledger(tmp_path: Path) -> None:
    first, second = Ledger(tmp_path), Ledger(tmp_path)
    first.append("a", RecordKind.STAGED, {"files": 1}, [(b"x", DIGEST)])
    second._file = tmp_path / "other-process.jsonl"
    second.append("b", RecordKind.VERIFIED, {"files": 2})
    first.append("c", RecordKind.LISTED, {"files": 3})
    records = list(Ledger(tmp_path).records())
    assert {record.id for record in records} == {"a", "b", "c"} and all(record.fits for record in records)
    (listed,) = [record.body["list"] for record in records if record.id == "a"]
    assert (tmp_path / "lists" / listed).read_text() == f"{DIGEST}  x\n"
    for file in tmp_path.glob("*.jsonl"):
        original = file.read_bytes()
        file.write_bytes(original.replace(b'"files":', b'"files":9', 1))
        if original.count(b"\n") > 1 or file.name.startswith("other"):
            assert not all(record.fits for record in Ledger(tmp_path).records())
        file.write_bytes(original + b'{"half a li')
        assert all(record.fits for record in Ledger(tmp_path).records()), "a torn last line was never a record"
        file.write_bytes(original)
    (tmp_path / "other-process.jsonl").unlink()
    assert Ledger(tmp_path).missing() == ["other-process.jsonl"], "a file that is gone is missed"


@pytest.fixture
def ledger(tmp_path: Path) -> Path:
    """Two writers: a1, b1, a2, b2, a3 in this order. a3 is the newest of all, which nothing vouches for yet."""
    first, second = Ledger(tmp_path), Ledger(tmp_path)
    first._file, second._file = tmp_path / "a.jsonl", tmp_path / "b.jsonl"
    for writer, name in ((first, "a1"), (second, "b1"), (first, "a2"), (second, "b2"), (first, "a3")):
        writer.append(name, RecordKind.STAGED, {"files": 1}, [(name.encode(), DIGEST)])
    assert problems(tmp_path) == {}
    return tmp_path


def problems(directory: Path) -> dict[str, str]:
    return {record.id: record.problem for record in Ledger(directory).records() if record.problem}


@pytest.mark.parametrize(("name", "seen"), [("a1", True), ("a2", True), ("a3", False), ("b1", True), ("b2", True)])
def test_the_record_that_was_changed_is_named_and_no_other(ledger: Path, name: str, seen: bool) -> None:
    file = ledger / f"{name[0]}.jsonl"
    lines = file.read_bytes().split(b"\n")
    at = int(name[1]) - 1
    lines[at] = lines[at].replace(b'"files":1', b'"files":7')
    file.write_bytes(b"\n".join(lines))
    found = problems(ledger)
    assert set(found) == ({name} if seen else set()) and all("changed" in problem for problem in found.values())


def test_the_newest_record_of_a_file_that_is_gone_is_missed(ledger: Path) -> None:
    file = ledger / "b.jsonl"
    file.write_bytes(file.read_bytes().split(b"\n")[0] + b"\n")
    found = problems(ledger)
    assert set(found) <= {"b1"} and "removed" in found["b1"]


def test_lists_are_checked_and_a_fifo_does_not_hang(ledger: Path) -> None:
    lists = {record.id: ledger / "lists" / record.body["list"] for record in Ledger(ledger).records()}
    lists["a1"].write_text("other\n")
    lists["b1"].unlink()
    os.mkfifo(ledger / "pipe.jsonl")
    assert problems(ledger) == {"a1": "its checksum list was changed", "b1": "its checksum list is missing"}


def test_heads_of_other_files_are_named_when_they_have_moved(tmp_path: Path) -> None:
    """A record does not grow with the number of files."""
    for number in range(40):
        Ledger(tmp_path).append(f"{number}", RecordKind.STAGED, {})
    last = Ledger(tmp_path)
    last.append("x", RecordKind.STAGED, {})
    last.append("y", RecordKind.STAGED, {})
    sizes = [len(line) for file in tmp_path.glob("*.jsonl") for line in file.read_bytes().splitlines()]
    assert max(sizes) < 600 and problems(tmp_path) == {}
