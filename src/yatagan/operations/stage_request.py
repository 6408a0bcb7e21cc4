"""What a stage is asked for, as a value: equal when equal, and checked as far as it can be without looking."""

from __future__ import annotations

import json
import os
from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

from yatagan.batches.journal_data import NO_PURPOSE, Purpose
from yatagan.batches.steps import Modes, Prove, Times
from yatagan.config.areas import Area
from yatagan.config.project import By, StoredAs, Towards
from yatagan.places import Place
from yatagan.planning.stored_bundles import BUNDLED
from yatagan.request_errors import BadStage, WrongStage
from yatagan.trees.patterns import EVERYTHING, Choice


class IfNewer(StrEnum):
    """What happens to files that are newer at the destination."""

    LEAVE = "leave"
    REPLACE = "replace"
    ASK = "ask"


class Pack(StrEnum):
    """Whether small files travel together, to be unpacked on arrival."""

    #: Where that is faster.
    AUTO = "auto"
    #: However few they are.
    ALWAYS = "always"
    #: Every file travels alone; without `stored`, bundles are files like others.
    NEVER = "never"


@dataclass(frozen=True, slots=True, kw_only=True)
class StageOptions:
    """How something is staged, whatever it is.

    `modes` None: the source's, but the site's in shared areas. `growing`: files that only grow. `unchanged_for`, in
    seconds: files that have changed since are left for another time. `max_rate` in bytes a second, 0 for no limit.
    `accept_gone`: what is gone from the source of a dataset goes on record as gone, however much that is.
    """

    by: By = By.SIZE_AND_TIME
    if_newer: IfNewer = IfNewer.ASK
    prove: Prove = Prove.AUTO
    modes: Modes | None = None
    times: Times = Times.KEEP
    pack: Pack = Pack.AUTO
    growing: Choice | None = None
    unchanged_for: float = 0.0
    max_rate: int = 0
    space_check: bool = True
    accept_gone: bool = False


@dataclass(frozen=True, slots=True)
class DatasetStageRequest(StageOptions):
    """A dataset of the project that is to be staged, as the project file says on that day.

    `towards` None: the way of its use. `stage_of_dataset` makes a StageRequest of it.
    """

    dataset: str
    towards: Towards | None = None


@dataclass(frozen=True, slots=True)
class StageRequest(StageOptions):
    """What a stage is asked for. Raises BadStage for what cannot be, ValueError without a source.

    Every source arrives in the directory `destination` under its own name; `renamed` is the template of other names,
    `name` one name as it is. `choice`: what of them. `stored` None: what is there keeps its form, and what is new
    becomes files. `purpose`: what the batch will be for.
    """

    sources: tuple[Place, ...]
    destination: Place
    renamed: str | None = None
    name: bytes = b""
    purpose: Purpose = NO_PURPOSE
    choice: Choice = EVERYTHING
    stored: StoredAs | None = None

    def __post_init__(self) -> None:
        if not self.sources:
            raise ValueError("nothing is staged")
        first = str(self.sources[0])
        if len({source.node for source in self.sources}) > 1:
            raise BadStage(WrongStage.SEVERAL_MACHINES, str(self.sources[-1]))
        if self.stored in BUNDLED:
            if self.source_node:
                raise BadStage(WrongStage.STORED_FROM_A_NODE, first, str(self.stored))
            if self.growing is not None:
                raise BadStage(WrongStage.GROWING_IN_A_BUNDLE, first, str(self.stored))

    @property
    def source_node(self) -> str:
        """The node that everything comes from, "" for this machine."""
        return self.sources[0].node

    @property
    def by_digest(self) -> bool:
        """Whether files count as there already only by their contents."""
        return self.by is By.DIGEST

    @property
    def stored_as(self) -> StoredAs | None:
        """As what directories are kept; None: what is there keeps its form, and what is new becomes files."""
        return StoredAs.FILES if self.stored is None and not self.sees_through else self.stored

    @property
    def sees_through(self) -> bool:
        """Whether stored bundles of the source are taken for the directories that they stand for."""
        return self.stored is not None or self.pack is not Pack.NEVER

    def modes_in(self, area: Area | None) -> Modes:
        """Whose permission bits arrive in an area: as requested, else the site's in shared ones."""
        if self.modes is not None:
            return self.modes
        return Modes.SITE if area is not None and area.shared else Modes.KEEP

    @property
    def options(self) -> str:
        """Everything but the places, as text that is equal for equal options."""
        return json.dumps(
            {
                "only": _decoded(self.choice.only),
                "skip": _decoded(self.choice.skip),
                "modes": self.modes,
                "times": self.times,
                "pack": self.pack,
                "store": self.stored,
                "by_digest": self.by_digest,
                "if_newer_there": self.if_newer,
                "prove": self.prove,
                "max_rate": self.max_rate,
                "unchanged_for": self.unchanged_for,
                "growing": _decoded(self.growing.only) if self.growing is not None else [],
            },
            sort_keys=True,
        )


def _decoded(patterns: Sequence[bytes]) -> list[str]:
    return [os.fsdecode(pattern) for pattern in patterns]
