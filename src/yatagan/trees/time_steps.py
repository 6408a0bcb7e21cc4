"""How finely two records of times can be compared: at the coarser step of the two, as their times show it.

A server without commands tells whole seconds, and some disks keep no finer times, or only even seconds. What a file is
given there is cut, and no longer equal to where it came from. Nothing is written to find that out. No I/O.
"""

from __future__ import annotations

from collections.abc import Iterable

#: Steps of times that disks, archives and protocols have, the finest first, in nanoseconds.
STEPS = (1, 100, 1_000, 1_000_000, 1_000_000_000, 2_000_000_000)


def grain(times_ns: Iterable[int]) -> int:
    """The coarsest step of which all these times are multiples."""
    at = len(STEPS) - 1
    for time_ns in times_ns:
        while time_ns % STEPS[at]:
            at -= 1
        if not at:
            break
    return STEPS[at]


def common_step(pairs: Iterable[tuple[int, int]], nominal_ns: int) -> int:
    """The step at which the times of files that are on both sides are compared, not finer than `nominal_ns`.

    It is coarser only where the times of one side are all multiples of a step, and some of the other, which are not,
    are equal once they are cut to it: then that side keeps no finer ones.
    """
    known = list(pairs)
    one, other = grain(first for first, _ in known), grain(second for _, second in known)
    step = max(one, other)
    if step <= nominal_ns or one == other:
        return nominal_ns
    cut = any(first != second and first // step == second // step for first, second in known)
    return step if cut else nominal_ns


def as_kept(found_ns: int, wanted_ns: int) -> bool:
    """Whether a time is the one that was set, or that one cut to a step that a disk has."""
    return any(found_ns == wanted_ns // step * step for step in STEPS)
