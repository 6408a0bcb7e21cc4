"""`yatagan routine`: stages, and other commands, that run again and again, from a timer."""

from __future__ import annotations

import asyncio
import time
from functools import partial

import click

from yatagan.background.leaving import attend
from yatagan.background.routine_runs import RoutineRunner
from yatagan.background.routine_work import batch_ended, meet
from yatagan.background.routines import Routine, RoutineBook, RunOutcome
from yatagan.background.starting import start_worker
from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.answers.routine_answer import routine_json, run_json
from yatagan.cli.command_group import CommandGroup
from yatagan.cli.commands.routine_add import add_command, convert
from yatagan.cli.context import App, as_json
from yatagan.cli.terminal import terminal, text
from yatagan.cli.views.routine_view import (
    DRAWN,
    LISTED,
    asked_for,
    drawn_runs,
    due_next,
    follows,
    last_run,
    runs_legend,
    state_of,
    what_came,
)
from yatagan.cli.words.batch_words import no_worker
from yatagan.cli.words.exit_status import ExitStatus
from yatagan.errors import BadPlace
from yatagan.operations.request_json import command_of


@click.group("routine", cls=CommandGroup)
def routine_command() -> None:
    """A routine is a stage that runs again and again, and moves only what is new; or a verify, and the like.

    A worker runs it when it is due, as long as this machine is up; after a restart that needs yatagan service install.
    """


routine_command.add_command(add_command)


@routine_command.command("list", epilog="Example: yatagan routine list")
@as_json
def list_(json_: bool) -> None:
    """Show all routines: when each runs, and what its last runs came to."""
    app = App.start(questions=False)
    convert(app)
    book = RoutineBook.of(app.home)
    routines = [(routine, book.runs(routine.name, DRAWN)) for routine in book.all()]
    missed = _attend(app)
    if json_:
        say_json({"routines": [routine_json(routine, runs) for routine, runs in routines]})
        return
    if not routines:
        terminal.say("There is no routine. Make one with: yatagan routine add NAME SOURCE… DESTINATION --every 15min")
        return
    rows = [
        (
            routine.name,
            str(routine.schedule),
            state_of(routine),
            last_run(runs),
            drawn_runs(runs[-LISTED:]),
            asked_for(routine),
        )
        for routine, runs in routines
    ]
    text.table(("routine", "runs", "state", "last run", "runs so far", "does"), rows, squeeze=True)
    if missed:
        text.warn(missed)


@routine_command.command("show", epilog="Example: yatagan routine show fen")
@click.argument("name")
@as_json
def show(name: str, json_: bool) -> None:
    """Show a routine, and what its last runs came to."""
    app = App.start(questions=False)
    convert(app)
    book = RoutineBook.of(app.home)
    routine, runs = book.get(name), book.runs(name, DRAWN)
    missed = _attend(app)
    if json_:
        say_json(routine_json(routine, runs))
        return
    tone = text.Tone.TROUBLE if routine.trouble else text.Tone.WARNING if routine.held else text.Tone.GOOD
    terminal.say(terminal.style(f"Routine {name}: ", bold=True) + text.tinted(state_of(routine), tone))
    text.facts(
        [
            ("", f"{drawn_runs(runs)}  {runs_legend(runs)}" if runs else ""),
            ("does", asked_for(routine)),
            ("in", text.show(routine.directory)),
            ("runs", str(routine.schedule)),
            ("follows", follows(routine)),
            ("until", text.moment(int(routine.until * 1e9)) if routine.until else ""),
            ("trouble", text.show(routine.trouble)),
            ("worker", missed),
            ("next", "" if routine.held else text.day_time(due) if (due := due_next(routine)) > time.time() else "now"),
        ]
    )
    rows = [(text.moment(int(run.began * 1e9)), run.outcome.value, what_came(run)) for run in runs[-LISTED:][::-1]]
    if rows:
        terminal.say()
        text.table(("run", "came to", "what"), rows, squeeze=True)


@routine_command.command("hold", epilog="Example: yatagan routine hold fen")
@click.argument("name")
@as_json
def hold(name: str, json_: bool) -> None:
    """Let a routine run no more, until yatagan routine resume. A run that goes on comes to its end."""
    _set_held(name, held=True, json_=json_)


@routine_command.command("resume", epilog="Example: yatagan routine resume fen")
@click.argument("name")
@as_json
def resume(name: str, json_: bool) -> None:
    """Let a routine that is held run again."""
    _set_held(name, held=False, json_=json_)


def _set_held(name: str, *, held: bool, json_: bool) -> None:
    app = App.start(questions=False)
    book = RoutineBook.of(app.home)
    book.get(name)
    book.change(name, held=held)
    if not held:
        start_worker(app.home)
    if json_:
        say_json(routine_json(book.get(name), book.runs(name, DRAWN)))
    else:
        terminal.say(f"Routine {name} is held." if held else f"Routine {name} runs {book.get(name).schedule} again.")


@routine_command.command("remove", epilog="Example: yatagan routine remove fen")
@click.argument("name")
@as_json
def remove(name: str, json_: bool) -> None:
    """Forget a routine and its runs. What it has staged stays, and so do its batches."""
    app = App.start(questions=False)
    book = RoutineBook.of(app.home)
    request = book.get(name).request
    book.remove(name)
    if json_:
        say_json({"removed": True})
    else:
        stays = "; what it has staged stays" if request is None or command_of(request) == "stage" else ""
        terminal.say(f"Routine {name} is removed{stays}.")


@routine_command.command("run", epilog="Example: yatagan routine run fen")
@click.argument("name")
@as_json
def run_(name: str, json_: bool) -> None:
    """Run a routine now, whether it is due or not. What is new is left to a worker."""
    app = App.start(questions=False)
    convert(app)
    book = RoutineBook.of(app.home)
    routine = book.get(name)
    runner = RoutineRunner(book, partial(meet, app.home), partial(batch_ended, app.home), _Unheard())
    runner.settle(routine)
    run = asyncio.run(runner.run(routine))
    if run is None:
        last = next(iter(book.runs(book.get(name).name, 1)))
        where = f", in batch {last.batch}" if last.batch else ": it plans"
        raise BadPlace(name, f"its last run still goes on{where}", "wait for it")
    if json_:
        say_json(run_json(run))
    else:
        terminal.say(f"Routine {name}: {run.outcome.value}{f', {what_came(run)}' if what_came(run) else ''}")
    if run.outcome in (RunOutcome.FAILED, RunOutcome.NOT_GOOD):
        raise click.exceptions.Exit(ExitStatus.DIFFERENCES)


class _Unheard:
    """Who runs a routine by hand sees what comes of it."""

    def routine_trouble(self, routine: Routine, why: str) -> None:
        pass

    def routine_well(self, routine: Routine) -> None:
        pass


def _attend(app: App) -> str:
    """Start a worker if routines are to run and none is alive. Returns what is to be said of that; "" for nothing."""
    attendance = app.queue().attendance()
    return f"{no_worker(attendance)}; one is started now" if attend(app) else ""
