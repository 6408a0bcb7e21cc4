"""A session: one pair of open stores, and what a batch asks of every file that passes between them."""

from __future__ import annotations

from dataclasses import dataclass

from yatagan.batches.states import Evidence
from yatagan.batches.steps import Modes, Prove, Step, Times
from yatagan.faults import Fault
from yatagan.portable.small_files import BundledFile
from yatagan.stores.interface import Facts, Readable, Store

#: Permission bits of files that are carried: set-id bits never are.
MODE_BITS = 0o777


class StepRefused(Exception):
    """A step cannot be done; trying again would not help."""

    def __init__(self, fault: Fault, detail: str = "") -> None:
        super().__init__(fault)
        self.fault = fault
        self.detail = detail


class RetryStep(Exception):
    """A step was not done and is tried again from the beginning, with a new part file."""

    def __init__(self, fault: Fault) -> None:
        super().__init__(fault)
        self.fault = fault


@dataclass(frozen=True, slots=True)
class Session:
    """One pair of open stores. `number` is the session's in the journal.

    `top`: the destination directory. `hashes_there`: the destination's commands were shown to see the disk that its
    store writes to.
    """

    number: int
    batch: str
    top: bytes
    prove: Prove
    modes: Modes
    times: Times
    source: Readable
    destination: Store
    hashes_there: bool

    @property
    def evidence(self) -> Evidence:
        """How files of this session are proven; SENT when their contents are not looked at."""
        return evidence_for(self.prove, self.source, self.destination, self.hashes_there)

    def part_mode(self, facts: Facts) -> int:
        """Permission bits that a part file is created with: ours alone, or with `--modes site` what the site decides.

        A directory's default access list applies when a file is created, and never again.
        """
        if self.modes is Modes.KEEP:
            return 0o600
        return 0o777 if facts.mode & 0o111 else 0o666

    def directory_mode(self, facts: Facts) -> int:
        """Permission bits that a directory is created with: writable for us until its own are set, last of all."""
        return (facts.mode & MODE_BITS) | 0o700 if self.modes is Modes.KEEP else 0o777

    def bundled_file(self, step: Step, digest: str, generation: int, offset: int = 0) -> BundledFile:
        """A small file as the destination's machine finishes or extracts it; `offset` is its place in a bundle."""
        facts = step.facts
        return BundledFile(
            offset,
            facts.size,
            digest,
            step.part(self.batch, generation),
            tuple(step.part(self.batch, earlier) for earlier in range(1, generation)),
            step.path,
            self.part_mode(facts),
            facts.mode & MODE_BITS if self.modes is Modes.KEEP else None,
            facts.mtime_ns if self.times is Times.KEEP else None,
        )


def evidence_for(prove: Prove, source: Readable, destination: Readable, hashes_there: bool) -> Evidence:
    """How files between two stores are proven; SENT when their contents are not looked at.

    `hashes_there`: the destination's commands were shown to see the disk that its store writes to.
    """
    here = destination.traits.here
    if here and source.traits.here and prove is Prove.NONE:
        return Evidence.SENT
    if prove is Prove.READ_BACK or (here and source.traits.here):
        return Evidence.READ_BACK
    if prove is Prove.ON_NODE or (prove is Prove.AUTO and hashes_there and not here):
        return Evidence.ON_NODE
    return Evidence.ON_ARRIVAL if here else Evidence.SENT
