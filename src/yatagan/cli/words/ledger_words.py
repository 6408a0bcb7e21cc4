"""What a check of a ledger has found, in words."""

from __future__ import annotations

from collections.abc import Sequence

from yatagan.cli.terminal import text
from yatagan.ledger.findings import Checked, LedgerFinding, Problem, Witness

#: What is wrong with records, with their numbers for `{}`.
_WORDS = {
    Problem.NO_RECORD: "{} was changed: it cannot be read as one",
    Problem.OF_ANOTHER_FILE: "{} is not this file's",
    Problem.CHANGED: "{} was changed",
    Problem.ONE_OF_TWO_CHANGED: "one of {} was changed",
    Problem.MISSING: "missing: {}",
    Problem.CUT_OFF: "missing at the end: {}",
    Problem.REWRITTEN: "rewritten: {}",
    Problem.OUT_OF_ORDER: "out of order: {}",
    Problem.TWICE: "there twice: {}",
    Problem.ADDED: "{} was added by hand",
    Problem.DOES_NOT_FOLLOW: "{} does not follow the one before it",
    Problem.FILE_MISSING: "the file is missing, with {}",
    Problem.KEYS_UNREADABLE: "it cannot be read, so no signature counts: its owner must let you read it (chmod a+r)",
    Problem.FILE_UNREADABLE: "the file cannot be read, and so cannot be checked",
}


def finding_lines(findings: Sequence[LedgerFinding]) -> list[str]:
    """A line for each cause, however many records it concerns."""
    causes: dict[tuple[str, ...], list[LedgerFinding]] = {}
    for finding in findings:
        causes.setdefault(_cause(finding), []).append(finding)
    return [_line(alike) for alike in causes.values()]


def _cause(finding: LedgerFinding) -> tuple[str, ...]:
    """What findings have in common that are one line."""
    match finding.problem:
        case Problem.LIST_CHANGED | Problem.LIST_MISSING:
            return finding.problem, finding.detail
        case Problem.BAD_SIGNATURE:
            return finding.problem, finding.file, finding.detail
        case Problem.NO_RECORD | Problem.ADDED:
            return finding.problem, finding.file
        case _:
            return finding.problem, finding.file, str(finding.witness), str(finding.first or finding.line)


def _line(alike: Sequence[LedgerFinding]) -> str:
    first, file = alike[0], text.show(alike[0].file)
    records = _records([each for each in alike if each.file == first.file])
    match first.problem:
        case Problem.NOT_FOUND:
            return f"no record has the digest {text.show(first.detail)}: its record was changed, or is missing"
        case Problem.LIST_CHANGED | Problem.LIST_MISSING:
            what = "was changed" if first.problem is Problem.LIST_CHANGED else "is missing"
            elsewhere = sum(each.file != first.file for each in alike)
            more = f", and of {text.number(elsewhere)} in other files" if elsewhere else ""
            return f"lists/{text.show(first.detail)} {what}: the checksum list of {records} of {file}{more}"
        case Problem.BAD_SIGNATURE:
            holds = "signature does not hold" if len(alike) == 1 else "signatures do not hold"
            return f"{file}: {records}: the {holds}: {first.detail}"
        case Problem.NOT_PLAIN:
            return f"{file}: {first.detail}, which no ledger has; not read"
        case Problem.NO_RECORD | Problem.ADDED if len(alike) > 1:
            what = "were changed: they cannot be read" if first.problem is Problem.NO_RECORD else "were added by hand"
            return f"{file}: {records} {what}"
        case Problem.FORK:
            return f"{file}: two continuations from {records} on, also {text.show(first.detail)}"
        case _:
            return f"{file}: {_WORDS[first.problem].format(records)}{_seen_by(first.witness)}"


def _records(alike: Sequence[LedgerFinding]) -> str:
    """`record 3`, `records 3 to 7, 12`, with their ids where there is one only, or `line 4` for what has no number."""
    spans: list[tuple[int, int]] = []
    for finding in sorted(alike, key=lambda each: each.first):
        if spans and finding.first == spans[-1][1] + 1:
            spans[-1] = (spans[-1][0], finding.last)
        else:
            spans.append((finding.first, finding.last))
    only = alike[0]
    if not only.first:
        many = f" and {text.number(len(alike) - 1)} more" if len(alike) > 1 else ""
        return f"line {text.number(only.line)}{many}" if only.line else "its records"
    shown = [_span(*span) for span in spans[:3]]
    more = f" and {text.number(len(spans) - 3)} more" if len(spans) > 3 else ""
    one = len(alike) == 1 and only.first == only.last
    name = f" ({text.show(only.id)})" if one and only.id else ""
    return f"record{'' if one else 's'} {', '.join(shown)}{more}{name}"


def _span(first: int, last: int) -> str:
    return text.number(first) if first == last else f"{text.number(first)} to {text.number(last)}"


def _seen_by(witness: Witness | None) -> str:
    if witness is None:
        return ""
    if not witness.file:
        return ", which this machine has seen otherwise"
    return f", as record {text.number(witness.number)} of {text.show(witness.file)} has it"


def vouching_rows(checked: Checked) -> list[tuple[str, str]]:
    """What the check can vouch for, and what not."""
    seen = sum(end.seen for end in checked.ends)
    as_seen = f"{text.number(seen)} of {text.number(checked.records)}, as another writer or this machine has them"
    return [
        ("signed", _signed(checked)),
        ("seen", as_seen if seen else ""),
        ("not seen", _unseen(checked) if checked.good else ""),
    ]


def _unseen(checked: Checked) -> str:
    """What could have been done to the ledger without any trace."""
    ends = [end for end in checked.ends if end.seen < end.records]
    if not ends:
        return ""
    count = text.count(sum(end.records - end.seen for end in ends), "record")
    where = f"{count} at the end of {text.count(len(ends), 'file')}"
    if all(end.signed == end.records for end in ends):
        return f"{where}: a cut there would go unnoticed"
    return f"{where}: a change or a cut there would go unnoticed"


def _signed(checked: Checked) -> str:
    if checked.signers:
        by = ", ".join(f"{text.number(count)} by {text.show(name)}" for name, count in sorted(checked.signers.items()))
        return by + (f"; {text.number(checked.unsigned)} not signed" if checked.unsigned else "")
    if checked.unknown:
        by = ", ".join(f"{text.number(count)} by {key}" for key, count in sorted(checked.unknown.items()))
        return f"{by}, and no key is trusted yet: {text.command('ledger', 'trust')} NAME KEY"
    if not checked.records:
        return ""
    return "none: that makes it consistent, not tamper-proof" if checked.good else "none"
