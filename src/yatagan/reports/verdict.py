"""What a report comes to, made from the rows that its page shows, and never better than the worst of them. No I/O."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import IntEnum

from yatagan.batches.states import BatchState
from yatagan.reports.gathering import Gathered, Staging
from yatagan.spelling import count

#: What is not good about a dataset that has other contents here than were staged.
CHANGED = "changed since"


class Level(IntEnum):
    """How good a row is, the best first; NOTHING where there is no row."""

    NOTHING = -1
    GOOD = 0
    WARNING = 1
    TROUBLE = 2

    @property
    def mark(self) -> str:
        """A mark that needs no colour."""
        return {Level.NOTHING: "–", Level.GOOD: "✓", Level.WARNING: "!", Level.TROUBLE: "✗"}[self]


@dataclass(frozen=True, slots=True)
class DatasetRow:
    """How a dataset stands, in words. `wanting`: what is not good about it, "" when all is; `level`: how bad it is."""

    name: str
    staged: str
    files: int | None
    size: int | None
    verified: str
    evidence: str
    changed: str
    wanting: str
    level: Level


@dataclass(frozen=True, slots=True)
class PageVerdict:
    """The verdict of a page: how good all of it is, and that in words."""

    level: Level
    words: str


#: Batches that go on by themselves, or that nothing is expected of any more.
_GOES_ON = frozenset({BatchState.MOVING, BatchState.QUEUED, BatchState.CANCELLED})


def level_of(staging: Staging, found: Gathered) -> Level:
    """How good a batch is. One that did not end well is a warning where what it was about was verified since."""
    if staging.good:
        return Level.GOOD
    if staging.outcome in _GOES_ON:
        return Level.WARNING
    same = (each for each in found.verifications if staging.dataset and each.dataset == staging.dataset)
    return Level.WARNING if any(each.good and each.at > staging.at for each in same) else Level.TROUBLE


def verdict(found: Gathered, rows: Sequence[DatasetRow]) -> PageVerdict:
    """The verdict on what was gathered, and on how the datasets stand."""
    levels = [*(level_of(each, found) for each in found.stagings), *(row.level for row in rows)]
    levels += [Level.TROUBLE] * bool(found.not_good)
    if not levels and found.nothing:
        return PageVerdict(Level.NOTHING, "There is nothing to report: no record and no batch was chosen.")
    parts = [*_of_batches(found), *_of_datasets(rows), *_of_verdicts(found)]
    said = "; ".join(parts) or "only bundles were made"
    return PageVerdict(max(levels, default=Level.GOOD), f"{said[0].upper()}{said[1:]}.")


def _of_batches(found: Gathered) -> list[str]:
    """What is to be said of the batches."""
    batches = count(len(found.stagings), "batch", "batches")
    ended = [each for each in found.stagings if each.ended]
    bad = [each for each in ended if not each.good]
    parts = []
    if bad and len(found.stagings) == 1:
        failed = f": {count(bad[0].failed, 'step')} failed" if bad[0].failed else f": {bad[0].outcome}"
        parts.append(f"the batch did not end well{failed}")
    elif bad:
        checked = all(level_of(each, found) is not Level.TROUBLE for each in bad)
        since = ", and what they were about was verified since" if checked else ""
        parts.append(f"{len(bad)} of {batches} did not end well{since}")
    states = [each.outcome for each in found.stagings if not each.ended]
    for state in dict.fromkeys(states):
        is_ = "is" if states.count(state) == 1 else "are"
        parts.append(f"{states.count(state)} of {batches} {is_} {state}")
    if found.stagings and not parts:
        parts.append(f"all that was staged was put in place, in {batches}")
    return parts


def _of_datasets(rows: Sequence[DatasetRow]) -> list[str]:
    """What is to be said of datasets that are not as they should be."""
    wanting = [row.wanting for row in rows if row.wanting]
    of = count(len(rows), "dataset")
    return [f"{wanting.count(why)} of {of} {_stand(why, wanting.count(why))}" for why in dict.fromkeys(wanting)]


def _stand(wanting: str, many: int) -> str:
    """What is not good about datasets, as the rest of a sentence."""
    if wanting == CHANGED:
        return f"{'has' if many == 1 else 'have'} {wanting}"
    return f"{'is' if many == 1 else 'are'} {wanting}"


def _of_verdicts(found: Gathered) -> list[str]:
    """What is to be said of what was verified."""
    if found.not_good:
        files = sum(max(each.more, 1) for each in found.not_good)
        first = min(each.at for each in found.not_good)[:10]
        return [f"{count(files, 'file was', 'files were')} not good when last verified, since {first}"]
    places = {each.about for each in found.verifications}
    return [f"all that was verified is as on record, in {count(len(places), 'place')}"] if places else []
