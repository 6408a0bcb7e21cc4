"""The verdicts of `yatagan verify`, in words and for scripts."""

from __future__ import annotations

import posixpath

from yatagan.cli.terminal import terminal, text
from yatagan.cli.words import fault_words
from yatagan.cli.words.record_words import record_row
from yatagan.faults import Fault
from yatagan.operations.verify_request import Against, Verified
from yatagan.places import Place
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


def show_verdicts(found: Verified) -> None:
    """Show the verdict, the counts behind it, how it is known, and the first entries that are not the same."""
    where, used, verdicts = found.where, found.against, found.verdicts
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
            record_row(found.record),
        ]
    )
    shown = 0
    for each in verdicts.found:
        if each.finding in _BAD or each.finding is Finding.NOT_LISTED:
            shown += 1
            if shown <= _SHOWN:
                tone = text.Tone.TROUBLE if each.finding in _WORST else text.Tone.WARNING
                detail = f" ({_detail(each.detail)})" if each.detail else ""
                detail = f" → {text.show(each.new_path)}" if each.new_path else detail
                terminal.say("  " + text.tinted(f"{each.finding.value:<14}", tone) + text.show(each.path) + detail)
    if shown > _SHOWN:
        terminal.say(f"  and {text.number(shown - _SHOWN)} more: --json shows all")


def show_one_line(found: Verified) -> None:
    """Show a good verdict in one line, for the log of a job."""
    where, used, verdicts = found.where, found.against, found.verdicts
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
