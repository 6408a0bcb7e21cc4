"""What is still not good, read from a ledger."""

from __future__ import annotations

from collections.abc import Iterator

from yatagan.ledger.ledger import Ledger
from yatagan.ledger.records import Record, RecordedPlace, RecordKind
from yatagan.ledger.tree_history import CarriedTree, inside, recorded_digests, recorded_facts, trees_of
from yatagan.places import holds
from yatagan.verdicts.scope import Carried, Owner, VerdictsOnRecord


def verdicts_reader(ledger: Ledger) -> VerdictsOnRecord:
    """What takes the records of a ledger, and reads their lists where it must."""
    return VerdictsOnRecord(lambda record: _carried(ledger, record), lambda record: recorded_digests(ledger, record))


def verdicts_on_record(ledger: Ledger) -> VerdictsOnRecord:
    """What is still not good by all records of a ledger."""
    found = verdicts_reader(ledger)
    for record in reversed(list(ledger.records())):
        found.take(record)
    return found


def _carried(ledger: Ledger, record: Record) -> Iterator[Carried]:
    """What the record of a stage has carried, tree by tree."""
    digests, (_, gone) = recorded_digests(ledger, record), recorded_facts(ledger, record)
    for tree in trees_of(record):
        owners = tuple(_owners(record, tree))
        proven = {inside(path, tree.name) for path in digests if holds(tree.name, path)}
        yield Carried(owners, proven, {inside(path, tree.name) for path in gone if holds(tree.name, path)})


def _owners(record: Record, tree: CarriedTree) -> Iterator[tuple[Owner, bytes]]:
    """Both ends of a tree: as places, and as ends of a dataset. Of what was restored the source may be anything."""
    fields, host = record.fields, "@" + record.who.rpartition("@")[2]
    restored = record.kind == RecordKind.RESTORED
    ends: list[tuple[RecordedPlace, str]] = [(tree.target, str(fields.get("towards", "")))]
    if not restored:
        ends.append((tree.origin, {"here": "there", "there": "here"}.get(ends[0][1], "")))
    for place, end in ends:
        yield Owner(place.node or host), place.path
        if fields.get("dataset") and end:
            machine = host if end == "here" else ""
            yield Owner(machine, str(fields.get("project", "")), str(fields["dataset"]), end), b""
