"""What a step is: one unit of a plan, with all that the journal knows of it."""

from __future__ import annotations

import posixpath
from dataclasses import dataclass
from enum import StrEnum
from typing import NamedTuple

from yatagan.batches.states import Evidence, StepState
from yatagan.faults import Fault
from yatagan.places import PART_PREFIX, PART_SUFFIX
from yatagan.stores.interface import Facts

#: Steps of one phase may go on at the same time; a phase starts when the one before is through.
#: Directories go first, by depth; then bundles, files and links; then what no bundle has brought; then what is in
#: bundles that stay ones, and the indexes of those; then directories' facts, deepest first.
FILES_PHASE = 1_000_000
#: Files that may come with a bundle: those that did not are carried one by one.
SINGLES_PHASE = 1_500_000
#: Modes and times of files that were there: what is taken from a mode comes before contents do, what is given after.
NARROWING_PHASE, WIDENING_PHASE = 999_999, 1_900_000
#: Entries that are in a stored bundle: they are in place when it is.
MEMBERS_PHASE = 1_600_000
INDEX_PHASE = 1_700_000
FACTS_PHASE = 2_000_000


class StepKind(StrEnum):
    """What a step does."""

    DIRECTORY = "directory"
    FILE = "file"
    LINK = "link"
    FACTS = "facts"
    #: Carry many small files at once. It has no name at the destination.
    BUNDLE = "bundle"
    #: Make a bundle of a directory and carry it; it stays one.
    ARCHIVE = "archive"
    #: Carry the index of the archive that has the number before.
    INDEX = "index"


class Setting(StrEnum):
    """What a FACTS step sets."""

    #: The facts of a directory that the batch has made, by the step numbered just before.
    MADE = ""
    #: Of a directory that was there: what it is to lose, before anything is put into it.
    NARROW = "narrow"
    #: Of a file or a directory that was there: those that differ.
    DIFFER = "differ"
    #: Of a directory that was there: the time that it had lost when something was put into it.
    AGAIN = "again"


class Prove(StrEnum):
    """Which proof was asked for."""

    AUTO = "auto"
    ON_NODE = "on-node"
    READ_BACK = "read-back"
    NONE = "none"


class Modes(StrEnum):
    """Which permission bits arrive: the source's, or what the site decides."""

    KEEP = "keep"
    #: The site's: its umask and access lists decide, and only the execute bit travels.
    SITE = "site"


class Times(StrEnum):
    """Which modification times arrive: the source's, or the time of arrival."""

    KEEP = "keep"
    #: The time of arrival.
    NOW = "now"


def token_path(directory: bytes, batch: str) -> bytes:
    """The file by which a batch checks that commands on a node see the disk that it writes to."""
    return posixpath.join(directory, PART_PREFIX + f"{batch}-token".encode() + PART_SUFFIX)


class Beginning(NamedTuple):
    """How a file that only grows begins: how many bytes a batch has put at its destination, and their digest.

    0 and "" where nothing is on record.
    """

    size: int = 0
    digest: str = ""


@dataclass(frozen=True, slots=True)
class Step:
    """One step.

    `source` and `path` are absolute, in the source's and the destination's store; `label` is the path below
    the destination, for people and lists. `facts` are the source's when planned (or when last looked at);
    `seen` is what the plan found under the final name, None when nothing. `generation` counts the part
    files of this step and `session` the session that wrote the last of them; `durable` are that
    part file's synced extents, encoded. `bundle` is the step of the bundle that an entry comes with, or may
    come with; 0 for none. `reused` bytes of the present part file were copied from what was under the final name.
    `checkpoints` are digests of that part file's beginning, encoded. `adopts` is the part file of an earlier batch that
    becomes this step's when it begins; empty when there is none, or it has become that. `holes` are bytes of zeros
    that were left out of the present part file. `beginning` is given for a file that only grows, which is carried as
    far as its `facts` say: what of it is under the final name. `continues`: it begins with the file that it replaced,
    which is not kept. `setting`: what a step of kind FACTS is about.
    """

    number: int
    phase: int
    kind: StepKind
    source: bytes
    path: bytes
    label: bytes
    facts: Facts
    target: bytes | None = None
    seen: Facts | None = None
    state: StepState = StepState.WAITING
    generation: int = 0
    session: int = 0
    durable: str = ""
    sent: int = 0
    digest: str = ""
    evidence: Evidence | None = None
    fault: Fault | None = None
    detail: str = ""
    bundle: int = 0
    reused: int = 0
    checkpoints: str = ""
    adopts: bytes = b""
    holes: int = 0
    beginning: Beginning | None = None
    continues: bool = False
    setting: Setting = Setting.MADE

    def still_is(self, found: Facts) -> bool:
        """Whether the source, with these facts, still is what the step carries."""
        return found.same_as(self.facts) if self.beginning is None else found.grown_from(self.facts)

    def part(self, batch: str, generation: int | None = None) -> bytes:
        """The path of a part file: beside the final name, and independent of it. Default: the present generation."""
        number = self.generation if generation is None else generation
        above = self.path.rpartition(b"/")[0]
        return b"%b/%b%b-%d-%d%b" % (above, PART_PREFIX, batch.encode(), self.number, number, PART_SUFFIX)


@dataclass(frozen=True, slots=True)
class SessionWriters:
    """A change: the writers of a session, as its store names them now."""

    session: int
    witness: str


@dataclass(frozen=True, slots=True)
class TopKnown:
    """A change: the inode of the destination, which has just been made."""

    inode: int


class Change(NamedTuple):
    """A change of one step. None leaves a column as it is."""

    number: int
    state: StepState | None = None
    generation: int | None = None
    session: int | None = None
    durable: str | None = None
    sent: int | None = None
    digest: str | None = None
    evidence: Evidence | None = None
    fault: Fault | None = None
    detail: str | None = None
    facts: Facts | None = None
    bundle: int | None = None
    reused: int | None = None
    checkpoints: str | None = None
    adopts: bytes | None = None
    holes: int | None = None
    continues: bool | None = None

    @classmethod
    def anew(cls, number: int, fault: Fault | None = None) -> Change:
        """The step waits again, and nothing that was done for it counts."""
        return cls(number, state=StepState.WAITING, fault=fault, durable="", digest="", reused=0, checkpoints="")


#: What is written to a journal together.
AnyChange = Change | SessionWriters | TopKnown
