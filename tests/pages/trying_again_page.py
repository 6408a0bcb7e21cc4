"""The page docs/guide/trying-again.md, made from the table of faults by make pages."""

from __future__ import annotations

from states_page import rows_of
from yatagan.cli.terminal.text import duration
from yatagan.cli.words import fault_words
from yatagan.engine.retry import NODE_WAITS, STEP_RETRIES, RetryPolicy
from yatagan.faults import CONNECTION_FAULTS, CONSEQUENCES, KIND_OF_FAULT, NOTES, STOPPING_FAULTS, Fault, FaultKind

HEAD = """\
# What is retried, and what needs you

A batch goes on by itself after whatever passes by itself. What does not is one line, with what you can do; then
`yatagan batch resume` goes on where it stopped, and retries what failed. `yatagan batch resume --failed` finds the
newest batch of which something has failed. One bad file never stops the others, and a directory that cannot be written
is one failure, not one for every file in it.

## The connection

A lost connection is retried after {waits}, and then every {last}, each a fifth
longer or shorter, so that a hundred users do not come back in the same second. Any progress starts these waits from the
first. After `connection.patience` without any progress ([{patience}](../reference/settings.md)) a batch in a terminal
stops as `interrupted`. One in the background goes back into the queue and is retried after {node_waits},
and then every {node_last}, for as long as it takes.

A login that needs you stops it as `needs a login`, and so does a host key that is not the known one.

## Files, directories, and the batch as a whole

This table is made from the program's own, in `faults.py`, `engine/retry.py` and `cli/words/fault_words.py`.
"""

KINDS = {
    FaultKind.PASSES: "What passes by itself",
    FaultKind.PERSON: "What needs you",
    FaultKind.FINAL: "What is final for this file",
}


#: What fails only with something else, is only a note, or no step meets.
LEFT_OUT = CONSEQUENCES | NOTES | {Fault.NOT_KEPT}


def page() -> str:
    """The whole page."""
    policy = RetryPolicy()
    *waits, last = (duration_words(each) for each in policy.backoff)
    *nodes, node_last = (duration_words(each) for each in NODE_WAITS)
    parts = [
        HEAD.format(
            waits=", ".join(waits),
            last=last,
            patience=duration_words(policy.patience),
            node_waits=", ".join(nodes),
            node_last=node_last,
        )
    ]
    for kind, title in KINDS.items():
        found = [fault for fault, each in KIND_OF_FAULT.items() if each is kind and fault not in LEFT_OUT]
        rows = [(fault_words.fault(fault), tried(fault), what_to_do(fault)) for fault in found]
        parts.append(f"\n### {title}\n\n" + rows_of(("what happened", "retried", "what you can do"), rows))
    return "".join(parts)


def tried(fault: Fault) -> str:
    """When something is tried again after a fault."""
    if fault in CONNECTION_FAULTS:
        return "as said above"
    if fault in STOPPING_FAULTS:
        return "no: the batch is held"
    if fault in (Fault.LEADS_ELSEWHERE, Fault.NO_SUCH_NODE, Fault.NO_PROGRESS):
        return "no: the batch is held"
    retries = STEP_RETRIES.get(fault)
    if retries is None:
        return "no"
    return "after " + ", ".join(duration_words(retries.wait_after(number)) for number in range(1, retries.tries))


def what_to_do(fault: Fault) -> str:
    """The advice for a fault."""
    return fault_words.step_remedy(fault) or "—"


def duration_words(seconds: float) -> str:
    """`1 s`, `5 min`, `1 h`."""
    for unit, length in (("h", 3600), ("min", 60)):
        if seconds >= length and seconds % length == 0:
            return f"{int(seconds // length)} {unit}"
    return f"{seconds:g} s" if seconds == int(seconds) else duration(seconds)


if __name__ == "__main__":
    print(page(), end="")
