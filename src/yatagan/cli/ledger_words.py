"""What a check of a ledger has found, in words."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from itertools import groupby
from typing import Any

from yatagan.cli import text
from yatagan.ledger.findings import Checked, FileEnd, Finding, Problem, Witness

#: What is wrong with records, with their numbers for `{}`.
_WORDS = {
    Problem.NO_RECORD: "{} was changed: it cannot be read as one",
    Problem.OF_ANOTHER_FILE: "{} is not this file's",
    Problem.CHANGED: "{} was changed",
    Problem.ONE_OF_TWO_CHANGED: "one of {} was changed",
    Problem.MISSING: "{} missing",
    Problem.CUT_OFF: "{} missing at the end",
    Problem.REWRITTEN: "{} rewritten",
    Problem.OUT_OF_ORDER: "{} out of order",
    Problem.TWICE: "{} there twice",
    Problem.ADDED: "{} was added by hand",
    Problem.DOES_NOT_FOLLOW: "{} does not follow the one before it",
    Problem.FILE_MISSING: "the file is missing, with {}",
    Problem.FORK: "two continuations from {} on",
    Problem.LIST_CHANGED: "{}: the checksum list was changed",
    Problem.LIST_MISSING: "{}: the checksum list is missing",
    Problem.BAD_SIGNATURE: "{}: the signature does not hold:",
}


def finding_lines(findings: Sequence[Finding]) -> list[str]:
    """A line for each cause: neighbours with the same problem are one."""
    lines = []
    for _, alike in groupby(findings, key=lambda each: (each.file, each.problem, each.detail * _by_detail(each))):
        lines += [_line(group) for group in _runs(list(alike))]
    return lines


def _by_detail(finding: Finding) -> bool:
    return finding.problem is Problem.BAD_SIGNATURE


def _runs(findings: list[Finding]) -> Iterable[list[Finding]]:
    """Findings about records that follow each other, together; those that have witnesses alone."""
    run: list[Finding] = []
    for finding in findings:
        if run and (finding.witness or not finding.first or finding.first != run[-1].last + 1):
            yield run
            run = []
        run.append(finding)
    if run:
        yield run


def _line(run: list[Finding]) -> str:
    first, last = run[0], run[-1]
    if first.problem is Problem.NOT_FOUND:
        return f"no record has the digest {text.show(first.detail)}: what it pinned was changed, or is missing"
    numbers = _numbers(first.first, last.last, first.line)
    words = _WORDS[first.problem].format(numbers)
    if first.problem is Problem.BAD_SIGNATURE:
        words += f" {first.detail}"
    if first.problem is Problem.FORK:
        words += f", also {text.show(first.detail)}"
    return f"{text.show(first.file)}: {words}{_seen_by(first.witness)}"


def _numbers(first: int, last: int, line: int) -> str:
    if not first:
        return f"line {text.number(line)}" if line else "its records"
    if first == last:
        return f"record {text.number(first)}"
    return f"records {text.number(first)} to {text.number(last)}"


def _seen_by(witness: Witness | None) -> str:
    if witness is None:
        return ""
    if not witness.file:
        return ", which this machine has seen otherwise"
    return f", as record {text.number(witness.number)} of {text.show(witness.file)} has it"


def vouching_rows(checked: Checked) -> list[tuple[str, str]]:
    """What the check can vouch for, and what not."""
    seen, ends = sum(end.seen for end in checked.ends), [end for end in checked.ends if end.seen < end.records]
    held = sum(max(end.seen, end.signed) for end in checked.ends)
    rows = [
        ("signed", _signed(checked)),
        ("seen", f"{text.count(seen, 'record')} by other writers or this machine, as they are now" if seen else ""),
    ]
    if checked.records - held > 0 and checked.good:
        rows.append(("not held", f"{text.count(checked.records - held, 'record')} that nobody else has seen or signed"))
    if ends and checked.good:
        rows.append(("cannot see", _ends(ends)))
    return rows


def _signed(checked: Checked) -> str:
    if checked.signers:
        by = ", ".join(f"{text.number(count)} by {text.show(name)}" for name, count in sorted(checked.signers.items()))
        return by + (f"; {text.number(checked.unsigned)} not signed" if checked.unsigned else "")
    if checked.unknown:
        by = ", ".join(f"{text.number(count)} by {key}" for key, count in sorted(checked.unknown.items()))
        return f"{by}, and nobody is trusted yet: {text.command('ledger', 'trust')} NAME KEY"
    return "none: the ledger is consistent, which is not tamper-proof" if checked.records else ""


def _ends(ends: list[FileEnd]) -> str:
    return f"whether something was cut off the end of {text.count(len(ends), 'file')}, behind what others have seen"


def finding_json(finding: Finding) -> dict[str, Any]:
    """A finding for scripts."""
    return {
        "file": finding.file or None,
        "problem": finding.problem.value.replace(" ", "_"),
        "first": finding.first or None,
        "last": finding.last or None,
        "line": finding.line or None,
        "record": finding.id or None,
        "detail": finding.detail or None,
        "witness_file": (finding.witness.file or "this machine") if finding.witness is not None else None,
        "witness_record": finding.witness.number or None if finding.witness is not None else None,
    }
