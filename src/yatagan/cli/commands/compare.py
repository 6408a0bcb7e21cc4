"""`yatagan compare`: two places, side by side."""

from __future__ import annotations

from typing import Any

import click

from yatagan.cli import shell_completion
from yatagan.cli.answers.comparison_answer import comparison_json
from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.context import App, as_json, no_questions, one_of, run
from yatagan.cli.pattern_options import choosing, parse_choice
from yatagan.cli.views.compare_view import show_comparison
from yatagan.cli.views.scan_progress import Shown
from yatagan.cli.words.exit_status import ExitStatus
from yatagan.config.project import By
from yatagan.operations.compare_places import CompareRequest, compare


@click.command(
    "compare",
    epilog="""\b
Examples:
  yatagan compare fen heron:campaign/fen             # by size and time
  yatagan compare fen heron:campaign/fen --by digest # by contents
  yatagan compare heron:fen bittern:fen --only '*.csv'
  yatagan compare fen heron:archive/fen.tar.zst      # with an archive""",
)
@click.argument("first", metavar="PLACE", shell_complete=shell_completion.places)
@click.argument("second", metavar="PLACE", shell_complete=shell_completion.places)
@click.option(
    "--by",
    type=one_of(By),
    default=By.SIZE_AND_TIME.value,
    show_default=True,
    help="What decides: size and time, or contents (digest), which each side reads and hashes itself where it can.",
)
@choosing
@click.option("--all", "all_", is_flag=True, help="Show every entry that differs, one by one.")
@no_questions
@as_json
@click.pass_context
def compare_command(context: click.Context, /, all_: bool, no_questions: bool, json_: bool, **asked: Any) -> None:
    """Compare two places: what is only in one of them, what is the same, and in what the rest differs.

    Each is a file, a directory, a stored bundle or an archive, here or on a node. Nothing is fetched that a node can
    hash itself. Exit status 0 when both hold the same, 1 otherwise.
    """
    app = App.start(questions=not no_questions)
    found = run(compare(app, compare_asked(app, context), Shown(app, quiet=json_)))
    if json_:
        say_json(comparison_json(found.comparison, found.sides))
    else:
        show_comparison(found.comparison, found.sides, one_by_one=all_)
    if not found.same:
        raise click.exceptions.Exit(ExitStatus.DIFFERENCES)


def compare_asked(app: App, context: click.Context) -> CompareRequest:
    """What a comparison as typed asks for. Raises UsageError, NoPlace."""
    asked = context.params
    choice = parse_choice(asked["only"], asked["skip"])
    return CompareRequest(app.place(asked["first"]), app.place(asked["second"]), choice, By(asked["by"]))
