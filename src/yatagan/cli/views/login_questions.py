"""Asking the person at the terminal what a login asks, and telling them when it waits for something else."""

from __future__ import annotations

import contextlib
import getpass
import signal
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, ExitStack

import click

from yatagan.cli.terminal import terminal
from yatagan.cli.terminal.text import count, show, warn
from yatagan.cli.words import question_words
from yatagan.desk.questions import Asked, NoQuestions, Warned
from yatagan.errors import GivenUp, NeedsAnswer
from yatagan.nodes.prompts import LoginProgress, Question

#: Without a terminal, a wait is reported after so many seconds, and again after so many more.
_TOLD_AFTER, _TOLD_AGAIN = 5.0, 30.0


class AtTerminal:
    """Asks the person at the terminal. A question stops everything else, since nothing can go on without its answer.

    While a batch is carried, `aside` clears the screen for it, and `stop` is what Ctrl-C does.
    """

    attended = True

    def __init__(self) -> None:
        self.aside: Callable[[], AbstractContextManager[None]] = contextlib.nullcontext
        self.stop: Callable[[], None] | None = None
        self._waiting: ExitStack | None = None
        self._noted: set[str] = set()

    def agrees(self, asked: Asked) -> bool:
        """Ask; no is the default."""
        with self.aside():
            for line in question_words.explained(asked):
                terminal.say(line, err=True)
            return confirm(question_words.question(asked))

    def warned(self, of: Warned) -> None:
        """A line."""
        with self.aside():
            warn(question_words.warning(of))

    async def answer(self, question: Question) -> str:
        """Show the server's words and read an answer; secrets are not shown."""
        self.waited()
        words = show(question.text.strip())
        text = terminal.rendered(f"{question.node} asks: {words} " if question.node else f"{words} ")
        try:
            with self.aside(), plain_interrupts():
                if not question.shown:
                    return getpass.getpass(text)
                return str(click.prompt(text, prompt_suffix="", default="", show_default=False, err=True))
        except (KeyboardInterrupt, click.Abort):
            if self.stop is not None:
                self.stop()
            raise GivenUp(question.node, question.text) from None
        except EOFError:
            raise NeedsAnswer(question.node, question.text) from None

    def tell(self, node: str, said: str) -> None:
        """Show what a server says."""
        self.waited()
        with self.aside():
            for line in said.strip().splitlines():
                terminal.say(f"{node} says: {show(line.strip())}", err=True)

    def refused(self, node: str, tries_left: int | None) -> None:
        """Say that an answer was wrong."""
        self.waited()
        left = f": {count(tries_left, 'try', 'tries')} left" if tries_left is not None else ""
        with self.aside():
            warn(f"{node} did not accept that{left}" if node else f"that does not open the key{left}")

    def note(self, text: str) -> None:
        """A line, once a run."""
        if text not in self._noted:
            self._noted.add(text)
            self.waited()
            with self.aside():
                warn(show(text))

    def waiting(self, node: str, seconds: float, reached: LoginProgress) -> None:
        """One line, written over and over."""
        if self._waiting is None:
            self._waiting = ExitStack()
            self._waiting.enter_context(self.aside())
        terminal.say_over(_wait(node, seconds, reached))

    def waited(self) -> None:
        """The line goes away."""
        if self._waiting is not None:
            terminal.say_over()
            self._waiting.close()
            self._waiting = None


class Unattended(NoQuestions):
    """There is no terminal to ask at, but the log may be read."""

    def __init__(self) -> None:
        self._told = 0.0
        self._noted: set[str] = set()

    def warned(self, of: Warned) -> None:
        """A line."""
        warn(question_words.warning(of))

    def note(self, text: str) -> None:
        """A line, once a run."""
        if text not in self._noted:
            self._noted.add(text)
            warn(show(text))

    def waiting(self, node: str, seconds: float, reached: LoginProgress) -> None:
        """A line now and then."""
        if seconds >= (self._told + _TOLD_AGAIN if self._told else _TOLD_AFTER):
            self._told = seconds
            terminal.say(_wait(node, seconds, reached), err=True)

    def waited(self) -> None:
        """The next wait is another one."""
        self._told = 0.0


def _wait(node: str, seconds: float, reached: LoginProgress) -> str:
    match reached:
        case LoginProgress.NOTHING:
            return f"connecting to {node} ({seconds:.0f} s)"
        case LoginProgress.SERVER:
            return f"{node} has not accepted the login yet ({seconds:.0f} s): approve it elsewhere?"
        case LoginProgress.ACCOUNT:
            return f"logged in to {node}; its shell has not answered yet ({seconds:.0f} s)"


def confirm(question: str) -> bool:
    """Ask for yes or no at the terminal; no is the default. Ctrl-C ends the command, with click's Abort."""
    with plain_interrupts():
        return click.confirm(terminal.rendered(question), default=False, err=True)


@contextlib.contextmanager
def plain_interrupts() -> Iterator[None]:
    """While a question is open Ctrl-C ends it at once; else it means a clean stop."""
    before = signal.signal(signal.SIGINT, signal.default_int_handler)
    try:
        yield
    finally:
        signal.signal(signal.SIGINT, before)
