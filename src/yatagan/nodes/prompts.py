"""Answers to what a login asks, and reports while it waits.

The words of a server travel as they came and are unsafe to print: escape them before showing them.
Answers are used once and never kept.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import Protocol

from yatagan.errors import NeedsAnswer


@dataclass(frozen=True, slots=True)
class Question:
    """A prompt in the words of the asker: a node, or this machine about one of its keys (`node` is empty).

    `shown`: whether the answer may be seen while it is typed.
    """

    node: str
    text: str
    shown: bool = False


class LoginProgress(StrEnum):
    """How far a login has come that makes us wait."""

    NOTHING = "nothing"
    #: The server answers: it may wait for an approval elsewhere.
    SERVER = "server"
    #: We are let in, and what is started there has not answered yet.
    ACCOUNT = "account"


class Prompter(Protocol):
    """Answers a login's questions, and receives its progress."""

    async def answer(self, question: Question) -> str:
        """The answer to a question. Raises NeedsAnswer when it cannot be given."""

    def tell(self, node: str, said: str) -> None:
        """The server says something without asking."""

    def refused(self, node: str, tries_left: int | None) -> None:
        """What was answered last is wrong; for a key of this machine, with an empty `node`, so many tries are left.

        How many a server allows it does not say: None.
        """

    def note(self, text: str) -> None:
        """Tell the user of something in this machine's files that does not stop the login."""

    def waiting(self, node: str, seconds: float, reached: LoginProgress) -> None:
        """The login has waited for so many seconds; called every second."""

    def waited(self) -> None:
        """The login has ended its wait, well or not: what `waiting` showed may go."""


class NoPrompter:
    """Answers nothing."""

    async def answer(self, question: Question) -> str:
        """Raises NeedsAnswer."""
        raise NeedsAnswer(question.node, question.text)

    def tell(self, node: str, said: str) -> None:
        pass

    def refused(self, node: str, tries_left: int | None) -> None:
        pass

    def note(self, text: str) -> None:
        pass

    def waiting(self, node: str, seconds: float, reached: LoginProgress) -> None:
        pass

    def waited(self) -> None:
        pass
