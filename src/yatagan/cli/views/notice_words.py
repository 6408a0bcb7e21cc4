"""What a notice says: the verdict first, in the subject and the first line, then what a person may want to know.

A notice goes where no terminal is, and may be read on a phone: no colours, lines of at most 72 columns.
"""

from __future__ import annotations

import platform
from collections.abc import Iterable, Mapping

from yatagan.background.notices import Notice
from yatagan.background.routines import Routine
from yatagan.batches.counts import BatchCounts
from yatagan.batches.journal import Journal
from yatagan.batches.states import BatchState, Evidence
from yatagan.cli.answers.json_fields import batch_json
from yatagan.cli.terminal import terminal, text
from yatagan.cli.views.batch_summary import summary_lines
from yatagan.cli.words import messages
from yatagan.cli.words.batch_words import from_to
from yatagan.cli.words.conclusions import conclude_batch
from yatagan.desk.desk import Desk
from yatagan.errors import JournalError, Trouble

#: Columns of a notice.
_WIDE = 72

_PROVEN = {
    Evidence.ON_NODE: "all proven on the node",
    Evidence.READ_BACK: "all proven by reading back",
    Evidence.ON_ARRIVAL: "all proven on arrival",
    Evidence.SENT: "contents not looked at",
}


def of_batch_end(desk: Desk, journal: Journal, outcome: BatchCounts, problem: Trouble | None) -> Notice:
    """The notice for a batch that has ended, or that needs a person."""
    subject = f"{from_to(outcome.header)} {_verdict(outcome, problem)}"
    lines = [
        f"Batch {outcome.header.id} on {platform.node()}:",
        *summary_lines(desk, journal, outcome, problem, wide=_WIDE),
        f"All of it: {text.command('batch', 'show', outcome.header.id)}",
    ]
    return _notice(subject, lines, {"notice": "batch", "batch": batch_json(outcome)}, trouble=not outcome.good)


def _verdict(outcome: BatchCounts, problem: Trouble | None) -> str:
    """What a batch has come to: `finished: 1,489 files, 57.7 MB, all proven on the node`."""
    if outcome.standing.state is BatchState.FINISHED:
        files = text.count(outcome.moved, "file")
        if not outcome.good:
            wanted = outcome.moved + outcome.waiting + outcome.failed_files
            there = f"{text.number(outcome.moved)} of {text.count(wanted, 'file')} in place"
            return f"{conclude_batch(outcome).text}: {there}"
        proofs = {_PROVEN.get(evidence, evidence.value) for evidence in outcome.evidence}
        proof = f", {proofs.pop()}" if len(proofs) == 1 else ", proven in several ways" if proofs else ""
        return f"finished: {files}, {text.size(outcome.moved_size)}{proof}"
    return f"is {conclude_batch(outcome, problem).text}"


def of_unread(batch: str, error: JournalError) -> Notice:
    """The notice that the journal of a batch in the queue cannot be read."""
    lines = [
        text.show(str(messages.explain(error))),
        "It is tried again now and then, and keeps no other batch waiting.",
        f"What is known of it: {text.command('batch', 'show', batch)}",
    ]
    summary = {"notice": "journal-unreadable", "batch_name": batch, "reason": error.detail}
    return _notice(f"Batch {batch}: its journal cannot be read", lines, summary, trouble=True)


def of_node_trouble(node: str, waiting: int, problem: Trouble | None, *, login: bool) -> Notice:
    """The notice that batches wait for a node: a person must log in, or it cannot be reached."""
    what = "needs a login" if login else "cannot be reached"
    subject = f"{node} {what}: {text.count(waiting, 'batch waits', 'batches wait')}"
    if login:
        why = [f"What waits goes on when you have logged in: {text.command('node', 'open', node)}"]
    else:
        why = [text.show(f"{messages.explain(problem)}")] if problem is not None else []
        why.append("It is retried. You get a notice when it is reached.")
    why.append(f"Which batches those are: {text.command('batch', 'list', '--unfinished')}")
    summary = {"notice": "login-needed" if login else "node-away", "node": node, "batches": waiting}
    return _notice(subject, why, summary, trouble=True, of_node=True)


def of_node_well(node: str) -> Notice:
    """The notice that all is well with a node again."""
    summary = {"notice": "node-well", "node": node}
    return _notice(f"{node} is reached again", ["Batches over it go on."], summary, trouble=False, of_node=True)


def of_routine_trouble(routine: Routine, why: str) -> Notice:
    """The notice that something is wrong with a routine that went well before."""
    lines = [
        f"It runs {routine.schedule}, and goes on to do so. You get a notice when it is well again.",
        f"What its runs came to: {text.command('routine', 'show', routine.name)}",
    ]
    summary = {"notice": "routine-trouble", "routine": routine.name, "reason": why}
    return _notice(f"Routine {routine.name}: {text.show(why)}", lines, summary, trouble=True)


def of_routine_well(routine: Routine) -> Notice:
    """The notice that a routine goes well again."""
    lines = [f"What its runs came to: {text.command('routine', 'show', routine.name)}"]
    summary = {"notice": "routine-well", "routine": routine.name}
    return _notice(f"Routine {routine.name} is well again", lines, summary, trouble=False, of_node=True)


def of_test() -> Notice:
    """A notice that says nothing but that it has come."""
    host = platform.node()
    lines = ["You have asked for this with yatagan notice test. What batches in the background do will look like it."]
    return _notice(f"A test from {host}", lines, {"notice": "test", "host": host}, trouble=False)


def _notice(
    subject: str, lines: Iterable[str], summary: Mapping[str, object], *, trouble: bool, of_node: bool = False
) -> Notice:
    plain = [terminal.plain(line) for line in lines]
    body = "\n".join([subject, "", *plain]) + "\n"
    return Notice(subject, body, {"subject": subject, **summary}, trouble, of_node)
