"""Steps as rows of the journal, and the statements that change them. No I/O."""

from __future__ import annotations

import functools
import json
from typing import Any

from yatagan.batches.states import Evidence, StepState, may_move
from yatagan.batches.steps import Beginning, Change, Setting, Step, StepKind
from yatagan.faults import Fault
from yatagan.stores.interface import Facts, Kind

#: States of steps that are not settled.
OPEN = ("waiting", "moving", "arrived", "proven")
#: Number of this form of the tables: a journal of another one is refused, not misread.
FORMAT = 13
#: What an older form lacks, by its number; such a journal is brought to this one when it is opened.
_PACE = "CREATE TABLE pace (at INTEGER PRIMARY KEY, seconds INTEGER, sent INTEGER, placed INTEGER, files INTEGER)"
_SLOWEST = "CREATE TABLE slowest (number INTEGER PRIMARY KEY, seconds REAL)"
_GONE = "CREATE TABLE gone (label BLOB PRIMARY KEY)"
_ADDED_BY_13 = (
    "ALTER TABLE batch ADD COLUMN looked_ns INTEGER NOT NULL DEFAULT 0",
    "ALTER TABLE step ADD COLUMN setting TEXT NOT NULL DEFAULT ''",
)
_ADDED_BY_12 = (
    "ALTER TABLE batch ADD COLUMN purpose TEXT NOT NULL DEFAULT '{}'",
    _PACE,
    _SLOWEST,
    _GONE,
    *_ADDED_BY_13,
)
_ADDED_BY_11 = (
    "ALTER TABLE step ADD COLUMN beginning TEXT",
    "ALTER TABLE step ADD COLUMN continues INTEGER NOT NULL DEFAULT 0",
    *_ADDED_BY_12,
)
ADDED = {
    9: (
        "ALTER TABLE batch ADD COLUMN expected REAL NOT NULL DEFAULT 0",
        "ALTER TABLE batch ADD COLUMN modelled REAL NOT NULL DEFAULT 0",
        *_ADDED_BY_11,
    ),
    10: _ADDED_BY_11,
    11: _ADDED_BY_12,
    12: _ADDED_BY_13,
}
SCHEMA = f"""
CREATE TABLE batch (
    id TEXT NOT NULL, created_ns INTEGER NOT NULL, command TEXT NOT NULL, source_node TEXT NOT NULL,
    destination_node TEXT NOT NULL, destination BLOB NOT NULL, prove TEXT NOT NULL,
    modes TEXT NOT NULL, times TEXT NOT NULL, arrivals TEXT NOT NULL, options TEXT NOT NULL,
    max_rate INTEGER NOT NULL,
    state TEXT NOT NULL, fault TEXT, detail TEXT NOT NULL DEFAULT '', pins TEXT NOT NULL DEFAULT '{{}}',
    seconds REAL NOT NULL DEFAULT 0, recorded TEXT NOT NULL DEFAULT '', top_inode INTEGER NOT NULL DEFAULT 0,
    make_again INTEGER NOT NULL DEFAULT 0, promised TEXT NOT NULL DEFAULT '',
    expected REAL NOT NULL DEFAULT 0, modelled REAL NOT NULL DEFAULT 0,
    purpose TEXT NOT NULL DEFAULT '{{}}', looked_ns INTEGER NOT NULL DEFAULT 0);
CREATE TABLE step (
    number INTEGER PRIMARY KEY, phase INTEGER NOT NULL, kind TEXT NOT NULL, source BLOB NOT NULL,
    path BLOB NOT NULL, label BLOB NOT NULL, size INTEGER NOT NULL, facts TEXT NOT NULL, target BLOB, seen TEXT,
    state TEXT NOT NULL, generation INTEGER NOT NULL, session INTEGER NOT NULL, durable TEXT NOT NULL,
    sent INTEGER NOT NULL, digest TEXT NOT NULL, evidence TEXT, fault TEXT,
    detail TEXT NOT NULL, bundle INTEGER NOT NULL, reused INTEGER NOT NULL, checkpoints TEXT NOT NULL,
    adopts BLOB NOT NULL, holes INTEGER NOT NULL, beginning TEXT,
    continues INTEGER NOT NULL DEFAULT 0, setting TEXT NOT NULL DEFAULT '');
CREATE INDEX step_bundle ON step (bundle, number) WHERE bundle > 0;
CREATE INDEX step_open ON step (phase, number) WHERE state IN {OPEN!r};
CREATE INDEX step_growing ON step (number) WHERE beginning IS NOT NULL;
CREATE TABLE session (number INTEGER PRIMARY KEY, witness TEXT NOT NULL);
{_PACE};
{_SLOWEST};
{_GONE};
PRAGMA user_version = {FORMAT};
"""

#: What a step is read from, in this order.
COLUMNS = (
    "number, phase, kind, source, path, label, facts, target, seen, state, generation, session, durable, "
    "sent, digest, evidence, fault, detail, bundle, reused, checkpoints, adopts, holes, beginning, continues, setting"
)
#: What a change may change.
_CHANGING = Change._fields[1:]
#: The columns that change, the new state, and the values.
Shape = tuple[tuple[str, ...], StepState | None, tuple[object, ...]]


def storable(text: str) -> str:
    """Text as SQLite takes it: a name in it may hold bytes that are not UTF-8."""
    return text.encode("utf-8", "backslashreplace").decode("utf-8")


def shape(change: Change) -> Shape:
    """What equal changes have in common: columns, new state, and values."""
    given = zip(_CHANGING, change[1:], strict=True)
    values: dict[str, object] = {name: value for name, value in given if value is not None}
    if change.detail is not None:
        values["detail"] = storable(change.detail)
    if change.facts is not None:
        values["size"] = change.facts.size
        values["facts"] = _encode(change.facts)
    return tuple(values), change.state, tuple(values.values())


@functools.lru_cache(maxsize=256)
def update(names: tuple[str, ...], state: StepState | None, count: int) -> str:
    """The statement that changes these columns of `count` steps, but of none that may not go to the new state.

    Bytes sent are added up over all tries. A new state clears the fault.
    """
    which = f"number IN ({', '.join('?' * count)})"
    changes = [f"{name} = {'sent + ?' if name == 'sent' else '?'}" for name in names]
    if state is None:
        return f"UPDATE step SET {', '.join(changes)} WHERE {which}"
    changes += [f"{name} = {value}" for name, value in (("fault", "NULL"), ("detail", "''")) if name not in names]
    before = ", ".join(f"'{old.value}'" for old in StepState if may_move(old, state))
    return f"UPDATE step SET {', '.join(changes)} WHERE {which} AND state IN ({before})"


def row_of(step: Step) -> tuple[object, ...]:
    """All columns of a step."""
    return (
        step.number,
        step.phase,
        step.kind.value,
        step.source,
        step.path,
        step.label,
        step.facts.size,
        _encode(step.facts),
        step.target,
        _encode(step.seen),
        step.state.value,
        step.generation,
        step.session,
        step.durable,
        step.sent,
        step.digest,
        step.evidence,
        step.fault,
        step.detail,
        step.bundle,
        step.reused,
        step.checkpoints,
        step.adopts,
        step.holes,
        json.dumps(step.beginning) if step.beginning is not None else None,
        step.continues,
        step.setting.value,
    )


def step_of(row: tuple[Any, ...]) -> Step:
    """The step in a row of `COLUMNS`."""
    values = list(row)
    values[2] = StepKind(values[2])
    values[6] = decode_facts(values[6])
    values[8] = decode_facts(values[8]) if values[8] else None
    values[9] = StepState(values[9])
    values[15] = Evidence(values[15]) if values[15] else None
    values[16] = Fault(values[16]) if values[16] else None
    values[23] = Beginning(*json.loads(values[23])) if values[23] else None
    values[24] = bool(values[24])
    values[25] = Setting(values[25])
    return Step(*values)


def _encode(facts: Facts | None) -> str | None:
    """Facts as text for the journal."""
    if facts is None:
        return None
    return json.dumps(
        [facts.kind.value, facts.size, facts.mtime_ns, facts.mode, facts.changed_ns, facts.inode],
        separators=(",", ":"),
    )


def decode_facts(text: str) -> Facts:
    """The reverse of `_encode`."""
    kind, *rest = json.loads(text)
    return Facts(Kind(kind), *rest)
