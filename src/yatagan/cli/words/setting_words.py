"""Settings in words: what each says, and its value."""

from __future__ import annotations

from typing import Any

from yatagan.cli.terminal.text import number, show, size
from yatagan.config.setting import Unit
from yatagan.config.units import spell_duration

#: What each setting says.
SAYS = {
    "connection.patience": "how long a batch waits for it to come back",
    "connection.silence": "how long a server may answer nothing",
    "connection.keepalive": "how often it is tested",
    "connection.shell": "how long a node's shell may take to start a command",
    "connection.processes": "that encrypt and decrypt beside a batch's own",
    "login-node.size": "a larger stage through a login node gets a warning",
    "login-node.time": "and so does one that takes longer",
    "tree.entries": "that one command reads before it asks, or stops",
    "disk.reserve": "that a stage leaves free at its destination",
    "queue.at-once": "batches in the background that are carried at once",
    "notice.mail": "who gets a mail when a batch has ended",
    "notice.smtp": "where that mail is handed in",
    "notice.password-command": "that prints the password",
    "notice.command": "that gets a summary as JSON",
    "notice.desktop": "whether the desktop shows it",
    "notice.when": "finished, trouble, or always",
    "ledger.directory": "where records are kept",
    "ledger.sign-with": "the SSH key that signs them",
}
#: What holds where a text is empty.
_EMPTY = {"notice.smtp": "sendmail", "ledger.directory": "your own", "ledger.sign-with": "nothing"}


def value_words(name: str, unit: Unit, value: Any) -> str:
    """The value of a setting."""
    match unit:
        case Unit.SECONDS:
            return spell_duration(value)
        case Unit.BYTES:
            return size(value)
        case Unit.COUNT:
            return number(value)
        case Unit.FLAG:
            return "yes" if value else "no"
        case Unit.TEXT:
            return show(value) or _EMPTY.get(name, "none")
