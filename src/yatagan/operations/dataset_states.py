"""How the datasets of a project stand: looked up in the ledger and here, and on the nodes where that is asked for."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta

from yatagan.bundles.see_through import SeeThrough
from yatagan.config.areas import Area, area_of
from yatagan.config.project import Dataset, Project, Towards, Use
from yatagan.desk.desk import Desk
from yatagan.errors import YataganError
from yatagan.ledger.records import Record, RecordKind
from yatagan.ledger.tree_history import TreeHistory, history_of, records_of_project
from yatagan.operations.datasets import choice_of
from yatagan.operations.watching import Unwatched, Watcher
from yatagan.places import Place
from yatagan.trees.scan import scan
from yatagan.verdicts.on_record import verdicts_on_record
from yatagan.verdicts.scope import StillNotGood
from yatagan.verdicts.since import Since, changed_since


@dataclass(slots=True)
class DatasetState:
    """How a dataset stands.

    `staged`, `verified`: its newest records of that kind. `here`, `there`: what has changed since it was staged; None
    where that was not looked at, or cannot be; `there_trouble`: why. `area`: that it lies in there. `purge_due`: the
    day from which on that may remove some of it.
    """

    dataset: Dataset
    staged: Record | None
    verified: Record | None
    here: Since | None = None
    there: Since | None = None
    there_trouble: YataganError | None = None
    area: Area | None = None
    purge_due: str | None = None
    #: Files that were not good, and that no later verdict has replaced.
    not_good: list[StillNotGood] = field(default_factory=list)
    #: All that was on record was gone when it was last staged.
    emptied: bool = False

    @property
    def settled(self) -> bool:
        """Whether it was carried, is as it was then, and was not found wanting since."""
        if self.staged is None or self.staged.outcome != "good" or self.emptied:
            return False
        return not self.not_good and all(each is None or each.nothing for each in (self.here, self.there))


async def look_at_datasets(
    desk: Desk, project: Project, watcher: Watcher | None = None, *, there: bool
) -> list[DatasetState]:
    """How every dataset stands, in the order of the project file."""
    ledger, watcher = desk.ledger_to_read(), watcher or Unwatched()
    records, verdicts = records_of_project(ledger, project.name), verdicts_on_record(ledger)
    found = []
    for dataset in project.datasets.values():
        own = records.get(dataset.name, [])
        history = history_of(ledger, own)
        choice = choice_of(dataset)
        state = DatasetState(
            dataset,
            next((record for record in own if record.kind == RecordKind.STAGED), None),
            next((record for record in own if record.kind == RecordKind.VERIFIED), None),
        )
        state.not_good = verdicts.of_dataset(project.name, dataset.name)
        if history.newest is not None:
            state.emptied = history.is_emptied
            state.here = await _since(desk, Place("", dataset.here), dataset, history.chosen(choice.chooses), watcher)
            if there:
                try:
                    state.there = await _since(desk, dataset.there, dataset, history.chosen(choice.chooses), watcher)
                except YataganError as error:
                    state.there_trouble = error
        node = desk.nodes().get(dataset.there.node) if dataset.there.node in desk.nodes() else None
        if node is not None:
            state.area = area_of(node.areas, dataset.there.path)
            state.purge_due = _purge_due(state.area, dataset, history)
        found.append(state)
    return found


async def _since(desk: Desk, where: Place, dataset: Dataset, history: TreeHistory, watcher: Watcher) -> Since:
    """What has changed at one end of a dataset."""
    at = Towards.THERE if where.node else Towards.HERE
    newest = history.newest
    target = newest is not None and newest.fields.get("towards") == at.value
    store = SeeThrough(await desk.open(desk.source(where, names=True)))
    try:
        root = await store.resolve(where.path, follow=True)
        with watcher.reading([where]) as heard:
            tree = await scan(store, root, choice=choice_of(dataset), heard=heard)
        times = not (target and newest is not None and newest.fields.get("times"))
        return changed_since(history.entries, tree, store.traits.time_step_ns, times=times)
    finally:
        await store.close()


def _purge_due(area: Area | None, dataset: Dataset, history: TreeHistory) -> str | None:
    """The day from which on files that were carried there may be removed; None where none will be."""
    if area is None or area.purged_after is None or dataset.use is not Use.INPUT:
        return None
    arrived = [versions[0].record.recorded_at for versions in history.versions.values()]
    if not arrived:
        return None
    first = datetime.fromisoformat(min(arrived)).astimezone(UTC)
    return (first + timedelta(seconds=area.purged_after)).strftime("%Y-%m-%d")
