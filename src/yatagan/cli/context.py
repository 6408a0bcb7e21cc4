"""What every command needs: a desk at the terminal, and answers in the form that was asked for."""

from __future__ import annotations

import asyncio
import os
import sys
from collections.abc import Callable, Coroutine
from dataclasses import dataclass
from enum import StrEnum
from typing import Any, TypeVar

import click

from yatagan.cli.answers.json_answer import JSON_FORMAT, say_json
from yatagan.cli.terminal import stop_signals, terminal
from yatagan.cli.terminal.text import Tone, show, tinted, warn
from yatagan.cli.views.login_questions import AtTerminal, Unattended, confirm
from yatagan.cli.words.messages import Explanation
from yatagan.config.defects import write_defects_to
from yatagan.config.own_directories import secure
from yatagan.desk.desk import Desk
from yatagan.desk.opening import find_home
from yatagan.errors import Refused
from yatagan.futures import first_of

T = TypeVar("T")


@dataclass(slots=True)
class App(Desk):
    """One run of the program: the desk of whoever typed the command, where they typed it."""

    @classmethod
    def start(cls, *, questions: bool = True) -> App:
        """Start with the user's directories. Questions are asked only at a terminal."""
        attended = questions and sys.stdin.isatty() and sys.stderr.isatty()
        home = find_home(os.environ)
        if changed := [show(str(each)) for each in secure(home)]:
            them = "it is" if len(changed) == 1 else "they are"
            warn(f"other accounts could read or change {', '.join(changed)}; now {them} yours alone")
        write_defects_to(home.defects)
        stop_signals.listen()
        answers = AtTerminal() if attended else Unattended()
        try:
            here = os.getcwdb()
        except FileNotFoundError:  # it was removed
            here = None
        command = "yatagan", *sys.argv[1:]
        return cls(home, here, answers, os.environ.get("SSH_AUTH_SOCK", ""), command)

    def may(self, question: str, *, yes: bool) -> bool:
        """Whether to do what cannot be undone: asked unless `yes` was said.

        Raises Refused without a terminal.
        """
        if yes:
            return True
        if not self.questions.attended:
            raise Refused("there is no terminal to ask whether to do that", "add --yes to do it without a question")
        return confirm(question)


def run(work: Coroutine[Any, Any, T]) -> T:
    """Run a coroutine; of several errors at once, raise the first."""
    try:
        return asyncio.run(work)
    except BaseExceptionGroup as group:
        raise first_of(group) from None


def fail(error: Explanation, *, json_: bool, lines: bool = False) -> int:
    """Report an error, with `json_` or as one of several `lines` on standard output too. Returns its exit status."""
    if json_ or lines:
        remedy = "\n".join([error.remedy, *error.lines]) if error.lines else error.remedy
        fields = {"kind": error.kind, "message": error.message, "place": error.place, "remedy": remedy}
        step = {"step": error.step} if error.step else {}
        answer = {"error": {**fields, **step}, "exit_status": int(error.status)}
        if lines:
            terminal.say_json({"format": JSON_FORMAT, "event": "error", **answer}, indent=None)
        else:
            say_json(answer)
    terminal.say(tinted("yatagan: ", Tone.TROUBLE) + error.message, err=True)
    for line in (error.remedy, *error.lines) if error.remedy else ():
        terminal.say("  " + line, err=True)
    return error.status


def one_of(kind: type[StrEnum]) -> click.Choice[str]:
    """An option type for the values of an enumeration."""
    return click.Choice([each.value for each in kind])


def written(read: Callable[[str], T], absent: T | None = None) -> Callable[[click.Context, click.Parameter, Any], Any]:
    """A callback for an option: what `read` makes of its text, `absent` without it.

    The text of a ValueError goes to the user as a usage error.
    """

    def convert(context: click.Context, option: click.Parameter, text: str | None) -> T | None:
        try:
            return read(text) if text is not None else absent
        except ValueError as error:
            raise click.BadParameter(str(error), context, option) from None

    return convert


def checked(make: Callable[[], T]) -> T:
    """What is made of options. Raises UsageError where its ValueError says that they make no sense."""
    try:
        return make()
    except ValueError as error:
        raise click.UsageError(str(error), click.get_current_context()) from None


def options(*decorators: Callable[[Any], Any]) -> Callable[[Any], Any]:
    """Several options as one decorator."""

    def apply(command: Any) -> Any:
        for decorator in reversed(decorators):
            command = decorator(command)
        return command

    return apply


as_json = click.option("--json", "json_", is_flag=True, help="Answer with one JSON object.")
no_questions = click.option("--no-questions", is_flag=True, help="Never ask; what cannot be answered is an error.")
