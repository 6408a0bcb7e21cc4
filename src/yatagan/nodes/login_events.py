"""What happens during a login: the server's questions, a wait for an approval, how long it takes.

Questions are passed on word for word to the prompter; answers are never kept.
"""

from __future__ import annotations

import asyncio
import contextlib
import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import asyncssh

from yatagan.config.nodes import Node
from yatagan.errors import NeedsAnswer
from yatagan.nodes.host_keys import HostKeys
from yatagan.nodes.prompts import LoginProgress, Prompter, Question

#: Rounds of questions before we take it that the answers were wrong (servers end it at six).
_ROUNDS = 6
#: Seconds in which a machine must have answered as an SSH server.
_REACH_SECONDS = 20.0
#: Seconds of silence during a login before the user is shown that we wait.
PATIENT = 2.0


@dataclass(frozen=True, slots=True)
class LoginTimes:
    """Seconds to reach the machine and to be let in, without our own answering, and the number of questions asked."""

    reaching: float
    letting_in: float
    questions: int


class _LoginClock:
    """How long one login takes. The time in which a person is asked does not count."""

    def __init__(self) -> None:
        self.began = self.quiet_since = time.monotonic()
        self.reached_at: float | None = None
        self.let_in_at = 0.0
        self.asking = False
        self._asked_seconds = 0.0

    def begin(self) -> None:
        """A connection is about to be opened."""
        self.began = self.quiet_since = time.monotonic()
        self.reached_at = None

    @contextlib.contextmanager
    def asked(self) -> Iterator[None]:
        """A person is asked."""
        began = time.monotonic()
        self.asking = True
        try:
            yield
        finally:
            self.asking = False
            self.quiet_since = time.monotonic()
            self._asked_seconds += self.quiet_since - began

    def times(self, rounds: int) -> LoginTimes:
        """How long the login took."""
        reached = self.reached_at if self.reached_at is not None else self.let_in_at
        return LoginTimes(reached - self.began, self.let_in_at - reached - self._asked_seconds, rounds)


class LoginEvents(asyncssh.SSHClient):
    """Answers the SSH library during a login, which may take several connections to an accepted host key."""

    def __init__(self, node: Node, answers: Prompter) -> None:
        self.node = node
        self.answers = answers
        self._rounds = 0
        #: Questions of the present try; how many tries were refused.
        self._asked: list[str] = []
        self.refusals = 0
        self._clock = _LoginClock()
        self._connection: asyncssh.SSHClientConnection | None = None
        self.host_keys: HostKeys | None = None
        self.stopped: NeedsAnswer | None = None
        self.lost = asyncio.Event()

    def begin(self, host_keys: HostKeys) -> None:
        """A connection is about to be opened; these host keys count for it."""
        self.host_keys = host_keys
        self._connection = None
        self._clock.begin()

    def connection_made(self, conn: asyncssh.SSHClientConnection) -> None:
        self._connection = conn
        self._clock.reached_at = time.monotonic()

    def auth_completed(self) -> None:
        self._clock.let_in_at = time.monotonic()

    def times(self) -> LoginTimes:
        """How long the login took."""
        return self._clock.times(self._rounds)

    @property
    def reached(self) -> bool:
        """Whether something has taken the connection."""
        return self._clock.reached_at is not None

    def connection_lost(self, exc: Exception | None) -> None:
        if self._clock.let_in_at:  # else it is one that was tried, and perhaps not the last
            self.lost.set()

    def validate_host_public_key(self, host: str, addr: str, port: int, key: asyncssh.SSHKey) -> bool:
        return self.host_keys is not None and self.host_keys.accepts(host, port, key)

    def auth_banner_received(self, msg: str, lang: str) -> None:
        self.answers.tell(self.node.name, msg)

    async def password_auth_requested(self) -> str | None:
        self._try_again()
        return await self._ask(Question(self.node.name, "Password: "))

    def kbdint_auth_requested(self) -> str | None:
        self._try_again()
        return "" if self._rounds < _ROUNDS and self.stopped is None else None

    async def kbdint_challenge_received(
        self, name: str, instructions: str, lang: str, prompts: Sequence[tuple[str, bool]]
    ) -> Sequence[str] | None:
        for words in (name, instructions):
            if words.strip():
                self.answers.tell(self.node.name, words)
        given = []
        for text, shown in prompts:
            answer = await self._ask(Question(self.node.name, text, shown))
            if answer is None:
                return None
            given.append(answer)
        return given  # to a round without prompts the answer is nothing

    def _try_again(self) -> None:
        """The server lets us begin anew: what was answered was wrong. It never says so itself (RFC 4252)."""
        if self._asked and self.stopped is None:
            self.refusals += 1
            self._asked = []

    async def _ask(self, question: Question) -> str | None:
        if question.text in self._asked:  # asked again within one try
            self._try_again()
        if self.refusals and not self._asked and self._rounds < _ROUNDS:
            self.answers.refused(self.node.name, None)
        self._asked.append(question.text)
        self._rounds += 1
        if self._rounds > _ROUNDS or self.stopped is not None:
            return None
        try:
            with self._clock.asked():
                return await self.answers.answer(question)
        except NeedsAnswer as error:
            self.stopped = error
            return None

    async def see_through(self, attempt: asyncio.Task[asyncssh.SSHClientConnection]) -> asyncssh.SSHClientConnection:
        """Wait for a login and report how long it takes: a wait for an approval looks like a hang.

        A machine must answer soon; a person may take their time. Raises TimeoutError, or what the attempt raises.
        """
        shown = False
        try:
            while not attempt.done():
                await asyncio.wait({attempt}, timeout=1.0)
                now = time.monotonic()
                if not self.greeted and now - self._clock.began > _REACH_SECONDS:
                    raise TimeoutError
                seconds = now - self._clock.quiet_since
                if not attempt.done() and not self._clock.asking and seconds >= PATIENT:
                    shown = True
                    reached = LoginProgress.SERVER if self.reached else LoginProgress.NOTHING
                    self.answers.waiting(self.node.name, seconds, reached)
            return attempt.result()
        finally:
            if shown:
                self.answers.waited()
            attempt.cancel()

    @property
    def greeted(self) -> bool:
        """Whether an SSH server has answered."""
        return self._connection is not None and bool(self._connection.get_extra_info("server_version"))
