"""Who answers what a login asks, and who is told that it waits.

The words of a server travel as they came and are unsafe to print: whoever shows them makes them safe.
Answers are used once and never kept.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import Protocol

from yatagan.errors import NeedsAnswer


@dataclass(frozen=True, slots=True)
class Question:
    """One prompt, in the words of whoever asks: a node, or this machine about a key of its own (`node` is empty).

    `shown` tells whether the answer may be seen while it is typed.
    """

    node: str
    text: str
    shown: bool = False


class LoginProgress(StrEnum):
    """How far a login has come that lets us wait."""

    NOTHING = "nothing"
    #: The server answers: it may wait for an approval elsewhere.
    SERVER = "server"
    #: We are let in, and what is started there has not answered yet.
    ACCOUNT = "account"


class Prompter(Protocol):
    """Somebody or something that answers, and is told how the login goes on."""

    async def answer(self, question: Question) -> str:
        """The answer. Raises NeedsAnswer when there is nobody."""

    def tell(self, node: str, said: str) -> None:
        """What a server says without asking anything."""

    def note(self, text: str) -> None:
        """Something about this machine's own files that does not stop the login."""

    def waiting(self, node: str, seconds: float, reached: LoginProgress) -> None:
        """The node has let us wait for so long. Told every second."""

    def waited(self) -> None:
        """The wait is over, one way or the other."""


class NoPrompter:
    """Answers nothing and hears nothing."""

    async def answer(self, question: Question) -> str:
        """Raises NeedsAnswer."""
        raise NeedsAnswer(question.node, question.text)

    def tell(self, node: str, said: str) -> None:
        """See `Prompter`."""

    def note(self, text: str) -> None:
        """See `Prompter`."""

    def waiting(self, node: str, seconds: float, reached: LoginProgress) -> None:
        """See `Prompter`."""

    def waited(self) -> None:
        """See `Prompter`."""
