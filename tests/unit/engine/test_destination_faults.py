"""A destination that takes nothing, and steps without a proof."""

from __future__ import annotations

import asyncio
import os
import time
from pathlib import Path

from yatagan.batches.counts import outcome_of
from yatagan.batches.journal import Journal
from yatagan.batches.journal_data import Header
from yatagan.batches.states import Evidence, StepState
from yatagan.batches.steps import Prove
from yatagan.engine.executor import Conditions, Executor
from yatagan.errors import StoreError
from yatagan.faults import Fault
from yatagan.planning.planner import make_plan
from yatagan.stores.interface import Facts, NodeDigest, Writer
from yatagan.stores.local import LocalSource, LocalStore


class Closed(LocalStore):
    """A disk on which one directory may not be written into."""

    async def create_part(self, path: bytes, mode: int = 0o600) -> Writer:
        if b"/closed/" in path:
            raise StoreError(Fault.DENIED, path)
        return await super().create_part(path, mode)

    async def make_directory(self, path: bytes, mode: int) -> None:
        if b"/shut/" in path:
            raise StoreError(Fault.READ_ONLY, path)
        await super().make_directory(path, mode)


class ClosedSource(LocalSource):
    async def open(self) -> LocalStore:
        return Closed(b"/")


def test_a_directory_that_takes_nothing_fails_once(tmp_path: Path) -> None:
    """3,202 lines, with the cause in the fifth, were one cause: what hangs on it is counted."""
    for name in ("closed", "closed/below", "shut", "shut/below", "open"):
        (tmp_path / "near" / name).mkdir(parents=True)
        for number in range(300):
            (tmp_path / "near" / name / str(number)).write_bytes(b"fen")
    (tmp_path / "far").mkdir()

    async def work() -> Journal:
        ends = LocalSource(b"/"), ClosedSource(b"/")
        top = os.fsencode(tmp_path / "far")
        near, far = [await end.open() for end in ends]
        plan = await make_plan(near, far, [(os.fsencode(tmp_path / "near"), b"fen")], top)
        journal = Journal.in_memory(Header("261127-shut", 0, ("stage",), "", "", top, Prove.AUTO), plan.steps())
        await Executor(journal, *ends, lambda event: None, Conditions()).run()
        return journal

    journal = asyncio.run(work())
    failed = [(step.label, step.fault) for step in journal.steps(StepState.FAILED)]
    causes = {fault for _, fault in failed}
    assert causes == {Fault.DENIED, Fault.READ_ONLY, Fault.WITH_DIRECTORY}
    assert [fault for _, fault in failed].count(Fault.DENIED) == 1 and len(failed) > 900
    assert len(os.listdir(tmp_path / "far" / "fen" / "open")) == 300


class Unread(LocalStore):
    """A disk that nobody may read back from."""

    async def digest(self, path: bytes, algorithm: str, seen: Facts | None = None) -> NodeDigest:
        raise AssertionError(path)


class UnreadSource(LocalSource):
    async def open(self) -> LocalStore:
        return Unread(b"/")


def test_without_a_proof_nothing_is_read_back_here(tmp_path: Path) -> None:
    (tmp_path / "fen").write_bytes(os.urandom(3 << 20))
    os.utime(tmp_path / "fen", (time.time() - 3600,) * 2)

    async def work() -> None:
        here, top = LocalStore(b"/"), os.fsencode(tmp_path / "top")
        plan = await make_plan(here, here, [(os.fsencode(tmp_path / "fen"), b"fen")], top)
        journal = Journal.in_memory(Header("261127-none", 0, ("stage",), "", "", top, Prove.NONE), plan.steps())
        await Executor(journal, LocalSource(b"/"), UnreadSource(b"/"), lambda event: None, Conditions()).run()
        assert outcome_of(journal).evidence == {Evidence.SENT: 1}

    asyncio.run(work())
    assert (tmp_path / "top" / "fen").read_bytes() == (tmp_path / "fen").read_bytes()
