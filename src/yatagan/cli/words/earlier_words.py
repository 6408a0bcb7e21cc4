"""What an earlier batch with the same ends has left, and what becomes of it, in words and for scripts."""

from __future__ import annotations

from yatagan.cli.terminal import text
from yatagan.operations.earlier_batch import Earlier, EarlierUse


def earlier_words(earlier: Earlier) -> str:
    """What it has done: `batch 261127-k7qd: 600 of 1,000 files are in place; 40 MB of the rest are safe there`."""
    outcome, name = earlier.outcome, earlier.batch.name
    if earlier.batch.is_carried():
        return f"batch {name} carries this now; see: yatagan batch show {name}"
    wanted = outcome.moved + outcome.waiting + outcome.failed_files
    are = "is" if outcome.moved == 1 else "are"
    words = f"batch {name}: {text.number(outcome.moved)} of {text.count(wanted, 'file')} {are} in place"
    return words + (f"; {text.size(outcome.safe)} of the rest are safe there" if outcome.safe else "")


def would_be_done(earlier: Earlier, use: EarlierUse) -> str:
    """The sentence for a plan that is only shown."""
    name = earlier.batch.name
    match use:
        case EarlierUse.RUNNING:
            return f"A stage is refused while batch {name} carries this."
        case EarlierUse.GO_ON:
            return f"A stage goes on with batch {name}."
        case EarlierUse.TAKE_OVER:
            return f"A stage takes over what is there of batch {name}, and cancels it."


def is_done(earlier: Earlier, use: EarlierUse, batch: str) -> str:
    """The sentence for a plan that is carried out, by `batch`."""
    if use is EarlierUse.GO_ON:
        return f"Going on with batch {batch}."
    return f"Batch {batch} takes over what is there of batch {earlier.batch.name}, which is cancelled."
