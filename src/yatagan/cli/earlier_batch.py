"""The same stage again, at the command line: what an earlier batch has left, and what becomes of it."""

from __future__ import annotations

import contextlib
from dataclasses import dataclass
from enum import StrEnum
from typing import Any

from yatagan.batches.batch_store import Batch, Batches
from yatagan.batches.counts import BatchCounts, outcome_of
from yatagan.batches.journal import Journal
from yatagan.batches.journal_data import Header
from yatagan.batches.said import said, take_back
from yatagan.batches.states import BatchState
from yatagan.cli import text
from yatagan.cli.context import App, OpenSession
from yatagan.errors import BatchInUse, Refused
from yatagan.places import Place
from yatagan.planning.plan import Plan
from yatagan.planning.takeover import can_go_on, remove_parts, sync_what_is_there, take_over, unfinished
from yatagan.stores.interface import Source, Store


class EarlierUse(StrEnum):
    """What becomes of an earlier batch."""

    RUNNING = "running"
    GO_ON = "go on"
    TAKE_OVER = "take over"


@dataclass(frozen=True, slots=True)
class Earlier:
    """An unfinished batch with the same ends as a new plan, and its counts."""

    batches: Batches
    batch: Batch
    outcome: BatchCounts

    @property
    def words(self) -> str:
        """What it has done: `batch 261127-k7qd: 600 of 1,000 files are in place; 40 MB of the rest are safe`."""
        outcome, name = self.outcome, self.batch.name
        if self.batch.is_carried():
            return f"batch {name} carries this now; see: yatagan batch show {name}"
        wanted = outcome.moved + outcome.waiting + outcome.failed_files
        are = "is" if outcome.moved == 1 else "are"
        words = f"batch {name}: {text.number(outcome.moved)} of {text.count(wanted, 'file')} {are} in place"
        return words + (f"; {text.size(outcome.safe)} of the rest are safe there" if outcome.safe else "")

    def use(self, header: Header, plan: Plan) -> EarlierUse:
        """What a stage does with it."""
        if self.batch.is_carried():
            return EarlierUse.RUNNING
        with contextlib.closing(self.batch.journal()) as journal:
            return EarlierUse.GO_ON if can_go_on(journal, header, plan.steps()) else EarlierUse.TAKE_OVER

    def would(self, use: EarlierUse) -> str:
        """The sentence for a plan that is only shown."""
        name = self.batch.name
        match use:
            case EarlierUse.RUNNING:
                return f"A stage is refused while batch {name} carries this."
            case EarlierUse.GO_ON:
                return f"A stage goes on with batch {name}."
            case EarlierUse.TAKE_OVER:
                return f"A stage takes over what is there of batch {name}, and cancels it."

    def did(self, use: EarlierUse, batch: str) -> str:
        """The sentence for a plan that is carried out, by `batch`."""
        if use is EarlierUse.GO_ON:
            return f"Going on with batch {batch}."
        return f"Batch {batch} takes over what is there of batch {self.batch.name}, which is cancelled."

    def refuse_if_stopped(self) -> None:
        """Raise Refused where a person has stopped it: then only a person says that it goes on."""
        with contextlib.closing(self.batch.journal()) as journal:
            standing = journal.standing()
        held = standing.state is BatchState.HELD and standing.fault is None
        if said(self.batch) is not None or held:
            resume = text.command("batch", "resume", self.batch.name)
            raise Refused(f"batch {self.batch.name} carries this, and a person has stopped it", f"go on with: {resume}")

    def in_use(self) -> BatchInUse:
        """The error while another process carries it."""
        return BatchInUse(self.batch.name, str(self.batch.carrier() or "another process"))

    async def become(self, use: EarlierUse, header: Header, plan: Plan, destination: Store) -> Batch:
        """The batch to carry, locked by us. Raises BatchInUse, JournalError, StoreError."""
        self.batch.lock()
        take_back(self.batch)
        if use is EarlierUse.GO_ON:
            with contextlib.closing(self.batch.journal()) as journal:
                journal.reopen_failed()
            return self.batch
        try:
            with contextlib.closing(self.batch.journal()) as journal:
                await sync_what_is_there(journal, destination)
                new = self.batches.accept(header, take_over(plan.steps(), journal, plan.chooses), journal)
                with contextlib.closing(new.journal()) as accepted:
                    adopted = frozenset(step.adopts for step in accepted.begun())
                await remove_parts(journal, destination, keep=adopted)
                journal.clear_spool()
            return new
        finally:
            self.batch.unlock()


def find_earlier(app: App, header: Header) -> Earlier | None:
    """The batch that an earlier stage with the same ends left behind. Raises JournalError."""
    batches = Batches(app.home.batches)
    batch = unfinished(batches, header)
    if batch is None:
        return None
    with contextlib.closing(batch.journal()) as journal:
        return Earlier(batches, batch, outcome_of(journal))


def as_json_earlier(earlier: Earlier | None, use: EarlierUse | None) -> dict[str, Any] | None:
    """An earlier batch as JSON."""
    if earlier is None or use is None:
        return None
    outcome = earlier.outcome
    return {"batch": earlier.batch.name, "use": use, "in_place": outcome.moved, "safe_bytes": outcome.safe}


async def held(
    app: App, journal: Journal, stores: tuple[Store, Store], ends: tuple[Source, Source]
) -> tuple[Source, Source]:
    """The ends of a batch over stores that are open; a new store if the batch is pinned to another address."""
    header, pins = journal.header(), journal.standing().pins
    found: list[Source] = []
    for node, store, end in zip((header.source_node, header.destination_node), stores, ends, strict=True):
        if pins.get(node) in (None, end.pins().get(node)):
            found.append(OpenSession(store, end))
        else:
            await store.close()
            found.append(app.source(Place(node, b""), pinned=pins[node]))
    return found[0], found[1]
