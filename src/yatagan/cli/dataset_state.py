"""How the datasets of a project stand: looked up in the ledger and here, and on the nodes where that is asked for."""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from typing import Any

from yatagan.bundles.see_through import SeeThrough
from yatagan.cli import text
from yatagan.cli.area import age
from yatagan.cli.context import App
from yatagan.cli.messages import explain
from yatagan.cli.pattern_options import parse_choice
from yatagan.cli.scan_progress import EntryCount
from yatagan.config.areas import Area, area_of
from yatagan.config.project import Dataset, Project, Towards, Use
from yatagan.errors import YataganError
from yatagan.ledger.records import Record, RecordKind
from yatagan.ledger.tree_history import TreeHistory, history_of, records_of_project
from yatagan.places import Place, name_fields
from yatagan.trees.scan import scan
from yatagan.verdicts.on_record import verdicts_on_record
from yatagan.verdicts.scope import StillNotGood
from yatagan.verdicts.since import Since, changed_since

#: Files that are named before the rest is only counted.
_NAMED = 3


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
    there_trouble: str = ""
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


async def look_at_datasets(app: App, project: Project, *, there: bool) -> list[DatasetState]:
    """How every dataset stands, in the order of the project file."""
    ledger = app.ledger_to_read()
    records, verdicts = records_of_project(ledger, project.name), verdicts_on_record(ledger)
    found = []
    for dataset in project.datasets.values():
        own = records.get(dataset.name, [])
        history = history_of(ledger, own)
        choice = parse_choice(dataset.only, dataset.skip)
        state = DatasetState(
            dataset,
            next((record for record in own if record.kind == RecordKind.STAGED), None),
            next((record for record in own if record.kind == RecordKind.VERIFIED), None),
        )
        state.not_good = verdicts.of_dataset(project.name, dataset.name)
        if history.newest is not None:
            state.emptied = history.is_emptied
            state.here = await _since(app, Place("", dataset.here), dataset, history.chosen(choice.chooses))
            if there:
                try:
                    state.there = await _since(app, dataset.there, dataset, history.chosen(choice.chooses))
                except YataganError as error:
                    state.there_trouble = explain(error).message
        node = app.nodes().get(dataset.there.node) if dataset.there.node in app.nodes() else None
        if node is not None:
            state.area = area_of(node.areas, dataset.there.path)
            state.purge_due = _purge_due(state.area, dataset, history)
        found.append(state)
    return found


async def _since(app: App, where: Place, dataset: Dataset, history: TreeHistory) -> Since:
    """What has changed at one end of a dataset."""
    at = Towards.THERE if where.node else Towards.HERE
    newest = history.newest
    target = newest is not None and newest.fields.get("towards") == at.value
    store = SeeThrough(await app.open(app.source(where, names=True)))
    try:
        root = await store.resolve(where.path, follow=True)
        with EntryCount(app, [where], quiet=False) as count:
            tree = await scan(store, root, choice=parse_choice(dataset.only, dataset.skip), heard=count.heard)
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


def staged_words(state: DatasetState) -> str:
    """When it was last carried."""
    if state.staged is None:
        return "never"
    good = "" if state.staged.outcome == "good" else f", {text.show(state.staged.outcome)}"
    return text.ago(state.staged.recorded_at) + good


def verified_words(state: DatasetState) -> str:
    """When it was last verified, at which end, and by which evidence."""
    record = state.verified
    if record is None:
        return "never"
    evidence = record.fields.get("evidence", {})
    known = ", ".join(text.show(str(each)) for each in evidence) if isinstance(evidence, dict) else ""
    verdict = "" if record.outcome == "good" else f" {text.show(record.outcome).upper()},"
    part = ", in part" if record.fields.get("only") or record.fields.get("skip") else ""
    return f"{text.ago(record.recorded_at)},{verdict} {text.show(str(record.fields.get('at', '')))} ({known}{part})"


def not_good_words(dataset: str, not_good: Sequence[StillNotGood]) -> Iterator[str]:
    """What is still not good, a line for each end and verdict: `chambers, there: f2.dat was not good 3 h ago …`."""
    found = itertools.groupby(sorted(not_good, key=_verdict_key), _verdict_key)
    for (end, _, machine), group in found:
        bad = list(group)
        names = [text.show(each.path) for each in bad if each.path is not None]
        many = len(names) + sum(max(each.more, 1) for each in bad if each.path is None)
        shown = names[:_NAMED]
        what = ", ".join(shown) or text.count(many, "file")
        if shown and many > len(shown):
            what += f" and {text.number(many - len(shown))} more"
        where = end + (f" on {text.show(machine[1:])}" if machine.startswith("@") else "")
        was = "was" if many == 1 else "were"
        again = text.command("verify", "--dataset", dataset, "--at", end)
        record = bad[0].record
        known = ", ".join(text.show(each) for each in record.fields.get("evidence", {}))
        yield f"{where}: {what} {was} not good {text.ago(record.recorded_at)} ({known}); look again: {again}"


def _verdict_key(bad: StillNotGood) -> tuple[str, str, str]:
    return bad.owner.end, bad.record.id, bad.owner.machine


def not_good_json(not_good: Iterable[StillNotGood]) -> list[dict[str, Any]]:
    """The same for scripts."""
    return [
        {
            "end": each.owner.end,
            **(name_fields(each.path or b".") if each.path is not None else {"path": None}),
            "finding": each.finding or None,
            "more_files": each.more,
            "found_at": each.at,
            "evidence": sorted(each.record.fields.get("evidence", {})),
        }
        for each in not_good
    ]


def since_words(since: Since | None) -> str:
    """What has changed."""
    if since is None:
        return ""
    if since.nothing:
        return "nothing"
    counts = [(since.newer, "newer"), (since.missing, "missing"), (since.other, "other"), (since.added, "new")]
    return ", ".join(f"{text.number(many)} {what}" for many, what in counts if many)


def area_words(state: DatasetState) -> str:
    """What becomes of it where it is there, if that is to be worried about; "" otherwise."""
    area, dataset = state.area, state.dataset
    if area is None or state.staged is None:
        return ""
    parts = []
    if area.purged_after is not None:
        due = f", so from {state.purge_due} on" if state.purge_due else ""
        parts.append(f"@{area.name} removes what is older than {age(area.purged_after)}{due}")
    if area.backed_up is False and dataset.use is Use.RESULT:
        parts.append(f"nothing backs up @{area.name}")
    return "; ".join(parts)
