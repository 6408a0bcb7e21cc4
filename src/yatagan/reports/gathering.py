"""What a report is about, gathered from the ledger and from the journals that are still here.

Of a batch that is on record the numbers are the record's; its journal adds what no record has: how fast it went, its
failures one by one, sizes of files.
"""

from __future__ import annotations

import contextlib
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any

from yatagan.batches.batch_store import Batch, Batches
from yatagan.batches.counts import BatchCounts, outcome_of
from yatagan.batches.journal import Journal
from yatagan.batches.log_events import LogBegun, LogConnected, LogConnectionLost, LogEnded
from yatagan.batches.pace import PaceRow
from yatagan.batches.states import BatchState, StepState
from yatagan.batches.steps import StepKind
from yatagan.engine.run_log import read_events
from yatagan.errors import JournalError, NoSuchBatch
from yatagan.faults import CONSEQUENCES, Fault
from yatagan.ledger.ledger import Ledger
from yatagan.ledger.records import Record, RecordedPlace, RecordKind
from yatagan.spelling import show
from yatagan.verdicts.on_record import verdicts_reader
from yatagan.verdicts.scope import StillNotGood

#: What a fault means, in words.
Explain = Callable[[Fault, str], str]

_CARRIED = (RecordKind.STAGED, RecordKind.RESTORED)
#: Events of a batch's log that are marked in the figure of its rate.
_MARKS = {LogConnectionLost: "lost", LogConnected: "connected", LogBegun: "begun", LogEnded: "ended"}


@dataclass(frozen=True, slots=True)
class Failure:
    """A step that failed: of which batch, what, and why."""

    batch: str
    path: str
    reason: str


@dataclass(frozen=True, slots=True)
class SlowFile:
    """A file that took long: of which batch, its size in bytes, and for how many seconds it was worked on."""

    batch: str
    path: str
    size: int
    seconds: float


@dataclass(frozen=True, slots=True)
class Bundled:
    """A directory that became a bundle, and when: bytes of its files, and of the bundle."""

    at: str
    name: str
    before: int
    after: int


@dataclass(slots=True)
class Staging:
    """A batch, or a record of one. Sizes in bytes; `at` and `marks` by RFC 3339.

    `ended`: whether nothing of it is left to do. `left` files were
    right already. `sent`, `seconds`, `pace` and what follows are only known from a journal.
    """

    id: str
    at: str
    who: str
    kind: str
    command: str
    source: str
    target: str
    outcome: str
    good: bool
    dataset: str = ""
    project: str = ""
    ended: bool = True
    files: int = 0
    size: int = 0
    left: int = 0
    left_size: int | None = None
    failed: int = 0
    replaced: int = 0
    evidence: dict[str, int] = field(default_factory=dict)
    digest: str = ""
    list_digest: str = ""
    sent: int | None = None
    seconds: float | None = None
    expected_seconds: float | None = None
    pace: list[PaceRow] = field(default_factory=list)
    marks: list[tuple[str, str]] = field(default_factory=list)
    failures: list[Failure] = field(default_factory=list)
    slowest: list[SlowFile] = field(default_factory=list)
    sizes: Counter[int] = field(default_factory=Counter)
    bundled: list[Bundled] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class Verification:
    """A verdict on record. `still`: how many findings, its own and earlier ones, counted after it."""

    id: str
    at: str
    who: str
    place: str
    outcome: str
    dataset: str
    end: str
    files: int
    size: int
    evidence: Mapping[str, int]
    digest: str
    still: int = 0

    @property
    def good(self) -> bool:
        """Whether everything was as it should be, what earlier verdicts said included."""
        return self.outcome == "good" and not self.still

    @property
    def about(self) -> str:
        """What it is about: one end of a dataset, or a place."""
        return f"{self.dataset} {self.end}" if self.dataset else self.place


@dataclass(frozen=True, slots=True)
class LedgerEnd:
    """The newest record of the ledger: its digest pins it, and with it all before it in its file."""

    directory: str
    file: str
    number: int
    digest: str
    at: str
    records: int


@dataclass(slots=True)
class Gathered:
    """All that a report is about, the oldest first. `bundled`: bundles that were made by themselves."""

    stagings: list[Staging] = field(default_factory=list)
    verifications: list[Verification] = field(default_factory=list)
    bundled: list[Bundled] = field(default_factory=list)
    ledger_end: LedgerEnd | None = None
    #: What was not good when it was last verified, whenever that was.
    not_good: list[StillNotGood] = field(default_factory=list)

    @property
    def nothing(self) -> bool:
        """Whether there is nothing to report."""
        return not (self.stagings or self.verifications or self.bundled)

    @property
    def verified(self) -> list[Verification]:
        """The last verdict on each dataset's end, or place, that was about most of it."""
        found: dict[str, Verification] = {}
        for each in self.verifications:
            if each.about not in found or each.files >= found[each.about].files:
                found[each.about] = each
        return list(found.values())

    @property
    def failures(self) -> list[Failure]:
        """Every step that failed."""
        return [failure for staging in self.stagings for failure in staging.failures]

    @property
    def slowest(self) -> list[SlowFile]:
        """The files that took longest."""
        return sorted((each for staging in self.stagings for each in staging.slowest), key=lambda each: -each.seconds)

    @property
    def sizes(self) -> Counter[int]:
        """How many files have which size: by the number of bits of it."""
        return sum((staging.sizes for staging in self.stagings), Counter())


@dataclass(frozen=True, slots=True)
class Chosen:
    """What a report is about: a project, or one dataset of it, or everything; from a time on (RFC 3339)."""

    project: str = ""
    dataset: str = ""
    since: str = ""

    def concerns(self, project: object, dataset: object) -> bool:
        """Whether it is about something of this project and dataset."""
        return not self.project or (self.project == project and self.dataset in ("", dataset))


def gather(ledger: Ledger, batches: Batches, explain: Explain, chosen: Chosen) -> Gathered:
    """What is on record of what was chosen, and batches of it that are not on record yet."""
    found, verdicts = Gathered(), verdicts_reader(ledger)
    for record in reversed(list(ledger.records())):
        verdicts.take(record)
        mine = chosen.concerns(record.fields.get("project"), record.fields.get("dataset"))
        if not mine or record.recorded_at < chosen.since:
            continue
        if record.kind in _CARRIED:
            found.stagings.append(_of_record(record, batches, explain))
        elif record.kind == RecordKind.VERIFIED:
            found.verifications.append(_verification(record, len(verdicts.after(record))))
        elif record.kind == RecordKind.BUNDLED and isinstance(record.fields.get("bundle_bytes"), int):
            place = record.target
            name = show(place.path.rpartition(b"/")[2]) if place is not None else record.id
            found.bundled.append(Bundled(record.recorded_at, name, record.size, record.fields["bundle_bytes"]))
    found.not_good = [
        each for each in verdicts.all() if chosen.concerns(each.owner.project or None, each.owner.dataset)
    ]
    found.stagings += _unfinished(ledger, batches, explain, chosen)
    found.stagings.sort(key=lambda each: each.at)
    found.ledger_end = _ledger_end(ledger)
    return found


def _unfinished(ledger: Ledger, batches: Batches, explain: Explain, chosen: Chosen) -> Iterator[Staging]:
    """Batches that no record speaks of yet; but for those whose place another one has taken."""
    for batch, journal in batches.opened(finished=False):
        outcome = outcome_of(journal)
        purpose, standing = outcome.header.purpose, outcome.standing
        taken_over = standing.state is BatchState.CANCELLED and standing.detail
        mine = chosen.concerns(purpose.project, purpose.dataset) and _at(outcome.header.created_ns) >= chosen.since
        if mine and not taken_over and standing.state is not BatchState.FINISHED:
            staging = _of_journal(outcome)
            _add_journal(staging, batch, journal, outcome, explain)
            yield staging


def gather_batches(ledger: Ledger, chosen: Iterable[Batch], explain: Explain) -> Gathered:
    """What some batches came to, on record or not."""
    found = Gathered(ledger_end=_ledger_end(ledger))
    for batch in chosen:
        with contextlib.closing(batch.journal()) as journal:
            outcome = outcome_of(journal)
            record = ledger.find(outcome.standing.recorded) if outcome.standing.recorded else None
            staging = _of_fields(record) if record is not None else _of_journal(outcome)
            _add_journal(staging, batch, journal, outcome, explain)
            found.stagings.append(staging)
    found.stagings.sort(key=lambda each: each.at)
    return found


def _ledger_end(ledger: Ledger) -> LedgerEnd | None:
    records = 0
    newest: Record | None = None
    for record in ledger.records():
        newest = newest or record
        records += 1
    if newest is None:
        return None
    return LedgerEnd(
        str(ledger.directory.path),
        newest.file,
        newest.fields.get("number", 0),
        newest.digest,
        newest.recorded_at,
        records,
    )


def _place(place: RecordedPlace | None) -> str:
    if place is None:
        return ""
    return f"{place.node}:{show(place.path)}" if place.node else show(place.path)


def _counts(value: object) -> dict[str, int]:
    """Counts of a record, without what another program may have written there."""
    return {str(key): each for key, each in value.items() if isinstance(each, int)} if isinstance(value, dict) else {}


def _of_fields(record: Record) -> Staging:
    fields = record.fields
    origins = _safely(lambda: record.origins, [])
    words = fields.get("command", [])
    command = " ".join(show(str(word)) for word in words) if isinstance(words, list) else ""
    more = f" and {len(origins) - 1} more" if len(origins) > 1 else ""
    return Staging(
        str(fields.get("batch", record.id)),
        record.recorded_at,
        show(record.who),
        record.kind,
        command,
        _place(origins[0] if origins else None) + more,
        _place(_safely(lambda: record.target, None)),
        show(record.outcome),
        record.outcome == "good",
        show(str(fields.get("dataset", ""))),
        show(str(fields.get("project", ""))),
        True,
        record.count("files"),
        record.size,
        record.count("left_as_is"),
        None,
        record.count("failed"),
        record.count("replaced"),
        _counts(fields.get("evidence")),
        record.digest,
        record.list_digest,
    )


def _safely(read: Callable[[], Any], otherwise: Any) -> Any:
    """What is read of a record, unless another program wrote nonsense."""
    try:
        return read()
    except (KeyError, ValueError, TypeError, AttributeError):
        return otherwise


def _of_record(record: Record, batches: Batches, explain: Explain) -> Staging:
    staging = _of_fields(record)
    with contextlib.suppress(NoSuchBatch, JournalError):
        batch = batches.get(staging.id)
        with contextlib.closing(batch.journal()) as journal:
            _add_journal(staging, batch, journal, outcome_of(journal), explain)
    return staging


def _of_journal(outcome: BatchCounts) -> Staging:
    header, standing = outcome.header, outcome.standing
    origin = header.arrivals[0][0] if header.arrivals else b""
    more = f" and {len(header.arrivals) - 1} more" if len(header.arrivals) > 1 else ""
    good = standing.state is BatchState.FINISHED and outcome.good
    return Staging(
        header.id,
        _at(header.created_ns),
        "",
        "staged",
        " ".join(map(show, header.command)),
        _place(RecordedPlace(header.source_node, origin)) + more,
        _place(RecordedPlace(header.destination_node, header.destination)),
        "good" if good else standing.state.value,
        good,
        show(header.purpose.dataset),
        show(header.purpose.project),
        standing.state is BatchState.FINISHED,
        outcome.moved,
        outcome.moved_size,
        outcome.left,
        outcome.left_size,
        outcome.failed,
        outcome.replaced,
        {evidence.value: count for evidence, count in outcome.evidence.items()},
    )


def _at(ns: int) -> str:
    return datetime.fromtimestamp(ns / 1e9, UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


def _add_journal(staging: Staging, batch: Batch, journal: Journal, outcome: BatchCounts, explain: Explain) -> None:
    """Add to a staging what only its journal knows."""
    header = outcome.header
    staging.left_size, staging.sent, staging.seconds = outcome.left_size, outcome.sent, outcome.standing.seconds
    staging.expected_seconds = header.expected_seconds or None
    staging.pace = journal.pace()
    staging.marks = [(at, _MARKS[type(event)]) for at, event in read_events(batch) if type(event) in _MARKS]
    staging.failures = list(_failures(batch.name, journal, explain))
    staging.slowest = [
        SlowFile(batch.name, show(step.label), step.facts.size, seconds) for step, seconds in journal.slowest()
    ]
    staging.sizes = Counter(size.bit_length() for size in journal.file_sizes())
    stored = ((show(label.rpartition(b"/")[2]), before, after) for label, before, after in journal.bundled())
    staging.bundled = [Bundled(staging.at, *each) for each in stored]


def _failures(name: str, journal: Journal, explain: Explain) -> Iterator[Failure]:
    for step in journal.steps(StepState.FAILED):
        if step.fault not in CONSEQUENCES and step.kind is not StepKind.FACTS:
            why = explain(step.fault, step.detail) if step.fault is not None else "unknown"
            yield Failure(name, show(step.label), show(why))


def _verification(record: Record, still: int) -> Verification:
    origins = _safely(lambda: record.origins, [])
    return Verification(
        record.id,
        record.recorded_at,
        show(record.who),
        _place(origins[0] if origins else None),
        show(record.outcome),
        show(str(record.fields.get("dataset", ""))),
        show(str(record.fields.get("at", ""))),
        record.count("files"),
        record.size,
        _counts(record.fields.get("evidence")),
        record.digest,
        still,
    )
