"""What a verify is asked for, and what it answers, as values."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from yatagan.config.project import By, Towards
from yatagan.digests.any_lists import Reading
from yatagan.digests.checksum_lists import Listed
from yatagan.ledger.ledger import OnRecord
from yatagan.places import Place
from yatagan.trees.patterns import EVERYTHING, Choice
from yatagan.verdicts.scope import StillNotGood
from yatagan.verdicts.verification import Verdicts

AS_THE_LIST_SAYS = Reading()


@dataclass(frozen=True, slots=True)
class VerifyRequest:
    """What a verify is asked for. Raises ValueError unless it is of one thing: a place, a batch, or a dataset.

    A `place` is compared with a checksum list, `against` or the one in it, read as `reading` says; a `batch` with what
    it has put into its destination; a `dataset` of the project with what is on record of it, at the end `side`: where
    it is carried to, for None. `choice`: what of it. `processes`: how many processors may hash, 0 for as many as fit.
    `resume`: go on where a run of the last day was cut off, and again after a lost connection.
    """

    place: Place | None = None
    batch: str = ""
    dataset: str = ""
    against: Place | None = None
    reading: Reading = AS_THE_LIST_SAYS
    side: Towards | None = None
    choice: Choice = EVERYTHING
    by: By = By.DIGEST
    processes: int = 0
    resume: bool = False

    def __post_init__(self) -> None:
        if (self.place is not None) + bool(self.batch) + bool(self.dataset) != 1:
            raise ValueError("either a place, or a batch, or a dataset is verified")
        if self.place is None and (self.against is not None or self.reading != AS_THE_LIST_SAYS):
            raise ValueError("only a place is verified against a list")
        if self.side is not None and not self.dataset:
            raise ValueError("only a dataset has two sides")

    @property
    def by_digest(self) -> bool:
        """Whether contents are looked at."""
        return self.by is By.DIGEST


@dataclass(frozen=True, slots=True)
class Against:
    """What a tree was verified against: a list, its digest, and the lines of it that are meant.

    `root`: the tree's absolute path. `inside`: it is the list in the tree itself. `crlf`: its lines ended with CRLF.
    `batch`: it is no list, but what this batch has put there. `dataset`: it is what the ledger has of this dataset;
    `recorded`: when that was last put on record, and by whom.
    """

    root: bytes
    place: Place
    digest: str
    listed: Sequence[Listed]
    inside: bool = False
    crlf: bool = False
    batch: str = ""
    dataset: str = ""
    recorded: tuple[str, str] = ("", "")


@dataclass(frozen=True, slots=True)
class Verified:
    """What a verify has found at a place, and what became of its record.

    `still_not_good`: what earlier verdicts on the dataset have found, where this one has not looked, or not as well.
    """

    where: Place
    against: Against
    verdicts: Verdicts
    record: OnRecord
    still_not_good: Sequence[StillNotGood] = field(default=())

    @property
    def good(self) -> bool:
        """Whether everything on record is there and the same."""
        return self.verdicts.good
