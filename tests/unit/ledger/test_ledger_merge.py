"""Merging copies of a ledger: nothing here is changed, nothing is lost, and two continuations are found."""

from __future__ import annotations

import os
import random
import shutil
import tempfile
from pathlib import Path
from typing import Any, cast

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from ledgers import DIGEST, rechained, statement
from yatagan.ledger.checking import Check
from yatagan.ledger.directory import LedgerDirectory
from yatagan.ledger.findings import Checked, Problem
from yatagan.ledger.forks import find_fork, fork_fields
from yatagan.ledger.ledger import Ledger
from yatagan.ledger.records import RecordKind, digest_of


class Machine:
    """A machine with a copy of the ledger, which may be restored from a backup."""

    def __init__(self, place: Path) -> None:
        self.place = place
        self.ledger = Ledger(place / "state" / "ledger", place / "state" / "ledger-memory")
        self.backup = place / "backup"

    @property
    def directory(self) -> LedgerDirectory:
        return self.ledger.directory

    def append(self, id: str, **more: object) -> None:
        assert self.ledger.append(statement(id, **cast(Any, more)), lambda: [(id.encode(), DIGEST)]).digest

    def back_up(self) -> None:
        shutil.rmtree(self.backup, ignore_errors=True)
        if (self.place / "state").exists():
            shutil.copytree(self.place / "state", self.backup)

    def restore(self) -> None:
        if self.backup.exists():
            shutil.rmtree(self.place / "state", ignore_errors=True)
            shutil.copytree(self.backup, self.place / "state")

    def merge(self, other: Machine) -> None:
        own, before = self.ledger.memory.writer(), self.contents()
        merged = self.ledger.merge(other.directory)
        assert not merged.refused
        after = self.contents()
        assert all(after[name].startswith(data) for name, data in before.items()), "nothing that was here is changed"
        assert own is None or after.get(f"{own}.jsonl", b"") == before.get(f"{own}.jsonl", b"")

    def contents(self) -> dict[str, bytes]:
        return {name: (self.directory.writers / name).read_bytes() for name in self.directory.writer_files()}

    def digests(self) -> set[str]:
        names = self.directory.writer_files()
        return {digest_of(line) for name in names for line in self.directory.lines(name)}

    def check(self) -> Checked:
        return Check(self.directory, {}).run()


def forked(machines: list[Machine]) -> set[str]:
    """Writers of whom there are two histories of which neither is the beginning of the other."""
    histories: dict[str, set[bytes]] = {}
    for machine in machines:
        for name, data in machine.contents().items():
            histories.setdefault(name.partition(".")[0], set()).add(data)
    return {
        writer
        for writer, found in histories.items()
        if any(not one.startswith(other) and not other.startswith(one) for one in found for other in found)
    }


@given(st.integers(0, 1 << 32))
@settings(max_examples=12)
def test_merged_in_any_order_any_number_of_times_all_have_the_same_records(seed: int) -> None:
    chance = random.Random(seed)
    with tempfile.TemporaryDirectory() as place:
        machines = [Machine(Path(place, name)) for name in ("moor", "fen", "bog")]
        for machine in machines:
            machine.append(f"first of {machine.place.name}")
        for number in range(chance.randint(3, 20)):
            machine = chance.choice(machines)
            deed = chance.choice(["append", "append", "append", "merge", "back up", "restore"])
            if deed == "append":
                machine.append(f"{number}")
            elif deed == "merge":
                machine.merge(chance.choice([each for each in machines if each is not machine]))
            elif deed == "back up":
                machine.back_up()
            else:
                machine.restore()
        everything = set().union(*(machine.digests() for machine in machines))
        forks = forked(machines)
        for _ in range(2):
            pairs = [(one, other) for one in machines for other in machines if one is not other]
            chance.shuffle(pairs)
            for one, other in pairs:
                one.merge(other)
        for machine in machines:
            assert machine.digests() == everything
            checked = machine.check()
            assert {each.problem for each in checked.findings} <= {Problem.FORK}
            assert {each.file.partition(".")[0] for each in checked.findings} >= forks
            settled = machine.contents()
            for other in machines:
                if other is not machine:
                    machine.merge(other)
            assert machine.contents() == settled, "a further time changes nothing"


@pytest.fixture
def pair(tmp_path: Path) -> tuple[Machine, Machine]:
    """A laptop that was restored from a backup and went on, and a machine that had its records before."""
    laptop, desk = Machine(tmp_path / "laptop"), Machine(tmp_path / "desk")
    laptop.append("one")
    laptop.back_up()
    laptop.append("two")
    desk.append("desk one")
    desk.merge(laptop)
    laptop.restore()
    return laptop, desk


def test_both_continuations_are_kept_until_somebody_has_looked(pair: tuple[Machine, Machine]) -> None:
    laptop, desk = pair
    laptop.append("two again")
    desk.merge(laptop)
    (fork,) = (name for name in desk.directory.writer_files() if ".fork-" in name)
    (found,) = desk.check().findings
    assert found.problem is Problem.FORK and found.first == 2 and found.detail == fork
    looked = find_fork(desk.directory, fork)
    assert looked is not None
    assert [[record.id for record in records] for _, records in looked.continuations] == [["two"], ["two again"]]
    accepted = statement("accepted", RecordKind.FORK_ACCEPTED, details=fork_fields(looked.fork))
    assert desk.ledger.append(accepted).digest
    checked = desk.check()
    assert checked.good and list(checked.forks) == [looked.fork]
    laptop.merge(desk)
    assert laptop.check().good, "that somebody has looked is known to all, whatever the files are named there"


def test_a_restored_laptop_that_has_not_gone_on_begins_a_new_file(pair: tuple[Machine, Machine]) -> None:
    laptop, desk = pair
    laptop.merge(desk)
    assert [each.problem for each in laptop.check().findings] == [Problem.FORK]
    laptop.append("two again")
    desk.merge(laptop)
    assert not any(".fork-" in name for name in desk.directory.writer_files()), "no second continuation was made"
    assert desk.check().good


def test_what_is_not_what_was_written_is_not_brought(tmp_path: Path) -> None:
    one, other = Machine(tmp_path / "one"), Machine(tmp_path / "other")
    for number in range(3):
        other.append(f"{number}")
    (name,) = other.directory.writer_files()
    file = other.directory.writers / name
    lines = file.read_bytes().splitlines()
    for bad, at in (
        ([lines[0], lines[1].replace(b'"files":1', b'"files":2'), lines[2]], 3),
        ([lines[0], lines[2]], 2),
        ([lines[0], b"what"], 2),
        ([lines[1], lines[0]], 1),
    ):
        file.write_bytes(b"".join(line + b"\n" for line in bad))
        merged = one.ledger.merge(other.directory)
        assert merged.refused == [(name, at)] and not one.directory.writer_files()
    digest = other.directory.list_names()[0]
    (other.directory.lists / digest).write_text("changed\n")
    file.write_bytes(b"".join(line + b"\n" for line in lines))
    new = Machine(tmp_path / "new")
    merged = new.ledger.merge(other.directory)
    assert merged.records == 3 and merged.lists == 2
    assert [each.problem for each in new.check().findings] == [Problem.LIST_MISSING]


def test_what_is_tampered_with_and_fits_is_a_fork(pair: tuple[Machine, Machine], tmp_path: Path) -> None:
    laptop, desk = pair
    (name,) = laptop.directory.writer_files()
    file = desk.directory.writers / name
    changed = rechained(file.read_bytes().splitlines(), 0, lambda record: record.update(outcome="other"))
    (tmp_path / "copy").mkdir()
    shutil.copytree(desk.directory.path, tmp_path / "copy" / "ledger")
    (tmp_path / "copy" / "ledger" / "writers" / name).write_bytes(b"".join(line + b"\n" for line in changed))
    assert desk.ledger.merge(LedgerDirectory(tmp_path / "copy" / "ledger")).forks
    assert Problem.FORK in {each.problem for each in desk.check().findings}


def test_strange_files_are_not_brought(tmp_path: Path) -> None:
    one, other = Machine(tmp_path / "one"), Machine(tmp_path / "other")
    other.append("one")
    os.mkfifo(other.directory.writers / "mara-0123456789abcdef.jsonl")
    (other.directory.writers / "jo-0123456789abcdef.jsonl").symlink_to("/etc/passwd")
    (other.directory.path / "allowed_signers").write_text("jo ssh-ed25519 AAAA\n")
    assert one.ledger.merge(other.directory).records == 1
    assert not (one.directory.path / "allowed_signers").exists(), "nobody else says whom we trust"
