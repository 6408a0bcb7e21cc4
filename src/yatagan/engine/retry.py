"""When to try again and when to give up: a connection, a step, and a batch whose node is away. No I/O."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

from yatagan.faults import Fault


@dataclass(frozen=True, slots=True)
class StepRetries:
    """How often a step is tried in all, and the seconds to wait before each further try; the last is repeated."""

    tries: int
    waits: tuple[float, ...]

    def wait_after(self, failures: int) -> float:
        """Seconds to wait after so many `failures`, at least one."""
        return _nth(self.waits, failures)


#: What is tried again within a run, without a new connection. What is not named here is not.
STEP_RETRIES: dict[Fault, StepRetries] = {
    **dict.fromkeys((Fault.BUSY, Fault.STALE), StepRetries(6, (1, 5, 15, 60, 120))),
    # Servers have one word for a dozen reasons, and some of them pass.
    Fault.REFUSED: StepRetries(3, (1, 5)),
    # What is written to all the time is no better for being read ten times.
    Fault.SOURCE_CHANGED: StepRetries(3, (2, 10)),
    # What changed at the destination meanwhile: the next try takes it as it is then.
    **dict.fromkeys(
        (Fault.DIGEST_DIFFERS, Fault.PART_CHANGED, Fault.APPEARED, Fault.ABOVE_GONE), StepRetries(4, (1, 2, 4))
    ),
}


@dataclass(frozen=True, slots=True)
class RetryPolicy:
    """`patience`: seconds without progress until a lost connection is given up.

    `backoff`: seconds to wait before each retry of it; the last one is repeated. `steps`: the same for steps.
    """

    patience: float = 600.0
    backoff: tuple[float, ...] = (1, 2, 4, 8, 15, 30)
    steps: Mapping[Fault, StepRetries] = field(default_factory=lambda: STEP_RETRIES)

    def wait_after(self, failures: int) -> float:
        """Seconds to wait after `failures` failures; at least one."""
        return _nth(self.backoff, failures)


def _nth(waits: tuple[float, ...], number: int) -> float:
    return waits[min(number, len(waits)) - 1]


#: Seconds until a batch in the queue is tried again whose node could not be reached; the last one is repeated.
NODE_WAITS = (60, 300, 900, 1800, 3600)


def wait_for_node(failures: int) -> float:
    """Seconds until a batch is retried whose node could not be reached `failures` times, at least once."""
    return _nth(NODE_WAITS, failures)


class ConnectionRetries:
    """Counts the failures of a connection since the last progress. `jitter` gives numbers in [0, 1)."""

    def __init__(self, policy: RetryPolicy, jitter: Callable[[], float]) -> None:
        self._policy = policy
        self._jitter = jitter
        self._failing_since: float | None = None
        self._failures = 0

    def progress(self) -> None:
        """Reset patience and backoff: something was done."""
        self._failing_since = None
        self._failures = 0

    def may_retry(self, now: float) -> bool:
        """Whether patience is left. The first call after progress starts its clock."""
        if self._failing_since is None:
            self._failing_since = now
        return self._left(now) > 0

    def next_wait(self, now: float) -> float:
        """Seconds until the next try: backoff with a fifth of jitter either way, and no longer than patience lasts."""
        self._failures += 1
        wait = self._policy.wait_after(self._failures) * (0.8 + 0.4 * self._jitter())
        return min(wait, self._left(now))

    def _left(self, now: float) -> float:
        since = now if self._failing_since is None else self._failing_since
        return self._policy.patience - (now - since)
