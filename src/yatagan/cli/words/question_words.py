"""What an operation asks a person, and what it warns of, in words."""

from __future__ import annotations

from yatagan.cli.terminal import terminal, text
from yatagan.cli.words.messages import concern_words, explain
from yatagan.desk.questions import (
    Asked,
    FewerProcessors,
    FollowLink,
    GoByProject,
    LedgerNotUsed,
    LoggingInAgain,
    TrustHostKey,
    UnreadInLedger,
    Warned,
)


def explained(asked: Asked) -> list[str]:
    """What is shown above a question."""
    if not isinstance(asked, TrustHostKey):
        return []
    error = asked.error
    where = f"{error.node} ({text.show(error.host)})"
    return [
        f"{where} shows a host key that was not seen before, {error.algorithm}:",
        f"  {terminal.style(error.fingerprint, bold=True)}",
    ]


def question(asked: Asked) -> str:
    """A question in words, to be answered by yes or no."""
    match asked:
        case TrustHostKey():
            return "Is this the key that the site publishes?"
        case FollowLink(link, target, owner):
            made_by = f"{text.show(link)} is a link that another account made, {text.show(owner)}"
            return f"{made_by}. It leads to {text.show(target)}. Follow it?"
        case GoByProject(concerns):
            return f"{'. '.join(map(concern_words, concerns))}. Go by it?"


def warning(of: Warned) -> str:
    """A warning in words."""
    match of:
        case LedgerNotUsed(error):
            return f"the project's ledger is not used: {explain(error)}"
        case UnreadInLedger(name, why):
            return f"{text.show(name)} of the ledger cannot be read ({text.show(why)}), so what it says is missing here"
        case FewerProcessors(node, allowed, asked):
            return f"{node} is made for logging in: {allowed} processors work on this, not {asked}"
        case LoggingInAgain(error, seconds):
            return f"{explain(error).message}; logging in again in {text.duration(seconds)}"
