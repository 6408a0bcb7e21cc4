"""What is asked of a person, as values, and who answers: a person at a terminal, a program, or nobody."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

from yatagan.errors import Concern, UnknownHostKey, YataganError
from yatagan.nodes.prompts import NoPrompter, Prompter


@dataclass(frozen=True, slots=True)
class TrustHostKey:
    """Whether a node may show a host key that was not seen before."""

    error: UnknownHostKey


@dataclass(frozen=True, slots=True)
class FollowLink:
    """Whether to go through a link that another account made."""

    link: bytes
    target: bytes
    owner: str


@dataclass(frozen=True, slots=True)
class GoByProject:
    """Whether to go by a project although something about it is strange."""

    concerns: tuple[Concern, ...]


#: What an operation can ask for; no is always the answer that changes nothing.
Asked = TrustHostKey | FollowLink | GoByProject


@dataclass(frozen=True, slots=True)
class LedgerNotUsed:
    """What is done goes on record elsewhere: the project's ledger cannot be used."""

    error: YataganError


@dataclass(frozen=True, slots=True)
class UnreadInLedger:
    """A file of the ledger cannot be read: what it says is missing in the answer."""

    name: str
    why: str


@dataclass(frozen=True, slots=True)
class FewerProcessors:
    """A node that is made for logging in lets no more than so many processors work for one user."""

    node: str
    allowed: int
    asked: int


@dataclass(frozen=True, slots=True)
class LoggingInAgain:
    """A connection was lost; in so many seconds there is another try."""

    error: YataganError
    seconds: float


#: What an operation warns of while it goes on.
Warned = LedgerNotUsed | UnreadInLedger | FewerProcessors | LoggingInAgain


class Questions(Prompter, Protocol):
    """Answers what operations and logins ask, and hears what they warn of."""

    @property
    def attended(self) -> bool:
        """Whether there is a person to ask. Where there is none, nothing is asked."""

    def agrees(self, asked: Asked) -> bool:
        """Whether what is asked for is to be done."""

    def warned(self, of: Warned) -> None:
        """Something is not as it should be, and the operation goes on."""


class NoQuestions(NoPrompter):
    """Nobody is there: nothing is agreed to, and warnings go unheard."""

    attended = False

    def agrees(self, asked: Asked) -> bool:
        return False

    def warned(self, of: Warned) -> None:
        pass
