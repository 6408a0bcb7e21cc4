"""`yatagan kept`: what was replaced, and bringing it back or removing it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import click

from yatagan.cli import shell_completion
from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.answers.ledger_answer import record_json
from yatagan.cli.command_group import CommandGroup
from yatagan.cli.context import App, as_json, no_questions, options, run, written
from yatagan.cli.pattern_options import choosing, parse_choice
from yatagan.cli.terminal import terminal, text
from yatagan.cli.views.scan_progress import Shown
from yatagan.cli.words import fault_words
from yatagan.cli.words.exit_status import ExitStatus
from yatagan.cli.words.record_words import warn_of
from yatagan.config.units import parse_duration
from yatagan.operations.replaced_files import KeptFailure, KeptRequest, found_kept, list_kept
from yatagan.places import Place, name_fields
from yatagan.trees.kept import KeptFile

#: What could not be done, named one by one before the rest is only counted.
_FAILURES_SHOWN = 10


_older_than = click.option(
    "--older-than",
    metavar="AGE",
    callback=written(parse_duration, 0.0),
    help="Only what was replaced longer ago than this, such as 30d.",
)
_batch = click.option("--batch", metavar="ID", default="", help="Only what this batch has replaced.")
_choosing: Callable[[Any], Any] = options(_batch, _older_than, choosing)


@click.group("kept", cls=CommandGroup)
def kept_command() -> None:
    """Files that were replaced. Each destination keeps them in .yatagan-kept until you remove them."""


@kept_command.command(
    "list",
    short_help="Show files that were replaced and are kept.",
    epilog="""\b
Examples:
  yatagan kept list heron:campaign
  yatagan kept list heron:campaign/fen/notes.txt --older-than 30d""",
)
@click.argument("place", shell_complete=shell_completion.places)
@_choosing
@no_questions
@as_json
def list_(
    place: str,
    batch: str,
    older_than: float,
    only: tuple[str, ...],
    skip: tuple[str, ...],
    no_questions: bool,
    json_: bool,
) -> None:
    """Show what is kept of PLACE: of a file that was replaced, or of all below a directory."""
    app = App.start(questions=not no_questions)
    request = KeptRequest(app.place(place), batch, older_than, parse_choice(only, skip))
    found = run(list_kept(app, request, Shown(app, quiet=json_)))
    if json_:
        say_json({"node": request.place.node, "kept": [_as_json(each) for each in found]})
    else:
        _show(request.place, found)


@kept_command.command(
    "restore",
    short_help="Bring kept files back.",
    epilog="""\b
Examples:
  yatagan kept restore heron:campaign/fen/notes.txt
  yatagan kept restore heron:campaign --batch k7qd   # all that it replaced""",
)
@click.argument("place", shell_complete=shell_completion.places)
@_batch
@choosing
@click.option("--yes", is_flag=True, help="Do not ask; needed for several files without a terminal.")
@no_questions
@as_json
def restore(
    place: str, batch: str, only: tuple[str, ...], skip: tuple[str, ...], yes: bool, no_questions: bool, json_: bool
) -> None:
    """Bring back what is kept of PLACE: the newest version of each file, or the one that --batch has replaced.

    Done where it is, without fetching anything. What has the name by now is kept in turn.
    """
    app = App.start(questions=not no_questions)
    request = KeptRequest(app.place(place), batch, choice=parse_choice(only, skip))
    status = run(_restore(app, request, yes=yes, json_=json_))
    if status:
        raise click.exceptions.Exit(status)


@kept_command.command(
    "remove",
    short_help="Remove kept files for good.",
    epilog="""\b
Examples:
  yatagan kept remove heron:campaign --older-than 30d
  yatagan kept remove heron:campaign --batch k7qd""",
)
@click.argument("place", shell_complete=shell_completion.places)
@_choosing
@click.option("--yes", is_flag=True, help="Do not ask; needed without a terminal.")
@no_questions
@as_json
def remove(
    place: str,
    batch: str,
    older_than: float,
    only: tuple[str, ...],
    skip: tuple[str, ...],
    yes: bool,
    no_questions: bool,
    json_: bool,
) -> None:
    """Remove what is kept of PLACE for good, after showing how much that is and asking."""
    app = App.start(questions=not no_questions)
    request = KeptRequest(app.place(place), batch, older_than, parse_choice(only, skip))
    status = run(_remove(app, request, yes=yes, json_=json_))
    if status:
        raise click.exceptions.Exit(status)


def _show(where: Place, found: Sequence[KeptFile]) -> None:
    if not found:
        terminal.say(f"Nothing is kept of {text.place(where.node, where.path or b'.')}.")
        return
    rows = [
        (text.size(each.facts.size), text.moment(each.replaced_ns), each.batch, text.show(each.path)) for each in found
    ]
    text.table(("size", "replaced", "by batch", "name"), rows, right=(0,), squeeze=True)
    terminal.say(terminal.style(_totals(found), bold=True))
    one = found[0]
    restore = "kept", "restore", Place(where.node, one.original), "--batch", one.batch
    text.facts(
        [
            ("bring one back", text.command(*restore)),
            ("remove old ones", text.command("kept", "remove", where, "--older-than", "30d")),
        ]
    )


def _totals(found: Sequence[KeptFile]) -> str:
    batches = text.count(len({each.batch for each in found}), "batch", "batches")
    return f"{text.count(len(found), 'kept file')}, {text.size(_size(found))}, of {batches}"


def _size(found: Sequence[KeptFile]) -> int:
    return sum(each.facts.size for each in found)


async def _restore(app: App, request: KeptRequest, *, yes: bool, json_: bool) -> int:
    where = request.place
    async with found_kept(app, request, Shown(app, quiet=json_), newest=True) as found:
        question = f"Bring back {_totals(found.files)}? What has their names by now is kept in turn"
        if len(found.files) > 1 and not app.may(question, yes=yes):
            terminal.say("Nothing was brought back.")
            return ExitStatus.GOOD
        back = await found.bring_back()
    if json_:
        restored = [
            {**_as_json(kept), **(name_fields(aside, "kept_in_turn") if aside else {})} for kept, aside in back.done
        ]
        failed = _failed_json(back.failures)
        say_json({"node": where.node, "restored": restored, "failed": failed, **record_json(back.record)})
    else:
        size = text.size(_size([kept for kept, _ in back.done]))
        terminal.say(f"Brought back {text.count(len(back.done), 'file')}, {size}.")
        if many := sum(bool(aside) for _, aside in back.done):
            see = text.command("kept", "list", where, "--batch", back.batch)
            whose = "its name" if many == len(back.done) == 1 else f"the names of {text.number(many)} of them"
            terminal.say(f"  What had {whose} is kept in turn: {see}")
        _tell_failures(where.node, back.failures)
    warn_of(back.record)
    return ExitStatus.DIFFERENCES if back.failures else ExitStatus.GOOD


async def _remove(app: App, request: KeptRequest, *, yes: bool, json_: bool) -> int:
    node = request.place.node
    async with found_kept(app, request, Shown(app, quiet=json_)) as found:
        if found.files and not app.may(f"Remove {_totals(found.files)}, for good?", yes=yes):
            terminal.say("Nothing was removed.")
            return ExitStatus.GOOD
        removed = await found.remove()
    gone = removed.gone
    if json_:
        counts = {"removed": len(gone), "removed_bytes": _size(gone), "failed": _failed_json(removed.failures)}
        say_json({"node": node, **counts, **record_json(removed.record)})
    else:
        terminal.say(f"Removed {_totals(gone)}." if gone else "Nothing was removed: nothing like that is kept.")
        _tell_failures(node, removed.failures)
    warn_of(removed.record)
    return ExitStatus.DIFFERENCES if removed.failures else ExitStatus.GOOD


def _tell_failures(node: str, failures: Sequence[KeptFailure]) -> None:
    for kept, fault, detail in failures[:_FAILURES_SHOWN]:
        text.warn(f"{text.place(node, kept.original)}: {fault_words.fault(fault, detail)}")
    if len(failures) > _FAILURES_SHOWN:
        text.warn(f"and {text.number(len(failures) - _FAILURES_SHOWN)} more: --json shows all")


def _as_json(kept: KeptFile) -> dict[str, Any]:
    return {
        **name_fields(kept.original),
        **name_fields(kept.kept, "kept"),
        "batch": kept.batch,
        "size_bytes": kept.facts.size,
        "replaced_at": text.timestamp(kept.replaced_ns),
    }


def _failed_json(failures: Sequence[KeptFailure]) -> list[dict[str, Any]]:
    return [{**name_fields(kept.original), "reason": fault, "detail": detail} for kept, fault, detail in failures]
