"""Ledgers for tests: written by several writers, and tampered with."""

from __future__ import annotations

import hashlib
import json
import os
import random
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from yatagan.ledger.appending import Appender, Signer
from yatagan.ledger.checking import Check
from yatagan.ledger.directory import LedgerDirectory
from yatagan.ledger.findings import Checked, LedgerFinding
from yatagan.ledger.lists import write_list
from yatagan.ledger.memory import LedgerMemory
from yatagan.ledger.records import Head, RecordedPlace, RecordKind, Statement, canonical

DIGEST = "0123456789abcdef" * 4


def statement(id: str, kind: RecordKind = RecordKind.STAGED, **more: object) -> Statement:
    """A record as a command hands it over."""
    return Statement(
        id,
        kind,
        "good",
        (RecordedPlace("", b"/home/mara/fen"),),
        RecordedPlace("heron", b"/scratch/fen"),
        {"files": 1},
        1234,
        {"on-node": 1},
        ("yatagan", "stage", "fen", "heron:fen"),
        **more,  # type: ignore[arg-type]
    )


def fields(id: str, second: int) -> dict[str, object]:
    """What a record has besides what binds it to its file."""
    when = f"2026-11-27T10:{second // 60:02}:{second % 60:02}.000000Z"
    return {**statement(id).fields(), "recorded_at": when, "who": "mara@moor", "version": "0.1.0"}


@dataclass
class World:
    """A ledger that several machines write to, each with a memory of its own."""

    root: Path
    machines: int = 3
    signers: Sequence[Signer | None] = (None, None, None)
    written: int = 0
    names: list[str] = field(default_factory=list)

    @property
    def directory(self) -> LedgerDirectory:
        return LedgerDirectory(self.root / "ledger", may_be_made=True)

    def memory(self, machine: int) -> LedgerMemory:
        return LedgerMemory(self.root / f"machine-{machine}", self.root / "ledger")

    def append(self, machine: int, listed: bool = False) -> None:
        """One more record by a machine."""
        self.directory.make()
        self.written += 1
        record = fields(f"record-{self.written}", self.written)
        if listed:
            lines = [f"{DIGEST}  fen/{self.written}.csv\n".encode()]
            record["list"] = write_list(self.directory, lines)
        with self.memory(machine).locked(time.monotonic() + 10) as lock:
            Appender(self.directory, self.memory(machine), self.signers[machine]).append(lock, [record])

    def file(self, machine: int) -> str:
        return f"{self.memory(machine).writer()}.jsonl"

    def lines(self, name: str) -> list[bytes]:
        return (self.directory.writers / name).read_bytes().split(b"\n")[:-1]

    def write(self, name: str, lines: Sequence[bytes]) -> None:
        (self.directory.writers / name).write_bytes(b"".join(line + b"\n" for line in lines))

    def check(self, machine: int | None = None, last: str = "") -> Checked:
        """A check by a machine that has written, or by a colleague who knows nothing of this ledger."""
        if machine is None:
            return Check(self.directory, {}).run(last)
        memory = self.memory(machine)
        return Check(self.directory, memory.seen(), memory.expected()).run(last)

    def named(self) -> set[tuple[str, int]]:
        """The records whose digests another file's record carries."""
        found = set()
        for name in self.directory.writer_files():
            for line in self.lines(name):
                for writer, head in json.loads(line).get("others", {}).items():
                    found.add((f"{writer}.jsonl", head["number"]))
        return found


def rechained(lines: Sequence[bytes], start: int, change: Callable[[dict[str, object]], None]) -> list[bytes]:
    """The lines of a file after somebody has changed one and made all later ones fit it again."""
    changed = list(lines)
    record = json.loads(changed[start])
    change(record)
    changed[start] = canonical(record)
    for at in range(start + 1, len(changed)):
        record = json.loads(changed[at])
        record["previous"] = hashlib.sha256(changed[at - 1]).hexdigest()
        changed[at] = canonical(record)
    return changed


def random_world(root: Path, chance: random.Random, signers: Sequence[Signer | None] = (None, None, None)) -> World:
    """A ledger of up to three machines and a few records each."""
    world = World(root, chance.randint(1, 3), signers)
    for _ in range(chance.randint(2, 14)):
        world.append(chance.randrange(world.machines), listed=chance.random() < 0.3)
    return world


_DEEDS = (
    *("byte", "byte", "byte", "remove", "swap", "cut", "splice", "splice over", "copy"),
    *("list", "no list", "no file", "rewrite"),
)


@dataclass(frozen=True)
class Tampering:
    """What somebody did: the records that are not what was written, and whether anybody could see it."""

    what: str
    records: frozenset[tuple[str, int]]
    #: Records of which one must be pinned by another file's record or the next one for the tampering to be seen.
    shows: frozenset[tuple[str, int]]


def tamper(world: World, chance: random.Random) -> Tampering:
    """Tamper with one thing of a ledger."""
    name = chance.choice(world.directory.writer_files())
    lines = world.lines(name)
    count = len(lines)
    at = chance.randrange(count)
    what = chance.choice(_DEEDS)
    one = frozenset({(name, at + 1)})
    followed = frozenset({(name, at + 1)} if at + 1 < count else ()) | (one & world.named())
    if what == "byte":
        place = chance.randrange(len(lines[at]))
        byte = chance.choice([each for each in range(256) if each != lines[at][place]])
        lines[at] = lines[at][:place] + bytes([byte]) + lines[at][place + 1 :]
        world.write(name, lines)
        # A line that is no record any more is seen wherever it stands.
        torn = byte == 10 or not _is_record(lines[at])
        pieces = frozenset({(name, at + 2)} if byte == 10 and at + 1 == count else ())
        return Tampering(what, one | pieces, one if torn else followed)
    if what == "remove":
        world.write(name, [*lines[:at], *lines[at + 1 :]])
        return Tampering(what, one, followed)
    if what == "swap" and count > 1:
        other = chance.choice([each for each in range(count) if each != at])
        lines[at], lines[other] = lines[other], lines[at]
        world.write(name, lines)
        both = one | {(name, other + 1)}
        return Tampering(what, both, both)
    if what == "cut":
        world.write(name, lines[:at])
        gone = frozenset((name, number) for number in range(at + 1, count + 1))
        return Tampering(what, gone, gone & world.named())
    if what in ("splice", "splice over"):
        elsewhere = World(world.root / "elsewhere", 1)
        for _ in range(at + 1):
            elsewhere.append(0)
        foreign = elsewhere.lines(elsewhere.file(0))[-1]
        world.write(name, [*lines[:at], foreign, *lines[at + (what == "splice over") :]])
        return Tampering(what, one | {(name, 0)}, one)
    if what == "copy":
        world.write(name, [*lines, lines[at]])
        return Tampering(what, one, one)
    if what == "rewrite":
        world.write(name, rechained(lines, at, lambda record: record.update(outcome="other")))
        changed = frozenset((name, number) for number in range(at + 1, count + 1))
        return Tampering(what, changed, changed & world.named())
    if what == "no file":
        os.unlink(world.directory.writers / name)
        gone = frozenset((name, number) for number in range(1, count + 1))
        return Tampering(what, gone, gone & world.named())
    return _tamper_list(world, chance, what)


def _tamper_list(world: World, chance: random.Random, what: str) -> Tampering:
    lists = world.directory.list_names()
    if not lists:
        return Tampering("nothing", frozenset(), frozenset())
    digest = chance.choice(lists)
    file = world.directory.lists / digest
    if what == "no list":
        file.unlink()
    else:
        data = bytearray(file.read_bytes())
        data[chance.randrange(len(data))] ^= 1 << chance.randrange(8)
        file.write_bytes(data)
    bearing = frozenset(
        (name, json.loads(line)["number"])
        for name in world.directory.writer_files()
        for line in world.lines(name)
        if json.loads(line).get("list") == digest
    )
    return Tampering("list", bearing, bearing)


def _is_record(line: bytes) -> bool:
    from yatagan.ledger.records import parse

    return parse(line) is not None


def heads(world: World) -> dict[str, Head]:
    """The newest record of each file, as somebody who looked just now would remember it."""
    found = {}
    for name in world.directory.writer_files():
        head = world.directory.head(name)
        assert head is not None
        found[name.removesuffix(".jsonl")] = head
    return found


def blames(finding: LedgerFinding) -> set[tuple[str, int]]:
    """The records of which a finding says that they, or one of them, are not what was written.

    Number 0 stands for a line that is no record at all.
    """
    found = {(finding.file, number) for number in range(finding.first, finding.last + 1)}
    if finding.witness is not None and finding.witness.file:
        found.add((finding.witness.file, finding.witness.number))
    return found


def judge(checked: Checked, done: Tampering, *, seen: bool) -> None:
    """`seen`: whether the tampering must be found."""
    honest = [each for each in checked.findings if each.first and not blames(each) & done.records]
    if not seen:
        assert not honest, f"{done} blames {honest}"
        return
    assert checked.findings, f"not found: {done}"
    assert any(blames(finding) & done.records for finding in checked.findings), (done, checked.findings)
    assert not honest, f"{done} blames {honest}"
