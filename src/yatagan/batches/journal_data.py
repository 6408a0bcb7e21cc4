"""What a journal says: what a batch is, where it stands, and counts of its steps. No I/O."""

from __future__ import annotations

from dataclasses import dataclass

from yatagan.batches.states import BatchState, Evidence, StepState
from yatagan.batches.steps import Modes, Prove, StepKind, Times
from yatagan.faults import Fault


@dataclass(frozen=True, slots=True)
class Purpose:
    """What a batch is for: a dataset of a project, carried `towards` here or there; and whose ledger gets its record.

    Without a dataset the names are empty. `ledger`: a directory; "" for the one that the settings name. `restores`: it
    brings back what was lost. `disk`: the one that the dataset's source is on; "" where that is not known.
    """

    project: str = ""
    dataset: str = ""
    towards: str = ""
    ledger: str = ""
    restores: bool = False
    disk: str = ""


#: A batch that is for nothing in particular.
NO_PURPOSE = Purpose()


@dataclass(frozen=True, slots=True)
class Header:
    """What a batch is, from the moment that it is accepted. An empty node name is this machine.

    `command`: what was typed. `arrivals`: every source, absolute and without links above it, and the name that it gets.
    `options`: everything else that was asked for, as text that is equal for equal options. `max_rate`: bytes a second;
    0 for no limit. `top_inode`: of the destination when it was planned; 0 if unknown. `promised`: how the plan said
    that files would be proven. `expected_seconds`: how long the plan said that it takes; `modelled_seconds`: that
    before it was corrected by earlier batches.
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
    expected_seconds: float = 0.0
    modelled_seconds: float = 0.0
    purpose: Purpose = NO_PURPOSE

    @property
    def roots(self) -> tuple[bytes, ...]:
        """The directories and files of this machine that were accepted with the plan."""
        sources = () if self.source_node else tuple(path for path, _ in self.arrivals)
        return sources if self.destination_node else (*sources, self.destination)

    @property
    def ends(self) -> tuple[object, ...]:
        """Source and destination, equal for two stages of the same."""
        return self.source_node, self.destination_node, self.destination, self.arrivals


@dataclass(frozen=True, slots=True)
class Standing:
    """Where a batch stands.

    `detail` belongs to the `fault`: a path; for NO_SPACE the bytes that were free; for a cancelled batch the one that
    took its place. `pins`: the addresses that it is pinned to, by node. `recorded`: its ledger record. `top_inode`: the
    destination's, 0 if unknown. `make_again`: what is missing there is to be carried again. `looked_ns`: when what it
    claims was last compared with what is there; 0 for never.
    """

    state: BatchState
    fault: Fault | None
    detail: str
    pins: dict[str, tuple[str, int]]
    seconds: float
    recorded: str
    top_inode: int = 0
    make_again: bool = False
    looked_ns: int = 0


@dataclass(frozen=True, slots=True)
class StepGroup:
    """Counts over the steps of one kind, state, evidence and fault, either replacing something or not. Sizes in bytes.

    `sent`: what the connection carried for them; `again`: how much of that was more than their size. `reused`: bytes of
    `reusing` steps that were copied from what they replace. `holes`: zeros that were not written.
    `setting`: how many set facts that differed. `above`: how many make a directory above all that is carried.
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
    setting: int
    above: int
