"""How a dataset stands, in words."""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Sequence

from yatagan.cli.terminal import text
from yatagan.cli.words.area_words import age
from yatagan.config.project import Use
from yatagan.operations.dataset_states import DatasetState
from yatagan.verdicts.scope import StillNotGood
from yatagan.verdicts.since import Since

#: Files that are named before the rest is only counted.
_NAMED = 3


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
        again = text.command("verify", "--dataset", dataset, "--side", end)
        record = bad[0].record
        known = ", ".join(text.show(each) for each in record.fields.get("evidence", {}))
        yield f"{where}: {what} {was} not good {text.ago(record.recorded_at)} ({known}); look again: {again}"


def _verdict_key(bad: StillNotGood) -> tuple[str, str, str]:
    return bad.owner.end, bad.record.id, bad.owner.machine


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
