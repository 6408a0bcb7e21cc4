"""A project with many batches over months, made from a seed: ledger, journals and logs, as they would be by then.

    python tests/support/campaigns.py DIRECTORY [SEED]

writes a home and a project there, for pictures of reports.
"""

from __future__ import annotations

import hashlib
import json
import os
import random
import sys
from collections.abc import Iterator
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path

from yatagan.batches.journal import Journal
from yatagan.batches.journal_data import Header, Purpose
from yatagan.batches.pace import PaceRow, SlowStep
from yatagan.batches.states import BatchState, Evidence, StepState
from yatagan.batches.steps import FILES_PHASE, MEMBERS_PHASE, Prove, Step, StepKind
from yatagan.engine.recording import record
from yatagan.faults import Fault
from yatagan.ledger import ledger as ledger_module
from yatagan.ledger.ledger import Ledger
from yatagan.ledger.records import RecordedPlace, RecordKind, Statement
from yatagan.ledger.tree_history import history_of, records_of_project
from yatagan.stores.interface import Facts, Kind

PROJECT = """\
[project]
name = "fen-flux"
ledger = "ledger"

[dataset.chambers]
use = "input"
here = "chambers"
there = "heron:@scratch/fen/chambers"

[dataset.thermal]
use = "input"
here = "thermal"
there = "heron:@scratch/fen/thermal"
stored = "by-directory"

[dataset.notes]
use = "input"
here = "notes"
there = "heron:@project/notes"

[dataset.fluxes]
use = "result"
here = "fluxes"
there = "heron:@scratch/fen/fluxes"
"""
#: Of each dataset: files and bytes of a batch, roughly, and bytes a second.
_SHAPES = {"chambers": (1_400, 1_200, 9e6), "thermal": (120, 60_000_000, 8e7), "notes": (12, 3_000, 2e6)}
_SHAPES["fluxes"] = (40, 9_000_000, 6e7)


class Campaign:
    """Makes batches at given times. `home` and `root` are the user's and the project's directories."""

    def __init__(self, home: Path, root: Path, seed: int, share: float = 1.0) -> None:
        self.home, self.root, self._share = home, root, share
        self._chance = random.Random(seed)
        self._ledger = Ledger(root / "ledger", home / "ledger-memory")
        (root / "ledger").mkdir(parents=True, exist_ok=True)
        (root / "yatagan.toml").write_text(PROJECT)

    def stage(self, dataset: str, at: datetime, *, failed: int = 0, files: int | None = None) -> str:
        """One batch of a dataset, finished and on record. Returns its name."""
        chance, (many, mean, rate) = self._chance, _SHAPES[dataset]
        many = files if files is not None else max(4, round(many * self._share * chance.uniform(0.3, 1.6)))
        towards = "here" if dataset == "fluxes" else "there"
        purpose = Purpose("fen-flux", dataset, towards, str(self.root / "ledger"))
        near, far = str(self.root).encode(), b"/scratch/mara/fen"
        ends = (far, near) if towards == "here" else (near, far)
        sizes = [max(1, round(chance.lognormvariate(0, 1.1) * mean)) for _ in range(many)]
        whole = sum(sizes)
        header = Header(
            f"{at:%y%m%d}-{chance.choice('bcdfghjkmnpqrstvwxyz')}{chance.randrange(100, 999)}",
            int(at.timestamp() * 1e9),
            ("yatagan", "stage", "--dataset", dataset),
            "heron" if towards == "here" else "",
            "" if towards == "here" else "heron",
            ends[1],
            Prove.AUTO,
            arrivals=((ends[0] + b"/" + dataset.encode(), dataset.encode()),),
            expected_seconds=max(1.0, whole / rate * chance.uniform(0.6, 1.5) + many / 900),
            purpose=purpose,
        )
        steps = list(self._steps(dataset, sizes, failed))
        file = self.home / "batches" / header.id / "journal.db"
        file.parent.mkdir(parents=True)
        (file.parent / "accepted").touch()
        journal = Journal.create(file, header, steps)
        self._go(journal, file.parent, at, whole, rate, [step.number for step in steps if step.kind is StepKind.FILE])
        self._at(at + timedelta(seconds=journal.standing().seconds))
        record(journal, self._ledger)
        journal.close()
        return header.id

    def _steps(self, dataset: str, sizes: list[int], failed: int) -> Iterator[Step]:
        chance, number = self._chance, 0
        bundle = 0
        for at, size in enumerate(sizes):
            stored = dataset == "thermal"
            if stored and at % 40 == 0:
                number += 1
                inside = sum(sizes[at : at + 40])
                facts = Facts(Kind.FILE, round(inside * chance.uniform(0.55, 0.8)), 0, 0o644)
                name = f"{dataset}/flight-{at // 40 + 1:02}.tar.zst".encode()
                step = Step(number, FILES_PHASE, StepKind.ARCHIVE, b"/s", b"/d", name, facts)
                yield replace(step, state=StepState.IN_PLACE, evidence=Evidence.ON_NODE, digest=_digest(name))
                bundle = number
            number += 1
            label = f"{dataset}/plot-{at % 24 + 1:02}/2026-{at:05}.csv".encode()
            phase = MEMBERS_PHASE if stored else FILES_PHASE
            facts = Facts(Kind.FILE, size, 1_780_000_000_000_000_000 + at, 0o644)
            step = Step(number, phase, StepKind.FILE, b"/s/" + label, b"/d/" + label, label, facts, bundle=bundle)
            if at < failed:
                fault = Fault.DENIED if at % 3 else Fault.SOURCE_CHANGED
                yield replace(step, state=StepState.FAILED, fault=fault)
            elif chance.random() < 0.3 and not stored:
                yield replace(step, state=StepState.LEFT, evidence=Evidence.SIZE_AND_TIME)
            else:
                evidence = Evidence.ON_ARRIVAL if dataset == "fluxes" else Evidence.ON_NODE
                yield replace(step, state=StepState.IN_PLACE, evidence=evidence, digest=_digest(label), sent=size)

    def _go(self, journal: Journal, directory: Path, at: datetime, whole: int, rate: float, numbers: list[int]) -> None:
        """How it went: a pace with a start, a dip now and then, and sometimes a lost connection."""
        chance, now, left, rows = self._chance, int(at.timestamp()), whole, list[PaceRow]()
        log = [
            {"time": _text(at), "event": "begun", "process": 1, "host": "moor"},
            {"time": _text(at), "event": "connected", "again": False},
        ]
        seconds, lost = 0, chance.random() < (0.7 if whole > 5e9 else 0.2)
        placed = 0
        while left > 0:
            share = min(1.0, 0.35 + seconds * 0.16) * chance.uniform(0.75, 1.02)
            sent = min(left, max(1, round(rate * share)))
            left -= sent
            proven = round((whole - left - placed) * chance.uniform(0.5, 1.0)) if left else whole - placed
            placed += proven
            rows.append(PaceRow(now + seconds, 1, sent, proven, max(1, proven * len(numbers) // max(whole, 1))))
            seconds += 1
            if lost and left < whole / 2:
                lost = False
                when = at + timedelta(seconds=seconds)
                log.append({"time": _text(when), "event": "connection-lost", "reason": "connection-lost"})
                seconds += chance.randrange(12, 25)
                log.append({"time": _text(at + timedelta(seconds=seconds)), "event": "connected", "again": True})
        log.append(
            {
                "time": _text(at + timedelta(seconds=seconds)),
                "event": "ended",
                "state": "finished",
                "settled_steps": 1,
                "sent_bytes": 1,
            }
        )
        slow = [
            SlowStep(number, round(chance.uniform(0.2, 0.6) * seconds, 2))
            for number in chance.sample(numbers, min(6, len(numbers)))
        ]
        journal.settle(BatchState.MOVING)
        journal.spend(seconds, rows, slow)
        journal.settle(BatchState.FINISHED)
        (directory / "log.jsonl").write_text("".join(json.dumps(line) + "\n" for line in log))

    def lay_out(self) -> None:
        """What is on record lies here, as empty as a disk allows: but one note is newer, and one is missing."""
        records = records_of_project(self._ledger, "fen-flux")
        for dataset in _SHAPES:
            entries = history_of(self._ledger, records[dataset]).entries
            for path, expected in entries.items():
                file = self.root / dataset / path.decode()
                file.parent.mkdir(parents=True, exist_ok=True)
                with file.open("wb") as stream:
                    stream.truncate(expected.facts.size)
                os.utime(file, ns=(expected.facts.mtime_ns, expected.facts.mtime_ns))
        one, *_, other = sorted((self.root / "notes").rglob("*.csv"))
        os.utime(one)
        other.unlink()

    def verify(self, dataset: str, at: datetime, *, good: bool = True) -> None:
        """A verdict on a dataset, on record."""
        self._at(at)
        many, mean, _ = _SHAPES[dataset]
        statement = Statement(
            f"verified-{at:%y%m%d-%H%M%S}",
            RecordKind.VERIFIED,
            "good" if good else "not good",
            (RecordedPlace("heron", b"/scratch/mara/fen/" + dataset.encode()),),
            None,
            {"files": many, **({} if good else {"different": 2})},
            many * mean,
            {"on-node": many},
            ("yatagan", "verify", "--dataset", dataset),
            details={"project": "fen-flux", "dataset": dataset, "at": "there"},
        )
        self._ledger.append(statement)

    def _at(self, at: datetime) -> None:
        """What is put on record next is of that time."""
        fixed = {"recorded_at": at.strftime("%Y-%m-%dT%H:%M:%S.%fZ"), "who": "mara@moor", "version": "0.1.0"}
        ledger_module._now = lambda: fixed


def _digest(label: bytes) -> str:
    return hashlib.sha256(label).hexdigest()


def _text(at: datetime) -> str:
    return at.strftime("%Y-%m-%dT%H:%M:%SZ")


def three_months(home: Path, root: Path, seed: int = 7, share: float = 1.0) -> Campaign:
    """40 batches of four datasets from August to October, with some trouble; each with a `share` of its files."""
    made, chance = Campaign(home, root, seed, share), random.Random(seed)
    at = datetime(2026, 8, 3, 6, 0, tzinfo=UTC)
    order = ["chambers"] * 18 + ["thermal"] * 8 + ["notes"] * 8 + ["fluxes"] * 6
    chance.shuffle(order)
    for number, dataset in enumerate(order):
        made.stage(dataset, at, failed=3 if number in (11, 29) else 0)
        if chance.random() < 0.4:
            made.verify(dataset, at + timedelta(hours=1), good=number != 21)
        at += timedelta(hours=chance.uniform(20, 90))
    for dataset in _SHAPES:
        made.verify(dataset, at)
    made.lay_out()
    connections = home / "connections"
    connections.mkdir()
    (connections / "heron.json").write_text('{"lanes": 4, "rate": 86000000.0, "round_trip": 0.012, "commands": true}')
    return made


if __name__ == "__main__":
    base = Path(sys.argv[1])
    three_months(base / "home", base / "fen-flux", int(sys.argv[2]) if len(sys.argv) > 2 else 7)
