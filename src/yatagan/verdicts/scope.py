"""What verdicts on record still say. A verdict has a scope: at which place, on which files, by which evidence.

A later verdict, or a carry that was proven, replaces an earlier one only for the files that it covers, and only with at
least its evidence. The rest of the earlier one still counts. Decided here alone, for every view. No I/O.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping
from dataclasses import dataclass
from enum import IntEnum

from yatagan.ledger.records import Record, RecordedPlace, RecordKind
from yatagan.places import holds, name_fields, name_from
from yatagan.trees.patterns import Choice
from yatagan.verdicts.verification import Finding, Verdicts

#: Files that a record names as not good, and bytes of their names; of more only the number is on record.
MOST_NAMED, _MOST_BYTES = 500, 100_000
#: Findings that are not good.
BAD = (Finding.DIFFERENT, Finding.MISSING, Finding.MOVED, Finding.UNREADABLE, Finding.FACTS_DIFFER)


class Weight(IntEnum):
    """The order of evidence, the weakest first."""

    NONE = 0
    SENT = 1
    SIZE_AND_TIME = 2
    REMEMBERED = 3
    #: On-node, read-back, on-arrival, read-here: contents were read.
    READ = 4


_WEIGHTS = {"sent": Weight.SENT, "size and time": Weight.SIZE_AND_TIME, "remembered": Weight.REMEMBERED}


def weight_of(evidence: Iterable[str]) -> Weight:
    """How much evidence weighs, by its names on record: as much as the weakest of it."""
    return min((_WEIGHTS.get(name, Weight.READ) for name in evidence), default=Weight.NONE)


@dataclass(frozen=True, slots=True)
class Owner:
    """Whose paths they are: of one end of a dataset, or of a machine. `machine` is a node, or the host that wrote."""

    machine: str
    project: str = ""
    dataset: str = ""
    end: str = ""


@dataclass(frozen=True, slots=True)
class StillNotGood:
    """A file that was not good when it was last verified well enough to say so.

    `path` is below the dataset's root, or absolute; None for files that the record does not name, of which there are
    `more`. `finding`: what was wrong.
    """

    owner: Owner
    path: bytes | None
    finding: str
    weight: Weight
    record: Record
    root: bytes = b""
    more: int = 0

    @property
    def at(self) -> str:
        """When it was found, by RFC 3339."""
        return self.record.recorded_at


@dataclass(frozen=True, slots=True)
class Carried:
    """What a record of a stage says of one end: these paths were proven, those are gone from the source."""

    owners: tuple[tuple[Owner, bytes], ...]
    proven: Collection[bytes]
    gone: Collection[bytes]


#: What the record of a stage has carried, and the paths on the list of the record of a verdict.
ReadCarried = Callable[[Record], Iterable[Carried]]
ReadListed = Callable[[Record], Collection[bytes]]


def named_on_record(verdicts: Verdicts) -> list[dict[str, str]]:
    """The files that are not good, for a record: `[{"path": "a.csv", "finding": "different"}]`."""
    named: list[dict[str, str]] = []
    room = _MOST_BYTES
    for found in verdicts.found:
        if found.finding in BAD:
            room -= len(found.path)
            if len(named) == MOST_NAMED or room < 0:
                break
            named.append({**name_fields(found.path or b"."), "finding": found.finding.value})
    return named


class VerdictsOnRecord:
    """Takes records, the oldest first, and knows what is still not good after each."""

    def __init__(self, carried: ReadCarried, listed: ReadListed) -> None:
        self._carried = carried
        self._listed = listed
        self._bad: dict[tuple[Owner, bytes | None, str], StillNotGood] = {}

    def take(self, record: Record) -> None:
        """Take the next record. What another program wrote, and makes no sense, is passed over."""
        if record.kind == RecordKind.VERIFIED:
            self._verified(record)
        elif record.kind in (RecordKind.STAGED, RecordKind.RESTORED) and self._bad:
            self._staged(record)

    def of_dataset(self, project: str, dataset: str) -> list[StillNotGood]:
        """What is still not good of a dataset, at either end."""
        return [each for each in self._bad.values() if (each.owner.project, each.owner.dataset) == (project, dataset)]

    def all(self) -> list[StillNotGood]:
        """Everything that is still not good."""
        return list(self._bad.values())

    def after(self, record: Record) -> list[StillNotGood]:
        """What is still not good of what the record of a verdict, just taken, is about."""
        owner, root = _owner(record)
        return [each for each in self._bad.values() if each.owner == owner and _below(root, _whole(each))]

    def _verified(self, record: Record) -> None:
        owner, root = _owner(record)
        weight = weight_of(_counts(record, "evidence"))
        about = [(owner, root)]
        if owner.dataset and (place := _place(record)) is not None:
            about.append((Owner(place.node or _host(record)), place.path))  # it says as much of the place
        covered = self._cover(record, bool(owner.dataset))
        for key, bad in list(self._bad.items()):
            if any(_replaces(bad, record, each, below, covered, weight) for each, below in about):
                del self._bad[key]
        self._add(record, owner, root, weight)

    def _add(self, record: Record, owner: Owner, root: bytes, weight: Weight) -> None:
        """Add what a record says is not good."""
        if record.outcome == "good":
            return
        named = _named(record)
        for path, finding in named:
            # A mode or a time that differs is found by a look.
            own = Weight.SIZE_AND_TIME if finding == Finding.FACTS_DIFFER else weight
            whole = root + b"/" + path if root and path else root or path
            earlier = self._bad.get((owner, whole, ""))
            if earlier is None or earlier.weight <= own:  # else what was known better still counts
                self._bad[owner, whole, ""] = StillNotGood(owner, whole, finding, own, record, root)
        counts = _counts(record, "counts")
        more = sum(counts.get(finding.name.lower(), 0) for finding in BAD) - len(named)
        if more > 0 or not named:
            self._bad[owner, None, record.id] = StillNotGood(owner, None, "", weight, record, root, max(more, 0))

    def _cover(self, record: Record, of_dataset: bool) -> Callable[[bytes], bool]:
        """Which paths below its root a record is about: those that its patterns choose, and its list names."""
        choice = _choice(record)
        if choice is None:
            return lambda path: False
        if of_dataset:
            return choice.chooses
        listed: Collection[bytes] | None = None

        def covers(path: bytes) -> bool:
            nonlocal listed
            if listed is None:
                listed = frozenset(self._listed(record))
            return choice.chooses(path) and path in listed

        return covers

    def _staged(self, record: Record) -> None:
        """A carry that was proven: what it brought is right, at both ends."""
        weight = weight_of(name for name in _counts(record, "evidence") if name != "size and time")
        for carried in self._carried(record):
            for key, bad in list(self._bad.items()):
                for owner, root in carried.owners:
                    if bad.path is None or bad.owner != owner or not _below(root, bad.path):
                        continue
                    inside = bad.path[len(root) :].lstrip(b"/")
                    if inside in carried.gone or (inside in carried.proven and weight >= bad.weight):
                        self._bad.pop(key, None)


def _below(root: bytes, path: bytes) -> bool:
    """Whether a path is at or below a root; below an empty one all are that have no slash in front."""
    return holds(root, path) if root else not path.startswith(b"/")


def _whole(bad: StillNotGood) -> bytes:
    return bad.root if bad.path is None else bad.path


def _replaces(
    bad: StillNotGood, record: Record, owner: Owner, root: bytes, covers: Callable[[bytes], bool], weight: Weight
) -> bool:
    """Whether a later verdict says anew what an earlier one has said of a file, by evidence that is no weaker."""
    if bad.owner != owner or weight < bad.weight:
        return False
    if bad.path is None:  # files without a name: only a verdict on all that was meant says it of them
        patterns = ("only", "skip")
        wide = all(record.fields.get(name, []) in ([], bad.record.fields.get(name, [])) for name in patterns)
        same = owner.dataset or record.list_digest == bad.record.list_digest
        return bool(wide and same and root == bad.root)
    return _below(root, bad.path) and covers(bad.path[len(root) :].lstrip(b"/"))


def _owner(record: Record) -> tuple[Owner, bytes]:
    """What a verdict is about, and the root of its paths."""
    fields = record.fields
    place = _place(record)
    host = (place.node if place is not None else "") or _host(record)
    if fields.get("dataset") and fields.get("at"):
        names = (str(fields.get(name, "")) for name in ("project", "dataset", "at"))
        # On a node it is one place for all; here each machine has its own.
        return Owner(host if fields["at"] == "here" else "", *names), b""
    return Owner(host), place.path if place is not None else b""


def _host(record: Record) -> str:
    return "@" + record.who.rpartition("@")[2]


def _place(record: Record) -> RecordedPlace | None:
    try:
        return next(iter(record.origins), None)
    except (KeyError, ValueError, TypeError, AttributeError):
        return None


def _counts(record: Record, field: str) -> Mapping[str, int]:
    found = record.fields.get(field, {})
    return {str(name): count for name, count in found.items() if isinstance(count, int)} if found else {}


def _named(record: Record) -> list[tuple[bytes, str]]:
    """The files that a record names as not good."""
    try:
        lines = record.fields.get("not_good", [])
        found = [(name_from(line), str(line["finding"])) for line in lines]
        return [(b"" if path == b"." else path, finding) for path, finding in found]
    except (KeyError, ValueError, TypeError, AttributeError):
        return []


def _choice(record: Record) -> Choice | None:
    """The patterns of a record; None where they cannot be read."""
    try:
        given = (record.fields.get(name, []) for name in ("only", "skip"))
        return Choice(*([pattern.encode("utf-8", "surrogateescape") for pattern in each] for each in given))
    except (ValueError, TypeError, AttributeError):
        return None
