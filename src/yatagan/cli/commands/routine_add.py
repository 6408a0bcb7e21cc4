"""`yatagan routine add`: a request that is met again and again."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable, Sequence
from dataclasses import replace
from datetime import datetime
from enum import StrEnum
from typing import TYPE_CHECKING

import click

from yatagan.background.adding import add_routine
from yatagan.background.routines import RoutineBook
from yatagan.background.schedules import OnChange, Schedule, parse_at, parse_every
from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.answers.routine_answer import routine_json
from yatagan.cli.context import App, as_json, one_of, written
from yatagan.cli.terminal import terminal, text
from yatagan.cli.views.routine_view import follows
from yatagan.config.units import parse_duration, spell_duration
from yatagan.errors import YataganError
from yatagan.operations.request_json import Request
from yatagan.operations.stage_request import DatasetStageRequest, StageRequest

if TYPE_CHECKING:
    Asked = Callable[[App, click.Context], Request | list[DatasetStageRequest]]


class Repeated(StrEnum):
    """What a routine can do."""

    STAGE = "stage"
    VERIFY = "verify"
    COMPARE = "compare"
    CHECKSUMS = "checksums"


#: Options of those commands that make no sense where no person sees the answer.
_FOR_A_PERSON = ("quiet", "json_", "lines", "plan_only", "in_background", "all_")


def _until(text_: str) -> float:
    """The end of a day, in seconds since the epoch. Raises ValueError."""
    day = datetime.strptime(text_, "%Y-%m-%d")
    return day.replace(hour=23, minute=59, second=59).timestamp()


@click.command(
    "add",
    short_help="Have a stage, or another command, run again and again.",
    context_settings={"ignore_unknown_options": True},
    epilog="""\b
Examples:
  yatagan routine add fen fen heron:campaign --every 15min
  yatagan routine add nightly runs heron:in --at 02:30 --skip '*.tmp'
  yatagan routine add logger fen/raw heron:raw --on-change --growing '*.csv'
  yatagan routine add check --command verify heron:@project/fen --at 02:30
Everything else is as for that command: its words and its options.""",
)
@click.argument("name")
@click.argument("words", nargs=-1, required=True, metavar="SOURCE... DESTINATION [OPTIONS]")
@click.option(
    "--command",
    "repeated",
    type=one_of(Repeated),
    default=Repeated.STAGE.value,
    show_default=True,
    help="What to do again and again. Of what only looks there is a notice when its verdict changes.",
)
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
def add_command(
    name: str,
    words: tuple[str, ...],
    repeated: str,
    every: Schedule | None,
    at_: Schedule | None,
    on_change: bool,
    until: float,
    unchanged_for: float,
    json_: bool,
) -> None:
    """Have a stage, or another command, run again and again under NAME, from this directory.

    Each run of a stage plans anew, moves only what is new, and leaves alone what is still being written and what is
    newer there.
    """
    given = [each for each in (every, at_, OnChange() if on_change else None) if each is not None]
    if len(given) != 1:
        raise click.UsageError(
            "say when, in one way: --every 15min, --at 02:30 or --on-change", click.get_current_context()
        )
    schedule = given[0]
    app = App.start(questions=False)
    request = _settled(asked_by(app, Repeated(repeated), words), unchanged_for)
    typed = *words, *(("--unchanged-for", spell_duration(unchanged_for)) if repeated == Repeated.STAGE else ())
    routine = add_routine(app, name, request, schedule, words=typed, until=until, settles=unchanged_for)
    if json_:
        say_json(routine_json(routine, []))
    else:
        terminal.say(f"Routine {name} runs {schedule}, the first time now: {text.command(repeated, *words)}")
        if looks := follows(routine):
            terminal.say(f"  {looks}")
        terminal.say(f"  See what it does: {text.command('routine', 'show', name)}")


def _settled(request: Request, unchanged_for: float) -> Request:
    """A stage leaves for another time what has just changed."""
    if isinstance(request, StageRequest | DatasetStageRequest):
        return replace(request, unchanged_for=unchanged_for)
    return request


def asked_by(app: App, repeated: Repeated, words: Sequence[str]) -> Request:
    """What a command with these words asks for. Raises UsageError, NoPlace."""
    command, asked = _commands()[repeated]
    context = command.make_context(f"yatagan {repeated}", list(words))
    with context:
        for option in command.params:
            if option.name in _FOR_A_PERSON and context.params[option.name]:
                raise click.UsageError(f"a routine has no terminal: leave out {option.opts[0]}", context)
        found = asked(app, context)
    if not isinstance(found, list):
        return found
    if len(found) > 1:
        raise click.UsageError("a routine stages one dataset: add one for each", context)
    return found[0]


def _commands() -> dict[Repeated, tuple[click.Command, Asked]]:
    from yatagan.cli.commands.checksums import checksums_asked, checksums_command
    from yatagan.cli.commands.compare import compare_asked, compare_command
    from yatagan.cli.commands.stage import stage_asked, stage_command
    from yatagan.cli.commands.verify import verify_asked, verify_command

    return {
        Repeated.STAGE: (stage_command, stage_asked),
        Repeated.VERIFY: (verify_command, verify_asked),
        Repeated.COMPARE: (compare_command, compare_asked),
        Repeated.CHECKSUMS: (checksums_command, checksums_asked),
    }


def convert(app: App) -> None:
    """Give the routines that an earlier version has kept as words the request that these ask for."""
    book = RoutineBook.of(app.home)
    for routine in book.all():
        if routine.request is None and routine.words:
            there = App(app.home, os.fsencode(routine.directory), app.questions, app.agent, app.command)
            with contextlib.suppress(YataganError, click.ClickException):  # then its next run says so
                book.put(replace(routine, request=asked_by(there, Repeated.STAGE, routine.words)))
