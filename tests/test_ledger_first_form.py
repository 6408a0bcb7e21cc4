"""Records of the first form: read, checked, and held by the records that follow them."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from ledgers import World, statement, write_first_form
from yatagan.ledger.findings import Checked, Problem
from yatagan.ledger.ledger import Ledger


@pytest.fixture
def world(tmp_path: Path) -> World:
    """Two files: a0, b1, a2, b3, a4 in this order. Nobody has seen a4 yet, the newest of all."""
    write_first_form(tmp_path / "ledger", "ababa")
    world = World(tmp_path)
    assert world.check().good and world.check().old_records == 5
    return world


def named(checked: Checked) -> set[tuple[str, int]]:
    return {(finding.file[0], finding.first) for finding in checked.findings}


def change(world: World, name: str, at: int) -> None:
    file = world.directory.path / f"{name}.jsonl"
    lines = file.read_bytes().splitlines(keepends=True)
    lines[at - 1] = lines[at - 1].replace(b'"files":1', b'"files":7')
    file.write_bytes(b"".join(lines))


@pytest.mark.parametrize(("name", "at"), [("a", 1), ("a", 2), ("b", 1), ("b", 2)])
def test_the_record_that_was_changed_is_named_and_no_other(world: World, name: str, at: int) -> None:
    change(world, name, at)
    assert named(world.check()) == {(name, at)}


def test_what_is_gone_is_missed(world: World) -> None:
    file = world.directory.path / "b.jsonl"
    data = file.read_bytes()
    file.write_bytes(data.splitlines(keepends=True)[0])
    assert [each.problem for each in world.check().findings] == [Problem.CUT_OFF]
    file.unlink()
    assert [each.problem for each in world.check().findings] == [Problem.FILE_MISSING]


def test_the_newest_of_them_is_held_by_the_first_record_of_a_new_writer(world: World) -> None:
    change(world, "a", 3)
    assert world.check().good, "nobody has seen it yet"
    change_back = world.directory.path / "a.jsonl"
    change_back.write_bytes(change_back.read_bytes().replace(b'"files":7', b'"files":1'))
    world.append(0)
    assert world.check().good
    change(world, "a", 3)
    assert named(world.check()) == {("a", 0)}
    (world.directory.path / "a.jsonl").unlink()
    assert [each.problem for each in world.check().findings] == [Problem.FILE_MISSING] * 1


def test_they_are_shown_with_the_others(world: World, tmp_path: Path) -> None:
    ledger = Ledger(tmp_path / "ledger", tmp_path / "machine-0")
    ledger.append(statement("new"))
    records = list(ledger.records())
    assert [record.id for record in records] == ["new", "a4", "b3", "a2", "b1", "a0"]
    old = records[-1]
    assert (old.kind, old.outcome, old.count("files"), old.size) == ("staged", "good", 1, 9)
    assert old.target is not None and (old.target.node, old.target.path) == ("heron", b"/scratch")
    assert ledger.find("b3") is not None
    lists = {record.id: tmp_path / "ledger" / "lists" / record.list_digest for record in records}
    lists["a0"].write_text("other\n")
    lists["b1"].unlink()
    os.mkfifo(tmp_path / "ledger" / "pipe.jsonl")
    checked = world.check()
    assert named(checked) == {("a", 1), ("b", 1), ("p", 0)} and not checked.strange
