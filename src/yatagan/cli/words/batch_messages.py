"""What keeps a batch from being carried, in words: what happened, and what to do next."""

from __future__ import annotations

from yatagan import errors as e
from yatagan.cli.terminal.text import command, show
from yatagan.cli.words.exit_status import ExitStatus
from yatagan.near_names import nearest


def explain_batch(
    error: e.NoSuchBatch | e.BatchInUse | e.BatchStopped | e.BatchCancelled | e.NoLocks | e.JournalError,
) -> tuple[str, str, ExitStatus]:
    """What is wrong with a batch or its journal, what to do, and the exit status."""
    match error:
        case e.NoSuchBatch():
            return _explain_no_batch(error)
        case e.BatchInUse():
            return _explain_in_use(error)
        case e.BatchStopped():
            why = f"batch {show(error.batch)} carries this, and a person has stopped it"
            return why, f"go on with: {command('batch', 'resume', error.batch)}", ExitStatus.REFUSED
        case e.BatchCancelled():
            why = f"batch {show(error.batch)} is cancelled"
            if not error.successor:
                return why, "stage again", ExitStatus.REFUSED
            go_on = f"go on with: {command('batch', 'resume', error.successor)}"
            return f"{why}: {show(error.successor)} took its place", go_on, ExitStatus.REFUSED
        case e.NoLocks():
            return (
                f"the disk that {show(error.directory)} is on has no locks, and two processes could carry one batch",
                "keep what is yours on another disk: set YATAGAN_HOME to a directory there",
                ExitStatus.REFUSED,
            )
        case e.OtherVersion():
            return (
                f"{show(error.file)} was written by another version of Yatagan",
                "use that version for this batch; or stage again with this one, and only what is missing moves",
                ExitStatus.DIFFERENCES,
            )
        case e.JournalError():
            return _explain_journal(error)


def _explain_in_use(error: e.BatchInUse) -> tuple[str, str, ExitStatus]:
    advice = f"see how far it is: {command('batch', 'show', error.batch)}"
    if error.elsewhere:
        advice = f"if it has ended there for certain: {command('batch', 'resume', error.batch, '--take-over')}"
    return f"batch {show(error.batch)} is being carried by {show(error.holder)}", advice, ExitStatus.REFUSED


#: Batches named where a part of a name could mean several.
_CANDIDATES = 4


def _explain_no_batch(error: e.NoSuchBatch) -> tuple[str, str, ExitStatus]:
    if error.candidates:
        more = len(error.candidates) - _CANDIDATES
        found = ", ".join(error.candidates[:_CANDIDATES]) + (f" and {more} more" if more > 0 else "")
        return f"{show(error.name)!r} is part of several names: {found}", "give more of the name", ExitStatus.USAGE
    if not error.name:
        return "there is no batch yet", "make one with yatagan stage", ExitStatus.USAGE
    near = nearest(error.name, error.known) or nearest(error.name, [name.rpartition("-")[2] for name in error.known])
    meant = f"did you mean {near}? all are shown by: yatagan batch list" if near else "see: yatagan batch list"
    return f"no batch is called {show(error.name)!r}", meant, ExitStatus.USAGE


def _explain_journal(error: e.JournalError) -> tuple[str, str, ExitStatus]:
    if error.damaged:
        return (
            f"{show(error.file)} is damaged: {show(error.detail)}",
            "what is in place stays in place; stage again, and only what is missing moves",
            ExitStatus.DIFFERENCES,
        )
    again = f"then: {command('batch', 'resume', error.batch)}" if error.batch else "then try again"
    return (
        f"{show(error.file)} cannot be written or read: {show(error.detail)}",
        f"free some space or mend the disk, {again}",
        ExitStatus.INTERRUPTED,
    )
