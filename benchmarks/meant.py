"""What the measurements are meant to come to: at least, or at most."""

from __future__ import annotations

from dataclasses import dataclass

from benchmarks.scene import Result


@dataclass(frozen=True)
class Meant:
    """A bound. `most`: the value is to be no more than it."""

    value: float
    most: bool = False

    def share(self, found: float) -> float:
        """How good a value is, as a multiple of what is meant: from 1 on it is good enough."""
        return self.value / max(found, 1e-9) if self.most else found / self.value


MEANT: dict[str, dict[str, Meant]] = {
    "one-big-file": {
        "up, ratio": Meant(0.9),
        "down, ratio": Meant(0.9),
        "up, proven on the node, ratio": Meant(0.85),
    },
    "many-small": {
        "ratio, the same requests": Meant(0.85),
        "ratio, facts and renames, against the helper": Meant(1.3),
        "at 50 ms, together, times one at a time": Meant(100),
    },
    "long-line": {
        "up, times one channel": Meant(3.5),
        "up, ratio to the best fixed setting": Meant(0.85),
        "down, times one channel": Meant(7),
        "down, ratio to the best fixed setting": Meant(0.85),
        "up, one login, times one channel": Meant(1.6),
        "down, one login, times one channel": Meant(2.5),
    },
    "capped-line": {
        "up, ratio to the best fixed setting": Meant(0.8),
        "down, ratio to the best fixed setting": Meant(0.8),
        "up, longest below half of that, seconds": Meant(10, most=True),
        "down, longest below half of that, seconds": Meant(10, most=True),
    },
    "lossy-line": {
        "up, ratio to the best fixed setting": Meant(0.8),
        "down, ratio to the best fixed setting": Meant(0.8),
        "up, longest below half of that, seconds": Meant(10, most=True),
        "down, longest below half of that, seconds": Meant(10, most=True),
    },
    "nothing-to-do": {"ratio": Meant(1.3, most=True)},
    "resume": {"MiB more than was not synced": Meant(8, most=True)},
    "changed-parts": {
        "up, percent of the bytes sent": Meant(3, most=True),
        "down, percent of the bytes sent": Meant(3, most=True),
    },
    "memory": {"MB": Meant(400, most=True)},
    "start-up": {"ms more": Meant(150, most=True)},
    "bundle-tar": {"ratio": Meant(0.7)},
    "ledger": {
        "append where a sync takes 5 ms, times a bare one": Meant(1.5, most=True),
        "append without a list, ms more than a bare one": Meant(1, most=True),
        "append with a list, times that with ten records": Meant(1.5, most=True),
        "check, seconds": Meant(15, most=True),
        "check, MB": Meant(200, most=True),
        "show --since, seconds": Meant(1, most=True),
        "show --since, MB": Meant(200, most=True),
    },
}


def missed(name: str, result: Result) -> list[str]:
    """What of a measurement is not what it is meant to be."""
    return [what for what, meant in MEANT.get(name, {}).items() if meant.share(float(result[what])) < 1]
