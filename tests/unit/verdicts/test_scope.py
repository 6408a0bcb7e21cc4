"""A later verdict replaces an earlier one only where it looked, and only by evidence that is no weaker."""

from __future__ import annotations

from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from yatagan.ledger.records import Record
from yatagan.reports.gathering import Gathered, Staging, Verification
from yatagan.reports.verdict import DatasetRow, Level, level_of, verdict
from yatagan.verdicts.scope import Carried, Owner, VerdictsOnRecord

NAMES = ["a", "b", "c", "d/a", "d/e"]


WEIGHTS = {"sent": 1, "size and time": 2, "remembered": 3, "on-node": 4, "read-back": 4}


verified = st.fixed_dictionaries(
    {
        "kind": st.just("verified"),
        "end": st.sampled_from(["here", "there"]),
        "only": st.sampled_from([[], ["a"], ["d"], ["b", "c"]]),
        "evidence": st.sampled_from(sorted(WEIGHTS)[:-1]),
        "bad": st.sets(st.sampled_from(NAMES), max_size=3),
        "finding": st.sampled_from(["different", "facts differ"]),
        "named": st.booleans(),
    }
)


staged = st.fixed_dictionaries(
    {
        "kind": st.just("staged"),
        "evidence": st.sampled_from(sorted(WEIGHTS.keys() - {"size and time"})),
        "proven": st.sets(st.sampled_from(NAMES)),
        "gone": st.sets(st.sampled_from(NAMES), max_size=1),
    }
)


def covers(event: dict[str, Any], path: str) -> bool:
    """What patterns of these few names choose."""
    only = event["only"]
    return not only or any(path == each or path.startswith(each + "/") or path.endswith("/" + each) for each in only)


def still_bad(events: list[dict[str, Any]]) -> set[tuple[str, str]]:
    """What is not good at the end: each finding, unless a later event that is as good says it anew."""
    found = set()
    for at, event in enumerate(events):
        for path in event.get("bad", ()):
            if not covers(event, path):
                continue
            weight = 2 if event["finding"] == "facts differ" else WEIGHTS[event["evidence"]]
            replaced = False
            for later in events[at + 1 :]:
                as_good = WEIGHTS[later["evidence"]] >= weight
                if later["kind"] == "verified":
                    replaced |= later["end"] == event["end"] and covers(later, path) and as_good
                else:
                    replaced |= path in later["gone"] or (path in later["proven"] and as_good)
            if not replaced:
                found.add((event["end"], path))
    return found


def record_of(number: int, event: dict[str, Any]) -> Record:
    fields: dict[str, Any] = {
        "id": str(number),
        "kind": event["kind"],
        "who": "mara@tern",
        "project": "fen-flux",
        "dataset": "chambers",
        "recorded_at": f"2026-11-{number + 1:02}T00:00:00Z",
        "evidence": {event["evidence"]: 3},
        "event": event,
    }
    if event["kind"] == "verified":
        bad = sorted(path for path in event["bad"] if covers(event, path))
        fields |= {"at": event["end"], "only": event["only"], "outcome": "not good" if bad else "good"}
        fields["from"] = [{"node": "heron" if event["end"] == "there" else "", "path": "/fen"}]
        fields["counts"] = {event["finding"].replace(" ", "_"): len(bad)}
        fields["not_good"] = [{"path": path, "finding": event["finding"]} for path in bad]
    return Record(fields, "", "")


def carried(record: Record) -> list[Carried]:
    owners = tuple(
        (Owner("@tern" if end == "here" else "", "fen-flux", "chambers", end), b"") for end in ("here", "there")
    )
    event = record.fields["event"]
    proven, gone = ({path.encode() for path in event[name]} for name in ("proven", "gone"))
    return [Carried(owners, proven, gone)]


@given(st.lists(verified | staged, max_size=8))
def test_only_as_good_a_look_replaces_a_verdict(events: list[dict[str, Any]]) -> None:
    verdicts = VerdictsOnRecord(carried, lambda record: [])
    for number, event in enumerate(events):
        verdicts.take(record_of(number, event))
    found = {(each.owner.end, each.path.decode()) for each in verdicts.all() if each.path is not None}
    assert found == still_bad(events)


STATES = ["good", "with failures", "held", "moving", "queued", "interrupted", "cancelled", "needs a login"]


stagings = st.builds(
    lambda outcome, at, dataset: Staging(
        "id", at, "", "staged", "", "", "", outcome, outcome == "good", dataset, ended=outcome in STATES[:2]
    ),
    st.sampled_from(STATES),
    st.sampled_from(["2026-11-01", "2026-11-03"]),
    st.sampled_from(["", "chambers"]),
)


rows = st.builds(
    lambda level, why: DatasetRow("chambers", "", 1, 1, "", "", "", why if level else "", level),
    st.sampled_from([Level.GOOD, Level.WARNING, Level.TROUBLE]),
    st.sampled_from(["not staged", "changed since"]),
)


verifications = st.builds(
    lambda outcome, still: Verification(
        "i", "2026-11-02", "", "/fen", outcome, "chambers", "here", 1, 1, {}, "", still
    ),
    st.sampled_from(["good", "not good"]),
    st.integers(0, 1),
)


@given(st.lists(stagings, max_size=4), st.lists(rows, max_size=3), st.lists(verifications, max_size=2))
def test_a_page_is_never_better_than_its_worst_row(
    batches: list[Staging], datasets: list[DatasetRow], verified: list[Verification]
) -> None:
    found = Gathered(batches, verified)
    said = verdict(found, datasets)
    assert said.level >= max([level_of(each, found) for each in batches] + [row.level for row in datasets], default=-1)
    if not all(each.good for each in batches):
        assert "all that was staged" not in said.words.lower()
        assert said.level > Level.GOOD
    for state in {each.outcome for each in batches if not each.ended}:
        assert state in said.words
    for row in datasets:
        assert row.wanting.lower() in said.words.lower()
