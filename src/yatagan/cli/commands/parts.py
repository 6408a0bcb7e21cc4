"""`yatagan parts`: unfinished files in a place, whose they are, and removing those that no batch will finish."""

from __future__ import annotations

import time
from typing import Any

import click

from yatagan.cli import shell_completion
from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.command_group import CommandGroup
from yatagan.cli.context import App, as_json, no_questions, run
from yatagan.cli.terminal import terminal, text
from yatagan.cli.views.scan_progress import Shown
from yatagan.cli.words import fault_words
from yatagan.cli.words.exit_status import ExitStatus
from yatagan.operations.unfinished_files import Part, PartOwner, found_parts, list_parts
from yatagan.places import Place, name_fields


@click.group("parts", cls=CommandGroup)
def parts_command() -> None:
    """Unfinished files, which a batch leaves while it is interrupted. They are named .yatagan-….part."""


@parts_command.command(
    "list", short_help="Show unfinished files, and whose they are.", epilog="Example: yatagan parts list heron:campaign"
)
@click.argument("place", shell_complete=shell_completion.places)
@no_questions
@as_json
def list_(place: str, no_questions: bool, json_: bool) -> None:
    """Show the unfinished files in PLACE and below: size, owner, age, batch, and whether a batch will finish them."""
    app = App.start(questions=not no_questions)
    where = app.place(place)
    found = run(list_parts(app, where, Shown(app, quiet=json_)))
    if json_:
        say_json({"node": where.node, "parts": [_as_json(part) for part in found]})
        return
    if not found:
        terminal.say(f"There are no unfinished files in {text.place(where.node, where.path or b'.')}.")
        return
    rows = [
        (text.size(part.facts.size), part.owner or "?", _age(part), _whose(part), text.show(part.below))
        for part in found
    ]
    text.table(("size", "owner", "age", "batch", "name"), rows, right=(0,))
    dead = [part for part in found if part.prospect is PartOwner.DEAD]
    if dead:
        size = text.size(sum(part.facts.size for part in dead))
        terminal.say(f"No batch will finish {text.number(len(dead))} of them, {size}. Remove these with:")
        terminal.say(f"  {text.command('parts', 'remove', where)}")


@parts_command.command(
    "remove",
    short_help="Remove unfinished files of ended batches.",
    epilog="Example: yatagan parts remove heron:campaign",
)
@click.argument("place", shell_complete=shell_completion.places)
@click.option("--yes", is_flag=True, help="Do not ask; needed without a terminal.")
@no_questions
@as_json
def remove(place: str, yes: bool, no_questions: bool, json_: bool) -> None:
    """Remove the unfinished files in PLACE and below that ended batches of this machine have left.

    Those of other machines and accounts may still be written: such a file is removed only when PLACE is that file.
    """
    app = App.start(questions=not no_questions)
    where = app.place(place)
    status = run(_remove(app, where, yes=yes, json_=json_))
    if status:
        raise click.exceptions.Exit(status)


async def _remove(app: App, where: Place, *, yes: bool, json_: bool) -> int:
    async with found_parts(app, where, Shown(app, quiet=json_)) as parts:
        if parts.going and not json_:
            _show(where, parts.going)
        if parts.going and not app.may("Remove for good?", yes=yes):
            terminal.say("Nothing was removed.")
            return ExitStatus.GOOD
        gone = await parts.remove()
    left = len(parts.found) - len(parts.going)
    if json_:
        failed = [{**name_fields(part.path), "reason": fault} for part, fault in gone.failures]
        say_json({"node": where.node, "removed": gone.removed, "left": left, "failed": failed})
    else:
        kept = f"; {text.number(left)} that others may need {'stays' if left == 1 else 'stay'}" if left else ""
        terminal.say(f"removed {text.count(gone.removed, 'unfinished file')}{kept}")
        for part, fault in gone.failures:
            text.warn(f"{text.place(where.node, part.path)}: {fault_words.fault(fault)}")
    return ExitStatus.DIFFERENCES if gone.failures else ExitStatus.GOOD


def _show(where: Place, parts: list[Part]) -> None:
    for part in parts:
        size, name = text.size(part.facts.size), text.place(where.node, part.path)
        terminal.say(f"{size}, of batch {_whose(part)}, {_age(part)} old: {name}")


def _age(part: Part) -> str:
    return text.duration(max(0.0, time.time() - part.facts.mtime_ns / 1e9))


def _whose(part: Part) -> str:
    """The batch of a part file, and whether it will go on."""
    words = {PartOwner.NEEDED: "can go on", PartOwner.DEAD: "ended", PartOwner.UNKNOWN: "not of this machine"}
    return f"{part.batch or 'none'} ({words[part.prospect]})"


def _as_json(part: Part) -> dict[str, Any]:
    return {
        **name_fields(part.path),
        "size_bytes": part.facts.size,
        "modified_at": text.timestamp(part.facts.mtime_ns),
        "owner": part.owner,
        "batch": part.batch,
        "prospect": part.prospect,
    }
