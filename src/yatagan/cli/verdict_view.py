"""The verdicts of `yatagan verify`, in words and for scripts."""

from __future__ import annotations

import posixpath
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from yatagan.batches.states import Evidence
from yatagan.cli import fault_words, terminal, text
from yatagan.cli.json_fields import evidence_json
from yatagan.cli.ledger_record import record_row
from yatagan.digests.checksum_lists import Listed
from yatagan.faults import Fault
from yatagan.ledger.ledger import OnRecord
from yatagan.places import Place, name_fields
from yatagan.stores.interface import Kind
from yatagan.trees.hashing import DigestOrigin
from yatagan.verdicts.verification import Finding, Verdicts

_SHOWN = 20
#: How contents became known, in words.
ORIGINS = {
    DigestOrigin.ON_NODE: "hashed on the node (on-node)",
    DigestOrigin.READ_BACK: "fetched and hashed here (read-back)",
    DigestOrigin.HERE: "read and hashed on this machine",
}
_WORST = (Finding.DIFFERENT, Finding.MISSING, Finding.MOVED, Finding.UNREADABLE)
_BAD = (*_WORST, Finding.FACTS_DIFFER)


@dataclass(slots=True)
class Against:
    """What a tree is verified against: a list, its digest, and the lines of it that are meant.

    `root`: the tree's absolute path. `inside`: it is the list in the tree itself. `crlf`: its lines ended with CRLF.
    `batch`: it is no list, but what this batch has put there. `dataset`: it is what the ledger has of this dataset;
    `recorded`: when that was last put on record, and by whom.
    """

    root: bytes
    place: Place
    digest: str
    listed: Sequence[Listed]
    inside: bool
    crlf: bool = False
    batch: str = ""
    dataset: str = ""
    recorded: tuple[str, str] = ("", "")


def show_verdicts(where: Place, used: Against, verdicts: Verdicts, record: OnRecord) -> None:
    """Show the verdict, the counts behind it, how it is known, and the first entries that are not the same."""
    place = text.place(where.node, where.path or b".")
    against = _against_words(where, used)
    terminal.say(terminal.style(f"{place} against {against}: ", bold=True) + _verdict(verdicts))
    text.facts(
        [
            (finding.value, _counts(verdicts, finding))
            for finding in Finding
            if verdicts.count(finding) or finding in (Finding.SAME, Finding.DIFFERENT, Finding.MISSING)
        ]
        + [
            ("how", _how(verdicts)),
            ("facts", _facts_words(used, verdicts)),
            ("list", "its lines end with CRLF, which was left out" if used.crlf else ""),
            record_row(record),
        ]
    )
    shown = 0
    for found in verdicts.found:
        if found.finding in _BAD or found.finding is Finding.NOT_LISTED:
            shown += 1
            if shown <= _SHOWN:
                tone = text.Tone.TROUBLE if found.finding in _WORST else text.Tone.WARNING
                detail = f" ({_detail(found.detail)})" if found.detail else ""
                detail = f" → {text.show(found.new_path)}" if found.new_path else detail
                terminal.say("  " + text.tinted(f"{found.finding.value:<14}", tone) + text.show(found.path) + detail)
    if shown > _SHOWN:
        terminal.say(f"  and {text.number(shown - _SHOWN)} more: --json shows all")


def show_one_line(where: Place, used: Against, verdicts: Verdicts) -> None:
    """Show a good verdict in one line, for the log of a job."""
    end = "there" if where.node else "here"
    against = _against_words(where, used)
    terminal.say(f"{used.dataset}, {end}: {_verdict(verdicts)} against {against}; {_how(verdicts)}")


def _how(verdicts: Verdicts) -> str:
    """The row for the evidence."""
    if not verdicts.contents:
        measure = text.size_and_time(verdicts.step_ns)
        return f"by {measure}: contents were not looked at, and a change that keeps both is not seen"
    how = f"{text.count(verdicts.files, 'file')}, {text.size(verdicts.size)}, {ORIGINS[verdicts.origin]}"
    if verdicts.remembered:
        how += f", {text.number(verdicts.remembered)} of them by an earlier run and not moved since (remembered)"
    return how


def _facts_words(used: Against, verdicts: Verdicts) -> str:
    """The row for what besides contents was compared."""
    if used.dataset:
        return "kinds, modes, times and links were compared with what is on record"
    if used.batch:
        return "kinds, modes, times and links were compared with what the batch set"
    if verdicts.with_facts:
        return "kinds, modes, times and links were compared with the facts file"
    return "a bare list: modes, times, links and directories could not be checked"


def _against_words(where: Place, used: Against) -> str:
    """The list in words: by its name alone where it is in the tree."""
    name = posixpath.basename(used.place.path)
    if used.batch:
        return f"batch {used.batch}"
    if used.dataset:
        when, who = used.recorded
        return f"the record of {when[:16].replace('T', ' ')} UTC, by {text.show(who)}"
    if used.inside:
        return f"its {text.show(name)}"
    return text.place(used.place.node, used.place.path)


def _verdict(verdicts: Verdicts) -> str:
    """The verdict in words, contents and facts separately."""
    if verdicts.emptied:
        why = "all that was on record was gone when it was last staged"
        return text.tinted("NOT GOOD", text.Tone.TROUBLE) + f": {why}"
    if verdicts.nothing:
        return "nothing to verify: no file is on record"
    if verdicts.good:
        return text.tinted("good", text.Tone.GOOD)
    if verdicts.contents_good:
        return text.tinted("contents good", text.Tone.GOOD) + text.tinted(", facts differ", text.Tone.WARNING)
    return text.tinted("NOT GOOD", text.Tone.TROUBLE)


_NOUNS = {Kind.FILE: ("file", "files"), Kind.DIRECTORY: ("directory", "directories"), Kind.LINK: ("link", "links")}


def _counts(verdicts: Verdicts, finding: Finding) -> str:
    """Entries with a verdict, by kind: `1,489 files, 31 directories`; `0 files`."""
    counts = [(verdicts.count(finding, kind), nouns) for kind, nouns in _NOUNS.items()]
    others = verdicts.count(finding) - sum(count for count, _ in counts)
    shown = [text.count(count, *nouns) for count, nouns in counts if count]
    return ", ".join([*shown, *([text.count(others, "other entry", "other entries")] if others else [])]) or "0 files"


def _detail(detail: str) -> str:
    try:
        return fault_words.fault(Fault(detail))
    except ValueError:
        return detail


def _evidence(verdicts: Verdicts) -> dict[DigestOrigin | Evidence, int]:
    """How many files are known by which evidence."""
    if not verdicts.contents:
        return {}
    looked = verdicts.files - verdicts.remembered
    return {verdicts.origin: looked, **({Evidence.REMEMBERED: verdicts.remembered} if verdicts.remembered else {})}


def verdicts_json(where: Place, used: Against, verdicts: Verdicts) -> dict[str, Any]:
    """The verdicts for scripts."""
    of_list = not (used.batch or used.dataset)
    return {
        "node": where.node,
        **name_fields(where.path or b"."),
        **(name_fields(used.place.path, "against") if of_list else {"against": None}),
        "against_node": used.place.node if of_list else None,
        "good": verdicts.good,
        "contents_good": verdicts.contents_good,
        "evidence": evidence_json(_evidence(verdicts)),
        "facts_checked": verdicts.with_facts,
        "contents_checked": verdicts.contents,
        "time_step_ns": verdicts.step_ns,
        "against_batch": used.batch or None,
        "against_dataset": used.dataset or None,
        "recorded_at": used.recorded[0] or None,
        "remembered": verdicts.remembered,
        "files": verdicts.files,
        "size_bytes": verdicts.size,
        "counts": {finding.value.replace(" ", "_"): verdicts.count(finding) for finding in Finding},
        "entries": [
            {
                **name_fields(found.path),
                "kind": found.kind.value,
                "verdict": found.finding.value,
                "detail": found.detail,
                **(name_fields(found.new_path, "new_path") if found.new_path else {}),
            }
            for found in verdicts.found
            if found.finding is not Finding.SAME
        ],
    }
