"""The page of a report: one HTML file with everything in it, readable by anyone for years.

Every value is escaped by Jinja; no script is in it, and nothing is loaded from anywhere, which its content security
policy (CSP level 3) also forbids.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from importlib.resources import files

from yatagan.reports.figures import COLOURS, FigureSpec, as_page_svg
from yatagan.reports.gathering import Gathered, Staging
from yatagan.reports.verdict import DatasetRow, level_of, verdict
from yatagan.spelling import count, duration, number, size

#: Failures and slow files that are shown; the rest is in the numbers beside the page.
_FAILURES, _SLOWEST, _BATCHES = 200, 10, 30


@dataclass(frozen=True, slots=True)
class PageFacts:
    """What a page says besides the numbers: its title, what was chosen, by whom and when it was made (RFC 3339)."""

    title: str
    about: str
    made_by: str
    made_at: str
    version: str


def render(facts: PageFacts, found: Gathered, rows: Sequence[DatasetRow], figures: Sequence[FigureSpec]) -> str:
    """The page."""
    from jinja2 import Environment, StrictUndefined
    from markupsafe import Markup

    environment = Environment(autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True)
    environment.filters.update(size=size, number=number, duration=duration, moment=_moment, day=lambda text: text[:10])
    template = environment.from_string((files("yatagan.reports") / "page.html").read_text(encoding="utf-8"))
    failures, slowest = found.failures, found.slowest
    return template.render(
        facts=facts,
        found=found,
        rows=rows,
        figures=[(spec, Markup(as_page_svg(spec))) for spec in figures],
        verdict=verdict(found, rows),
        level_of=lambda staging: level_of(staging, found),
        totals=_totals(found),
        evidence=_evidence(found),
        batches=found.stagings[-_BATCHES:][::-1],
        more_batches=max(0, len(found.stagings) - _BATCHES),
        failures=failures[:_FAILURES],
        more_failures=max(0, len(failures) - _FAILURES),
        reasons=Counter(failure.reason for failure in failures).most_common(8),
        slowest=slowest[:_SLOWEST],
        check=_to_check(found),
        colours=COLOURS,
        count=count,
    )


def _moment(text: str) -> str:
    """`2026-11-28 07:02`."""
    return text[:16].replace("T", " ")


def _totals(found: Gathered) -> list[tuple[str, str]]:
    """The numbers in front, and what they are."""
    people = sorted({each.who for each in found.stagings} | {each.who for each in found.verifications} - {""})
    times = sorted([each.at for each in found.stagings] + [each.at for each in found.verifications])
    rows = [
        (
            "staged",
            f"{number(sum(each.files for each in found.stagings))} files, "
            f"{size(sum(each.size for each in found.stagings))}",
        ),
        (
            "verified",
            f"{number(sum(each.files for each in found.verified))} files, "
            f"{size(sum(each.size for each in found.verified))}"
            if found.verifications
            else "nothing",
        ),
        ("by", ", ".join(people) or "unknown"),
        ("from, until", f"{_moment(times[0])}, {_moment(times[-1])} UTC" if times else ""),
    ]
    return [(name, value) for name, value in rows if value]


_MEANINGS = {
    "on-node": "the node hashed the file after it was synced to its disk",
    "read-back": "the file was read again from the node, and hashed here",
    "on-arrival": "the file was hashed here while it arrived",
    "read-here": "the file was read and hashed on its own machine",
    "remembered": "a digest made earlier, of a file that has not moved since",
    "size and time": "only size and time were compared; contents were not looked at",
    "sent": "the server acknowledged every write; contents were not looked at",
}


def _evidence(found: Gathered) -> list[tuple[str, int, int, str]]:
    """Evidence, how many files were staged and how many verified by it, and what it means."""
    staged, verified = Counter[str](), Counter[str]()
    for staging in found.stagings:
        staged.update(staging.evidence)
    for each in found.verified:
        verified.update(each.evidence)
    names = [name for name in _MEANINGS if staged[name] or verified[name]]
    return [(name, staged[name], verified[name], _MEANINGS[name]) for name in names]


def _to_check(found: Gathered) -> Staging | None:
    """A staging that a colleague can check by its list: the newest with one."""
    return next((each for each in reversed(found.stagings) if each.list_digest), None)
