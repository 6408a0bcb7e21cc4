"""What a journal says: what a batch is, where it stands, and counts of its steps. No I/O."""

from __future__ import annotations

from dataclasses import dataclass

from yatagan.batches.states import BatchState, Evidence, StepState
from yatagan.batches.steps import Modes, Prove, StepKind, Times
from yatagan.errors import Fault


@dataclass(frozen=True, slots=True)
class Header:
    """What a batch is. Empty node names stand for this machine; `command` is what was typed.

    `arrivals`: every source, absolute and without links above it, and the name that it arrives under. `options`: what
    was asked for besides, as text that is the same for the same. `max_rate`: bytes a second at most; 0 for no bound.
    `top_inode`: of the destination when it was planned, if there. `promised`: what the plan said that files would be
    proven by.
    """

    id: str
    created_ns: int
    command: tuple[str, ...]
    source_node: str
    destination_node: str
    destination: bytes
    prove: Prove
    modes: Modes = Modes.KEEP
    times: Times = Times.KEEP
    arrivals: tuple[tuple[bytes, bytes], ...] = ()
    options: str = ""
    max_rate: int = 0
    top_inode: int = 0
    promised: Evidence | None = None

    @property
    def roots(self) -> tuple[bytes, ...]:
        """The directories and files of this machine that were accepted with the plan."""
        sources = () if self.source_node else tuple(path for path, _ in self.arrivals)
        return sources if self.destination_node else (*sources, self.destination)

    @property
    def ends(self) -> tuple[object, ...]:
        """Where from and where to: equal for two stages of the same."""
        return self.source_node, self.destination_node, self.destination, self.arrivals


@dataclass(frozen=True, slots=True)
class Standing:
    """Where a batch stands now.

    `detail` adds to the `fault`: a path; of NO_SPACE the bytes that were free then; of a cancelled batch the one that
    took its place. `pins` are the addresses it holds to, by node; `recorded` its ledger record; `top_inode` tells the
    destination from another directory of the name, 0 where that is not known; with `make_again` what is missing there
    is to be carried again.
    """

    state: BatchState
    fault: Fault | None
    detail: str
    pins: dict[str, tuple[str, int]]
    seconds: float
    recorded: str
    top_inode: int = 0
    make_again: bool = False


@dataclass(frozen=True, slots=True)
class StepGroup:
    """How many steps of one kind, state, evidence and fault, `replacing` something or not, and their bytes.

    `sent` is what went over the connection for them, `again` how much of that was more than their size. Of `reusing` of
    them so many bytes were there already, and not sent: `reused`; `holes` are zeros that were left out.
    """

    kind: StepKind
    state: StepState
    evidence: Evidence | None
    fault: Fault | None
    replacing: bool
    steps: int
    size: int
    sent: int
    again: int
    reusing: int
    reused: int
    holes: int
