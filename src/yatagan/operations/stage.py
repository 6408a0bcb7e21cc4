"""A stage from its request to its batch: planned, with both ends open; looked at, changed by answers, and accepted."""

from __future__ import annotations

import contextlib
import functools
from collections.abc import AsyncIterator, Iterator
from contextlib import (
    ExitStack,
    asynccontextmanager,
)

from yatagan.batches.batch_store import Batches
from yatagan.batches.log_events import LogAccepted
from yatagan.batches.planning_log import PlanningLog
from yatagan.desk.desk import Desk
from yatagan.engine.recording import staged_statement
from yatagan.engine.run_log import RunLog
from yatagan.ledger.ledger import record_id
from yatagan.ledger.records import RecordKind
from yatagan.operations.accepted_batch import AcceptedBatch
from yatagan.operations.earlier_batch import EarlierUse, find_earlier
from yatagan.operations.stage_ends import StageEnds, open_ends
from yatagan.operations.stage_planning import StagePlan, StagePlanning
from yatagan.operations.stage_request import StageRequest
from yatagan.operations.watching import Unwatched, Watcher
from yatagan.planning.cautions import (
    Caution,
    GoneHere,
    MatchesNothing,
    look_at_shells,
)
from yatagan.planning.picked import Picked
from yatagan.planning.planner import replace_newer
from yatagan.planning.room import refuse_without_room


class PlannedStage:
    """A stage that is planned, with both its ends open.

    `plan` and `header`: what would be done, and the header of the batch. `earlier`: what an earlier batch with the same
    ends has left. `unmatched`: patterns of the choice that match nothing. `gone`: what was staged before and is no
    longer at the source; it goes on record as gone where `gone_accepted`.
    """

    def __init__(self, desk: Desk, request: StageRequest, ends: StageEnds, made: StagePlan, noted: ExitStack) -> None:
        self.desk = desk
        self.request = request
        self.source, self.destination = ends.stores
        self.sources, self.plan, self.header = made.sources, made.plan, made.header
        self.unmatched, self.gone = made.unmatched, made.gone
        self.gone_accepted = self.gone is not None and (self.gone.why is None or request.accept_gone)
        self.earlier = find_earlier(desk.home, self.header)
        self.plan.safe = self.earlier.outcome.safe if self.earlier is not None else 0
        self._careful = made.careful
        self._ends = ends
        self._noted = noted

    # --- what it is like ---

    @property
    def anything(self) -> bool:
        """Whether there is something to carry, or a batch to go on with."""
        return bool(self.plan.summary.anything) or self.earlier is not None

    @property
    def cautions(self) -> list[Caution]:
        """What should be known of it before it is carried out."""
        return [*self._gone_caution(), *self._careful, *map(MatchesNothing, self.unmatched), *self._shells()]

    def _gone_caution(self) -> Iterator[Caution]:
        if self.gone is not None:
            decided = self.gone.why is None or self.request.accept_gone
            yield GoneHere(self.gone, self.request.source_node, decided)

    def _shells(self) -> Iterator[Caution]:
        return look_at_shells((self.source, self.destination))

    @functools.cached_property
    def use(self) -> EarlierUse | None:
        """What becomes of the earlier batch; None without one."""
        return self.earlier.use(self.header, self.plan) if self.earlier is not None else None

    # --- what a person can answer ---

    def replace_newer(self) -> None:
        """Replace what is newer at the destination; what was there is kept."""
        replace_newer(self.plan, self.source, self.destination)
        self.__dict__.pop("use", None)  # the steps are others now

    def accept_gone(self) -> None:
        """Put on record what is gone from the source."""
        self.gone_accepted = True

    # --- what becomes of it ---

    async def accept(self) -> AcceptedBatch:
        """The batch to carry, which has both ends from now on. Raises BatchInUse, NoRoom, JournalError, StoreError."""
        desk, earlier = self.desk, self.earlier
        if self.request.space_check and self.use is not EarlierUse.RUNNING:
            refuse_without_room(self.plan, self.request.destination.node, desk.settings().disk.reserve)
        if earlier is None or self.use is None:
            batch = Batches(desk.home.batches).accept(self.header, self.plan.steps())
        else:
            batch = await earlier.become(self.use, self.header, self.plan, self.destination, desk.queue())
        if labels := self._labels_gone:
            with contextlib.closing(batch.journal()) as journal:
                journal.note_gone(labels)
        RunLog(batch).write(LogAccepted(self.plan.summary.files, self.plan.summary.size))
        self._noted.close()
        self.plan.arrivals.clear()  # a large plan is in the journal now, and need not be held here too
        return AcceptedBatch(desk, batch, await self._ends.hand_over(desk, batch))

    def record_gone(self) -> None:
        """Put on record that something is no longer at the source, where nothing else is to be done."""
        if labels := self._labels_gone:
            statement = staged_statement(record_id(RecordKind.STAGED), "good", self.header, {"files": 0, "failed": 0})
            ledger = self.desk.ledger_in(self.header.purpose.ledger)
            ledger.append(statement, tuple, lambda: [(each, None, None) for each in labels])

    @property
    def _labels_gone(self) -> tuple[bytes, ...]:
        return self.gone.labels if self.gone is not None and self.gone_accepted else ()


@asynccontextmanager
async def plan_stage(
    desk: Desk,
    request: StageRequest,
    watcher: Watcher | None = None,
    *,
    picked: Picked | None = None,
    noted: bool = True,
    by_itself: bool = False,
) -> AsyncIterator[PlannedStage]:
    """Plan a stage, with both ends open as long as it lasts.

    `picked`: what of a source is brought back, entry by entry. `noted`: while it is planned it is noted, so that one
    that dies is known. `by_itself`: no person asks for it, so it is refused where one has stopped the batch of an
    earlier.
    Raises whatever opening and planning can: CannotReach, StoreError, NoPlace, BadStage, Refused and others.
    """
    with ExitStack() as planning:
        if noted:
            planning.enter_context(PlanningLog(desk.home.planning).planning(desk.command))
        async with open_ends(desk, request) as ends:
            made = await StagePlanning(desk, request, ends).make(watcher or Unwatched(), picked)
            planned = PlannedStage(desk, request, ends, made, planning)
            if by_itself and planned.earlier is not None:
                planned.earlier.refuse_if_stopped()
            yield planned
