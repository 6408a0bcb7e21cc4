"""`yatagan checksums`: the record of a tree."""

from __future__ import annotations

import posixpath
from typing import Any

import click

from yatagan.cli import shell_completion
from yatagan.cli.answers.checksums_answer import list_json
from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.context import App, as_json, no_questions, run
from yatagan.cli.pattern_options import choosing, parse_choice
from yatagan.cli.terminal import terminal, text
from yatagan.cli.views.scan_progress import Shown
from yatagan.cli.views.verdict_view import ORIGINS
from yatagan.cli.words import fault_words
from yatagan.cli.words.exit_status import ExitStatus
from yatagan.cli.words.record_words import record_row, warn_of
from yatagan.operations.checksums import ListMade, ListRequest, make_list
from yatagan.places import Place
from yatagan.trees import checksum_record

#: As what file a list is typed that is printed.
_PRINTED = "-"


@click.command(
    "checksums",
    epilog="""\b
Examples:
  yatagan checksums heron:fen               # writes heron:fen/SHA256SUMS
  yatagan checksums fen --output -          # prints the list
  yatagan checksums fen --as-script check-inputs.sh  # for job scripts
Anyone can check it:  cd fen && sha256sum -c SHA256SUMS""",
)
@click.argument("place", shell_complete=shell_completion.places)
@click.option(
    "--output", metavar="FILE", help="Where to write the list (- prints it). Default: SHA256SUMS in the tree."
)
@click.option(
    "--as-script",
    metavar="FILE",
    help="Write a shell script with the list in it instead: it checks by a machine's own commands where Yatagan is not "
    "installed.",
)
@choosing
@no_questions
@as_json
@click.pass_context
def checksums_command(context: click.Context, /, no_questions: bool, json_: bool, **asked: Any) -> None:
    """Write the checksum list of PLACE, here or on a node, and its facts file beside it.

    A list that is there already is kept.
    """
    app = App.start(questions=not no_questions)
    request = checksums_asked(app, context)
    made = run(make_list(app, request, Shown(app, quiet=json_)))
    if made.target is None:
        terminal.say_data(made.data)
    elif json_:
        say_json(list_json(made))
    else:
        _show(made, script=request.script)
    warn_of(made.record)
    for path, why in sorted(made.unread.items()):
        text.warn(f"{text.show(path)}: {fault_words.fault(why)}; it is not on the list")
    if made.unread:
        raise click.exceptions.Exit(ExitStatus.DIFFERENCES)


def checksums_asked(app: App, context: click.Context) -> ListRequest:
    """Which list is asked for, as typed. Raises UsageError, NoPlace."""
    asked = context.params
    output, script = asked["output"], asked["as_script"]
    if output is not None and script is not None:
        raise click.UsageError("--output and --as-script exclude each other", context)
    typed = script or output
    return ListRequest(
        app.place(asked["place"]),
        parse_choice(asked["only"], asked["skip"]),
        app.place(typed, new=True) if typed not in (None, _PRINTED) else None,
        returned=typed == _PRINTED,
        script=script is not None,
    )


def _show(made: ListMade, *, script: bool) -> None:
    target = made.target
    assert target is not None
    terminal.say(terminal.style(f"Wrote {text.place(target.node, target.path)}", bold=True))
    text.facts(
        [
            ("listed", f"{text.count(made.files, 'file')}, {text.size(made.size)}"),
            ("how", ORIGINS[made.origin]),
            ("facts", "" if script else _facts_words(target.name)),
            ("check", _script_words(target) if script else _check_words(made, target)),
            record_row(made.record),
        ]
    )


def _facts_words(name: bytes) -> str:
    return f"modes, times, links and directories: {text.show(name + checksum_record.FACTS_SUFFIX)}"


def _script_words(target: Place) -> str:
    """How a script is used: lines that can be pasted."""
    name = text.quoted(target.name)
    return f"sh {name} DIRECTORY; in a job script: sh {name} inputs || exit 1"


def _check_words(made: ListMade, target: Place) -> str:
    """How a list is used: lines that can be pasted."""
    where = made.where
    beside = posixpath.dirname(made.root) if made.alone else made.root
    inside = posixpath.dirname(target.path) == beside
    ours = text.command("verify", where) if inside else text.command("verify", where, "--against", target)
    if target.node != where.node:
        return ours
    above = posixpath.dirname(where.path) if made.alone else where.path
    enter = f"cd {text.quoted(above)} && " if above not in (b"", b".") else ""
    standard = f"{enter}sha256sum -c {text.quoted(target.name if inside else target.path)}"
    return f"{f'on {where.node}: ' if where.node else ''}{standard}, or: {ours}"
