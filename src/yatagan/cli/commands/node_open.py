"""`yatagan node open` and `close`: one login for many commands."""

from __future__ import annotations

import time
from dataclasses import dataclass
from typing import TYPE_CHECKING

import click

from yatagan.cli import shell_completion
from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.answers.node_answer import openness_json
from yatagan.cli.context import App, as_json, no_questions, run, written
from yatagan.cli.terminal import terminal, text
from yatagan.cli.views.login_questions import confirm
from yatagan.config.nodes import Node
from yatagan.config.units import parse_duration
from yatagan.errors import BatchInUse, CannotReach
from yatagan.keeper.endpoint import Endpoint, KeeperEnd

if TYPE_CHECKING:
    from yatagan.keeper.client import KeeperStatus

#: The longest that a login is held open, in seconds.
_LONGEST = 7 * 86400.0


def _span(text: str) -> float:
    """How long a login is to be held open, in seconds. Raises ValueError."""
    seconds = parse_duration(text)
    if not 0 < seconds <= _LONGEST:
        raise ValueError("a login can be held open for up to 7d")
    return seconds


@click.command("open", epilog="Example: yatagan node open heron --for 8h")
@click.argument("name", shell_complete=shell_completion.nodes)
@click.option(
    "--for",
    "span",
    callback=written(_span),
    metavar="SPAN",
    default="8h",
    show_default=True,
    help="How long, such as 30m, 8h or 2d.",
)
@no_questions
@as_json
def open_command(name: str, span: float, no_questions: bool, json_: bool) -> None:
    """Log in to a node once, for all commands to come.

    A process in the background holds the login, and carries the batches that go over it. It ends when the time is
    up, when the connection is lost, or with yatagan node close. For a node that is open already, only the time is set.
    """
    app = App.start(questions=not no_questions)
    status = run(_open(app, app.nodes().get(name), time.time() + span))
    if json_:
        say_json({"node": name, "open": openness_json(status)})
        return
    terminal.say(f"{name} is open until {text.moment(int(status.until * 1e9))}: commands and batches use this login.")
    terminal.say(f"Close it with: yatagan node close {name}")


async def _open(app: App, node: Node, until: float) -> KeeperStatus:
    keeper = app.keeper(node.name)
    if keeper is not None:
        return await keeper.extend(until)
    from yatagan.keeper.spawn import open_node

    status = await open_node(app.home, node, until, app.questions, app.trusts)
    if app.queue().let_in(node.name):  # batches have waited for this login
        from yatagan.background.starting import start_worker

        start_worker(app.home)
    return status


@click.command("close", epilog="Example: yatagan node close heron")
@click.argument("name", shell_complete=shell_completion.nodes)
@click.option("--yes", is_flag=True, help="Stop the batches that are carried over this login, without asking.")
@no_questions
@as_json
def close_command(name: str, yes: bool, no_questions: bool, json_: bool) -> None:
    """Log out of a node that is open.

    Batches that are being carried are stopped cleanly, after a question, and can be resumed.
    """
    app = App.start(questions=not no_questions)
    was_open = run(_close(app, name, stop_batches=yes))
    if json_:
        say_json({"node": name, "was_open": was_open})
    else:
        terminal.say(f"{name} is closed." if was_open else f"{name} was not open.")


async def _close(app: App, name: str, *, stop_batches: bool) -> bool:
    keeper = app.keeper(name)
    if keeper is None:
        app.nodes().get(name)  # a name that means nothing is a mistake; one that was removed may still be open
        return False
    try:
        await keeper.close(batches=stop_batches)
    except BatchInUse as error:
        if not app.questions.attended:
            raise
        if not confirm(f"Batch {error.batch} is being carried over this login. Stop it?"):
            raise click.Abort from None
        await keeper.close(batches=True)
    return True


@dataclass(frozen=True, slots=True)
class OpenState:
    """Whether a node is open; if not, how that ended; and what is wrong with its keeper."""

    status: KeeperStatus | None
    ending: KeeperEnd | None = None
    trouble: CannotReach | None = None


async def openness(app: App, node: str) -> OpenState:
    """Ask a node's keeper whether it is open."""
    keeper = app.keeper(node)
    if keeper is not None:
        try:
            return OpenState(await keeper.status())
        except CannotReach as error:
            return OpenState(None, trouble=error)
    return OpenState(None, Endpoint(app.home, node).ending())
