"""The directories of this machine that a command may touch. No I/O; paths are absolute bytes.

By default these are the working directory, the project's root, and what was named. Nobody is asked about what a
person names outright; but a link *inside* one of these directories that leads out of all of them is not followed.
Further roots can be allowed for good, to be read or to be written as well.
"""

from __future__ import annotations

from dataclasses import dataclass

from yatagan.faults import Fault
from yatagan.places import holds


@dataclass(frozen=True, slots=True)
class Roots:
    """What a command may touch, all without links in it.

    `near`: the working directory and the project's root. `readable` and `writable`: what was allowed for good.
    """

    near: tuple[bytes, ...] = ()
    readable: tuple[bytes, ...] = ()
    writable: tuple[bytes, ...] = ()

    def objection(self, named: bytes, real: bytes, *, writing: bool) -> Fault | None:
        """Why a path must not be touched, LEADS_OUT or ONLY_READ, if it must not.

        As it was `named`, and where it `real`ly is when links are followed; the innermost root that holds it decides.
        """
        holding = [
            (len(root), only_read)
            for roots, only_read in ((self.near, False), (self.readable, True), (self.writable, False))
            for root in roots
            if holds(root, real)
        ]
        if holding:
            _, only_read = max(holding)
            return Fault.ONLY_READ if writing and only_read else None
        inside = any(holds(root, named) for root in (*self.near, *self.readable, *self.writable))
        return Fault.LEADS_OUT if inside else None
