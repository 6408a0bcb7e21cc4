"""Nobody rewrites a ledger unseen, but for the limits that are documented; and no honest record is blamed."""

from __future__ import annotations

import os
import random
import tempfile
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from ledgers import World, heads, judge, random_world, rechained, tamper
from yatagan.ledger.checking import Check
from yatagan.ledger.directory import LedgerDirectory
from yatagan.ledger.findings import Checked, Problem
from yatagan.ledger.handles import LedgerHandles


def tamper_and_check(seed: int) -> None:
    """By a colleague who knows nothing of it, as far as another record has seen it; by who remembers it, always."""
    chance = random.Random(seed)
    with tempfile.TemporaryDirectory() as place:
        world = random_world(Path(place), chance)
        assert world.check().good and all(world.check(machine).good for machine in range(world.machines))
        remembered = heads(world)
        done = tamper(world, chance)
        judge(world.check(), done, seen=bool(done.shows))
        judge(Check(world.directory, remembered, set(remembered)).run(), done, seen=bool(done.records))


@given(st.integers(0, 1 << 32))
@settings(max_examples=50)
def test_whatever_is_done_to_a_ledger_is_found_and_named(seed: int) -> None:
    tamper_and_check(seed)


@pytest.mark.soak
@given(st.integers(0, 1 << 32))
@settings(max_examples=20_000)
def test_whatever_is_done_is_found_for_long(seed: int) -> None:
    tamper_and_check(seed)


@pytest.fixture
def world(tmp_path: Path) -> World:
    """Two machines: a1, b1, a2, b2, a3 in this order. Nobody has seen a3 yet, the newest of all."""
    world = World(tmp_path, 2)
    for machine in (0, 1, 0, 1, 0):
        world.append(machine, listed=True)
    return world


def problems(checked: Checked) -> list[tuple[Problem, int, int]]:
    return [(finding.problem, finding.first, finding.last) for finding in checked.findings]


class TestLimits:
    """What no check can find without somebody who has seen it; and who then finds it."""

    def test_a_change_to_the_newest_record(self, world: World) -> None:
        name = world.file(0)
        *before, last = world.lines(name)
        world.write(name, [*before, last.replace(b'"files":1', b'"files":7')])
        assert world.check().good
        assert world.check().ends[[end.file for end in world.check().ends].index(name)].seen < 3, "it says so"
        assert problems(world.check(0)) == [(Problem.REWRITTEN, 3, 3)], "this machine remembers its own"

    def test_an_end_that_was_cut_off(self, world: World) -> None:
        name = world.file(0)
        world.write(name, world.lines(name)[:2])
        assert world.check().good
        assert problems(world.check(0)) == [(Problem.CUT_OFF, 3, 3)]

    def test_a_file_that_was_rewritten_before_anybody_named_it(self, tmp_path: Path) -> None:
        world = World(tmp_path, 1)
        for _ in range(4):
            world.append(0)
        name = world.file(0)
        world.write(name, rechained(world.lines(name), 1, lambda record: record.update(outcome="good for ever")))
        assert world.check().good
        assert problems(world.check(0)) == [(Problem.REWRITTEN, 1, 4)]

    def test_a_writer_whom_nobody_names(self, world: World, tmp_path: Path) -> None:
        other = World(tmp_path / "elsewhere", 1)
        other.append(0)
        world.write(other.file(0), other.lines(other.file(0)))
        assert world.check().good, "a colleague who has begun to write looks just like that"

    def test_a_file_that_was_removed_before_anybody_named_it(self, tmp_path: Path) -> None:
        world = World(tmp_path, 2)
        world.append(0)
        world.append(1)
        (world.directory.writers / world.file(1)).unlink()
        assert world.check().good and world.check(0).good
        assert problems(world.check(1)) == [(Problem.FILE_MISSING, 1, 1)]


def test_a_digest_on_paper_finds_what_was_cut_off_behind_it(world: World) -> None:
    name = world.file(0)
    noted = heads(world)[name.removesuffix(".jsonl")].digest
    assert world.check(last=noted).good and world.check(last=noted[:16]).good
    world.write(name, world.lines(name)[:2])
    assert problems(world.check(last=noted[:16])) == [(Problem.NOT_FOUND, 0, 0)]


@pytest.mark.parametrize("record", ["a1", "a2", "a3", "b1", "b2"])
def test_the_record_that_was_changed_is_named_and_no_other(world: World, record: str) -> None:
    name, at = world.file("ab".index(record[0])), int(record[1]) - 1
    lines = world.lines(name)
    lines[at] = lines[at].replace(b'"files":1', b'"files":7')
    world.write(name, lines)
    found = world.check(0).findings
    assert [(finding.file, finding.first) for finding in found] == [(name, at + 1)]


def test_a_rewritten_file_is_told_by_what_another_record_has_seen(world: World) -> None:
    name = world.file(0)
    world.write(name, rechained(world.lines(name), 0, lambda record: record.update(outcome="other")))
    (found,) = world.check().findings
    assert found.problem is Problem.REWRITTEN and found.first == 1 and found.witness is not None
    assert found.witness.file == world.file(1)


def test_what_belongs_to_no_ledger_is_named_and_skipped(world: World, tmp_path: Path) -> None:
    writers = world.directory.writers
    os.mkfifo(writers / "mara-0123456789abcdef.jsonl")
    (writers / "jo-0123456789abcdef.jsonl").symlink_to(writers / world.file(0))
    (writers / "notes.txt").write_text("mine\n")
    (world.directory.lists / ("f" * 64)).mkdir()
    (world.directory.path / "lists.jsonl").symlink_to("/dev/zero")
    (world.directory.path / "revoked_keys").symlink_to("/dev/zero")
    if os.geteuid() == 0:
        os.chown(writers / world.file(1), 12345, 12345)
    checked = world.check()
    strange = [("lists.jsonl", "a link"), ("writers/notes.txt", "not a ledger's")]
    assert [(each.name, each.what) for each in checked.strange] == strange
    found = {each.file: each.detail for each in checked.findings if each.problem is Problem.NOT_PLAIN}
    assert sorted(found.values())[:4] == ["a FIFO", "a directory", "a link", "a link"], "where records and lists belong"
    rest = [each for each in checked.findings if each.problem is not Problem.NOT_PLAIN]
    if os.geteuid() == 0:
        assert found[f"writers/{world.file(1)}"] == "another account's"
        assert [each.problem for each in rest] == [Problem.FILE_MISSING], "as if it were not there"
    else:
        assert not rest


def test_a_record_that_is_written_while_a_check_reads(world: World, monkeypatch: pytest.MonkeyPatch) -> None:
    """What it names was not there yet when the check began."""
    really, name = LedgerDirectory.lines, world.file(1)

    def append_first(directory: LedgerDirectory, each: str, size: int | None = None) -> Iterator[bytes]:
        if each == name:
            world.append(0)
            world.append(1)
        return really(directory, each, size)

    monkeypatch.setattr(LedgerDirectory, "lines", append_first)
    assert world.check().good and world.check(0).good


def test_a_file_that_cannot_be_read_is_named(world: World, monkeypatch: pytest.MonkeyPatch) -> None:
    really, name = LedgerHandles.open_file, world.file(1)

    def refuse(handles: LedgerHandles, part: str, each: str, *more: int) -> int:
        if each == name:
            raise PermissionError(13, "Permission denied", name)
        return really(handles, part, each, *more)

    monkeypatch.setattr(LedgerHandles, "open_file", refuse)
    assert problems(world.check()) == [(Problem.FILE_UNREADABLE, 0, 0)]


def test_lines_of_no_sense_are_named(world: World) -> None:
    name = world.file(1)
    first, second = world.lines(name)
    for nonsense in (
        b"",
        b"{}",
        b"[" * 100_000,
        b"\xff\x00",
        b'{"x":"\\ud800"}',
        first.replace(b"{", b"{ ", 1),
        b"9" * (3 << 20),
    ):
        world.write(name, [first, nonsense, second])
        assert problems(world.check()) == [(Problem.ADDED, 0, 0)]
    with (world.directory.writers / name).open("ab") as stream:
        stream.write(b'{"half a li')
    world.write(name, [first, second])
    assert world.check().good, "a line that a crash cut short was never a record"


def test_records_of_later_versions_are_checked_and_kept(world: World) -> None:
    """A kind, a form and fields that this version does not know."""
    name = world.file(0)
    later = rechained(
        world.lines(name), 2, lambda record: record.update(kind="compared", format=3, weather={"wind": "north"})
    )
    world.write(name, later)
    assert world.check().good and world.check().records == 5
