"""What became of a record, in words."""

from __future__ import annotations

from typing import TYPE_CHECKING

from yatagan.cli.terminal import text
from yatagan.ledger.appending import Unsigned
from yatagan.ledger.ledger import OnRecord

if TYPE_CHECKING:
    pass

#: Digits of a digest that are shown: enough to pin it on paper.
DIGITS = 32


#: Why a record has no signature, and what to do.
_UNSIGNED = {
    Unsigned.KEY_MISSING: "the key is missing",
    Unsigned.KEY_UNREADABLE: "the key cannot be read",
    Unsigned.NEEDS_TOUCH: "the key needs a touch, and records are written unattended",
    Unsigned.PASS_PHRASE: "the key needs a pass phrase; add it to the agent with ssh-add",
    Unsigned.NO_AGENT: "there is no SSH agent",
    Unsigned.NOT_IN_AGENT: "the SSH agent does not hold the key; add it with ssh-add",
    Unsigned.AGENT_SILENT: "the SSH agent did not answer within 5 s",
    Unsigned.AGENT_REFUSED: "the SSH agent refused",
}


def record_row(record: OnRecord | None) -> tuple[str, str]:
    """The row of a summary: the digest, to be noted on paper, or that there is none."""
    if record is None:
        return "record", ""
    if record.digest:
        return "record", f"in the ledger, digest {record.digest[:DIGITS]}"
    return "record", "none" if record.lost else "waits, and goes into the ledger with the next one"


def warn_of(record: OnRecord | None) -> None:
    """Warn of a record that is not in the ledger, or not signed though it should be."""
    if record is None:
        return
    if record.lost:
        text.warn(f"this is not on record: {text.show(record.lost)}")
    if record.waits:
        text.warn(f"the record is not in the ledger yet: {text.show(record.waits)}")
    if record.unsigned:
        text.warn(f"the record is not signed: {unsigned_words(record.unsigned)}")


def unsigned_words(why: str) -> str:
    """Why a record has no signature, and what to do."""
    try:
        return _UNSIGNED[Unsigned(why)]
    except ValueError:
        return text.show(why)
