"""`yatagan routine`: stages that run again and again, from a timer."""

from __future__ import annotations

import asyncio
import os
import re
import sys
import time
from datetime import datetime

import click

from yatagan.background.following import why_not_followed
from yatagan.background.routine_decisions import due_at
from yatagan.background.routine_runs import RoutineRunner
from yatagan.background.routine_stage import batch_ended, stage
from yatagan.background.routines import Routine, RoutineBook, Run, RunOutcome
from yatagan.background.schedules import OnChange, Schedule, parse_at, parse_every
from yatagan.background.starting import start_worker
from yatagan.batches.moments import Moment
from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.answers.json_fields import seconds_at
from yatagan.cli.command_group import CommandGroup
from yatagan.cli.commands.background import attend
from yatagan.cli.context import App, as_json, written
from yatagan.cli.terminal import terminal, text
from yatagan.cli.views.strip_view import is_plain
from yatagan.cli.words.batch_words import no_worker
from yatagan.cli.words.exit_status import ExitStatus
from yatagan.config.project import Towards
from yatagan.config.units import parse_duration, spell_duration
from yatagan.errors import BadPlace
from yatagan.trees.patterns import split_at_pattern

_NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9_-]{0,31}")
#: Runs that are drawn, and those that are listed one by one.
_DRAWN, _LISTED = 30, 10
#: How the runs look: shape, the same in ASCII, colour.
_LOOKS = {
    RunOutcome.MOVED: ("█", "#", text.Tone.GOOD),
    RunOutcome.NOTHING_NEW: ("·", ".", None),
    RunOutcome.FAILED: ("×", "x", text.Tone.TROUBLE),
    RunOutcome.BROKEN_OFF: ("‡", "!", text.Tone.WARNING),
    RunOutcome.RUNNING: ("▒", "=", None),
}
_LEFT_OUT = ("–", "-", text.Tone.WARNING)


@click.group("routine", cls=CommandGroup)
def routine_command() -> None:
    """A routine is a stage that runs again and again, and moves only what is new.

    A worker runs it when it is due, as long as this machine is up; after a restart that needs yatagan service install.
    """


def _until(text_: str) -> float:
    """The end of a day, in seconds since the epoch. Raises ValueError."""
    day = datetime.strptime(text_, "%Y-%m-%d")
    return day.replace(hour=23, minute=59, second=59).timestamp()


@routine_command.command(
    "add",
    context_settings={"ignore_unknown_options": True},
    epilog="""\b
Examples:
  yatagan routine add fen fen heron:campaign --every 15min
  yatagan routine add nightly runs heron:in --at 02:30 --skip '*.tmp'
  yatagan routine add logger fen/raw heron:raw --on-change --growing '*.csv'
Everything else is as for stage: SOURCE... DESTINATION and its options.""",
)
@click.argument("name")
@click.argument("words", nargs=-1, required=True, metavar="SOURCE... DESTINATION [OPTIONS OF STAGE]")
@click.option("--every", callback=written(parse_every), metavar="SPAN", help="How often, such as 15min or 2h.")
@click.option("--at", "at_", callback=written(parse_at), metavar="TIME", help="Every day at this time, such as 02:30.")
@click.option("--on-change", is_flag=True, help="When something has changed in SOURCE, and has settled.")
@click.option("--until", callback=written(_until, 0.0), metavar="DATE", help="The last day, such as 2026-12-31.")
@click.option(
    "--unchanged-for",
    default="2m",
    show_default=True,
    callback=written(parse_duration),
    metavar="SPAN",
    help="Leave for another time what has changed within this span.",
)
@as_json
def add(
    name: str,
    words: tuple[str, ...],
    every: Schedule | None,
    at_: Schedule | None,
    on_change: bool,
    until: float,
    unchanged_for: float,
    json_: bool,
) -> None:
    """Have a stage run again and again under NAME, from this directory.

    Each run plans anew, moves only what is new, and leaves alone what is still being written and what is newer there.
    """
    given = [each for each in (every, at_, OnChange() if on_change else None) if each is not None]
    if len(given) != 1:
        raise click.UsageError(
            "say when, in one way: --every 15min, --at 02:30 or --on-change", click.get_current_context()
        )
    schedule = given[0]
    if not _NAME.fullmatch(name):
        raise BadPlace(name, "it cannot be a routine's name", "letters, digits, - and _, at most 32")
    app = App.start(questions=False)
    book = RoutineBook.of(app.home)
    if any(routine.name == name for routine in book.all()):
        remove = text.command("routine", "remove", name)
        raise BadPlace(name, "there is such a routine already", f"remove it first: {remove}")
    sources = _check(app, words)
    now = Moment.now()
    typed = (*words, "--unchanged-for", spell_duration(unchanged_for))
    routine = Routine(
        name,
        typed,
        os.getcwd(),
        schedule,
        until,
        now.wall,
        due=now.wall,
        sources=sources,
        settles=unchanged_for,
        since=now,
    )
    book.put(routine)
    start_worker(app.home)
    if json_:
        say_json(_fields(book.get(name), []))
    else:
        terminal.say(f"Routine {name} runs {schedule}, the first time now: {text.command('stage', *words)}")
        if looks := _looks(routine):
            terminal.say(f"  {looks}")
        terminal.say(f"  See what it does: {text.command('routine', 'show', name)}")


def _check(app: App, words: tuple[str, ...]) -> tuple[str, ...]:
    """What of this machine these words stage, absolute; "" for what is on a node. Raises UsageError, BadPlace."""
    from yatagan.cli.commands.stage import stage_command

    context = stage_command.make_context("stage", list(words), parent=click.get_current_context())
    with context:
        sources, destination = context.params["sources"], context.params["destination"]
        names, towards, every = context.params["dataset"], context.params["towards"], context.params["every"]
    if every or len(names) > 1:
        raise click.UsageError("a routine stages one dataset: add one for each", click.get_current_context())
    if names:
        dataset = app.project().dataset(names[0])
        return (os.fsdecode(dataset.here) if (towards or dataset.towards) == Towards.THERE else "",)
    if destination is None or not sources:
        raise click.UsageError("SOURCE and DESTINATION are missing", click.get_current_context())
    places = [app.place(source) for source in sources]
    # Of a pattern the directory above it is followed.
    return tuple("" if each.node else os.path.abspath(os.fsdecode(split_at_pattern(each.path)[0])) for each in places)


def _looks(routine: Routine) -> str:
    """What is to be said of a routine that runs on a change, where changes cannot be followed."""
    if not isinstance(routine.schedule, OnChange):
        return ""
    why = why_not_followed(routine.sources)
    return f"{why}, so there is a look every {spell_duration(routine.schedule.looks)}" if why else ""


@routine_command.command("list", epilog="Example: yatagan routine list")
@as_json
def list_(json_: bool) -> None:
    """Show all routines: when each runs, and what its last runs came to."""
    app = App.start(questions=False)
    book = RoutineBook.of(app.home)
    routines = [(routine, book.runs(routine.name, _DRAWN)) for routine in book.all()]
    missed = _attend(app)
    if json_:
        say_json({"routines": [_fields(routine, runs) for routine, runs in routines]})
        return
    if not routines:
        terminal.say("There is no routine. Make one with: yatagan routine add NAME SOURCE… DESTINATION --every 15min")
        return
    rows = [
        (routine.name, str(routine.schedule), _state(routine), _last(runs), _drawn(runs[-_LISTED:]), _typed(routine))
        for routine, runs in routines
    ]
    text.table(("routine", "runs", "state", "last run", "runs so far", "stage"), rows, squeeze=True)
    if missed:
        text.warn(missed)


@routine_command.command("show", epilog="Example: yatagan routine show fen")
@click.argument("name")
@as_json
def show(name: str, json_: bool) -> None:
    """Show a routine, and what its last runs came to."""
    app = App.start(questions=False)
    book = RoutineBook.of(app.home)
    routine, runs = book.get(name), book.runs(name, _DRAWN)
    missed = _attend(app)
    if json_:
        say_json(_fields(routine, runs))
        return
    tone = text.Tone.TROUBLE if routine.trouble else text.Tone.WARNING if routine.held else text.Tone.GOOD
    terminal.say(terminal.style(f"Routine {name}: ", bold=True) + text.tinted(_state(routine), tone))
    text.facts(
        [
            ("", f"{_drawn(runs)}  {_legend(runs)}" if runs else ""),
            ("stage", _typed(routine)),
            ("in", text.show(routine.directory)),
            ("runs", str(routine.schedule)),
            ("follows", _looks(routine)),
            ("until", text.moment(int(routine.until * 1e9)) if routine.until else ""),
            ("trouble", text.show(routine.trouble)),
            ("worker", missed),
            ("next", "" if routine.held else text.day_time(due) if (due := _due(routine)) > time.time() else "now"),
        ]
    )
    rows = [(text.moment(int(run.began * 1e9)), run.outcome.value, _what(run)) for run in runs[-_LISTED:][::-1]]
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
        say_json(_fields(book.get(name), book.runs(name, _DRAWN)))
    else:
        terminal.say(f"Routine {name} is held." if held else f"Routine {name} runs {book.get(name).schedule} again.")


@routine_command.command("remove", epilog="Example: yatagan routine remove fen")
@click.argument("name")
@as_json
def remove(name: str, json_: bool) -> None:
    """Forget a routine and its runs. What it has staged stays, and so do its batches."""
    app = App.start(questions=False)
    book = RoutineBook.of(app.home)
    book.get(name)
    book.remove(name)
    if json_:
        say_json({"removed": True})
    else:
        terminal.say(f"Routine {name} is removed; what it has staged stays.")


@routine_command.command("run", epilog="Example: yatagan routine run fen")
@click.argument("name")
@as_json
def run_(name: str, json_: bool) -> None:
    """Run a routine now, whether it is due or not. What is new is left to a worker."""
    app = App.start(questions=False)
    book = RoutineBook.of(app.home)
    routine = book.get(name)
    runner = RoutineRunner(book, stage, lambda batch: batch_ended(app.home, batch), _Unheard())
    runner.settle(routine)
    run = asyncio.run(runner.run(routine))
    if run is None:
        last = next(iter(book.runs(book.get(name).name, 1)))
        where = f", in batch {last.batch}" if last.batch else ": it plans"
        raise BadPlace(name, f"its last run still goes on{where}", "wait for it")
    if json_:
        say_json(_run_fields(run))
    else:
        terminal.say(f"Routine {name}: {run.outcome.value}{f', {_what(run)}' if _what(run) else ''}")
    if run.outcome is RunOutcome.FAILED:
        raise click.exceptions.Exit(ExitStatus.DIFFERENCES)


class _Unheard:
    """Who runs a routine by hand sees what comes of it."""

    def routine_trouble(self, routine: Routine, why: str) -> None:
        """See `RunListener`."""

    def routine_well(self, routine: Routine) -> None:
        """See `RunListener`."""


def _attend(app: App) -> str:
    """Start a worker if routines are to run and none is alive. Returns what is to be said of that; "" for nothing."""
    attendance = app.queue().attendance()
    return f"{no_worker(attendance)}; one is started now" if attend(app) else ""


def _state(routine: Routine) -> str:
    if routine.held:
        return "held"
    if routine.until and time.time() > routine.until:
        return "over"
    return "trouble" if routine.trouble else "active"


def _due(routine: Routine) -> float:
    """When a routine is due next, as the clocks are now."""
    return due_at(routine.standing, Moment.now())


def _typed(routine: Routine) -> str:
    return text.typed(routine.words)


def _last(runs: list[Run]) -> str:
    if not runs:
        return "never"
    return f"{text.ago(seconds_at(runs[-1].began) or '')}, {runs[-1].outcome.value}"


def _what(run: Run) -> str:
    """What a run came to, besides its outcome."""
    parts = []
    if run.files:
        parts.append(f"{text.count(run.files, 'file')}, {text.size(run.size)}")
    if run.detail:
        parts.append(text.show(run.detail))
    if run.left_out:
        parts.append(f"{text.count(run.left_out, 'run')} left out meanwhile")
    if run.batch:
        parts.append(f"batch {run.batch}")
    return "; ".join(parts)


def _drawn(runs: list[Run]) -> str:
    """The runs as a line, oldest first, with those that were left out."""
    plain = is_plain(sys.stdout)
    cells = []
    for run in runs:
        cells += [_LOOKS[run.outcome], *[_LEFT_OUT] * min(run.left_out, 3)]
    drawn = (
        terminal.style(ascii_ if plain else shape, fg=int(tone) if tone else None) for shape, ascii_, tone in cells
    )
    return "".join(list(drawn)[-_DRAWN:])


def _legend(runs: list[Run]) -> str:
    plain = is_plain(sys.stdout)
    found = [(look, outcome.value) for outcome, look in _LOOKS.items() if any(run.outcome is outcome for run in runs)]
    if any(run.left_out for run in runs):
        found.append((_LEFT_OUT, "left out"))
    return "  ".join(f"{look[1] if plain else look[0]} {name}" for look, name in found)


def _run_fields(run: Run) -> dict[str, object]:
    return {
        "began_at": seconds_at(run.began),
        "ended_at": seconds_at(run.ended) if run.ended else None,
        "outcome": run.outcome.value,
        "batch": run.batch or None,
        "files": run.files,
        "size_bytes": run.size,
        "detail": run.detail,
        "left_out": run.left_out,
    }


def _fields(routine: Routine, runs: list[Run]) -> dict[str, object]:
    return {
        "routine": routine.name,
        "words": list(routine.words),
        "directory": routine.directory,
        "schedule": str(routine.schedule),
        "until_at": seconds_at(routine.until) if routine.until else None,
        "held": routine.held,
        "due_at": seconds_at(_due(routine)),
        "trouble": routine.trouble or None,
        "runs": [_run_fields(run) for run in runs],
    }
