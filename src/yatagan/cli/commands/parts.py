"""`yatagan parts`: unfinished files in a place, whose they are, and removing those that no batch will finish."""

from __future__ import annotations

import posixpath
import time
from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum
from typing import Any

import click

from yatagan.batches.batch_store import Batches
from yatagan.batches.states import ENDED
from yatagan.cli import shell_completion
from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.command_group import CommandGroup
from yatagan.cli.context import App, as_json, no_questions, run
from yatagan.cli.terminal import terminal, text
from yatagan.cli.views.scan_progress import EntryCount
from yatagan.cli.words import fault_words
from yatagan.cli.words.exit_status import ExitStatus
from yatagan.errors import FileTrouble, JournalError, Refused, StoreError
from yatagan.faults import Fault
from yatagan.places import Place, batch_of_part, is_ours, name_fields
from yatagan.stores.interface import Facts, Kind, Store
from yatagan.trees.scan import scan


class PartOwner(StrEnum):
    """Whether any batch will finish a part file."""

    #: Its batch is carried now, or can be resumed.
    NEEDED = "needed"
    #: Its batch, of this account on this machine, is finished or cancelled.
    DEAD = "dead"
    #: Of another account or machine, as far as is known here: it may be carried now.
    UNKNOWN = "unknown"


@dataclass(frozen=True, slots=True)
class Part:
    """A part file: its absolute path, the one below the place that was asked for, facts, batch ("" where its name says
    none), owner, and who will finish it.
    """

    path: bytes
    below: bytes
    facts: Facts
    batch: str
    owner: str
    prospect: PartOwner


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
    found = run(_list(app, where, quiet=json_))
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


async def _list(app: App, where: Place, *, quiet: bool) -> list[Part]:
    store = await app.open(app.source(where, commands=False))
    try:
        return await _find(app, store, where, quiet=quiet)
    finally:
        await store.close()


async def _find(app: App, store: Store, where: Place, *, quiet: bool) -> list[Part]:
    root = await store.resolve(where.path)
    with EntryCount(app, [where], quiet=quiet) as count:
        tree = await scan(store, root, heard=count.heard)
    if not tree.entries:
        raise StoreError(Fault.MISSING, root, store=where.node)
    found = {tree.absolute(path): facts for path, facts in tree.unfinished.items()}
    itself = tree.entries[b""]
    if itself.kind is Kind.FILE and is_ours(posixpath.basename(root)):
        found[root] = itself
    batches = Batches(app.home.batches)
    known = {name: _prospect(batches, name) for name in {batch_of_part(posixpath.basename(path)) for path in found}}
    parts = []
    for path, facts in sorted(found.items()):
        batch = batch_of_part(posixpath.basename(path))
        below = posixpath.basename(path) if path == root else posixpath.relpath(path, root)
        parts.append(Part(path, below, facts, batch, await _owner(store, path), known[batch]))
    return parts


async def _owner(store: Store, path: bytes) -> str:
    try:
        return await store.owner(path)
    except FileTrouble:
        return ""  # finished or removed meanwhile


def _prospect(batches: Batches, name: str) -> PartOwner:
    """Whether a batch of this machine will still finish its files."""
    if not batches.holds(name):
        return PartOwner.UNKNOWN
    try:
        batch = batches.find(name)
        journal = batch.journal()
        try:
            ended = journal.standing().state in ENDED
        finally:
            journal.close()
    except JournalError:
        return PartOwner.UNKNOWN
    return PartOwner.DEAD if ended and not batch.is_carried() else PartOwner.NEEDED


async def _remove(app: App, where: Place, *, yes: bool, json_: bool) -> int:
    store = await app.open(app.source(where, commands=False, writing=True))
    try:
        found = await _find(app, store, where, quiet=json_)
        named = is_ours(posixpath.basename(where.path))
        needed = [part.batch for part in found if part.prospect is PartOwner.NEEDED]
        if named and needed:
            raise Refused(
                f"batch {needed[0]} will go on in this file",
                f"give the batch up with: yatagan batch cancel {needed[0]}",
            )
        going = [part for part in found if named or part.prospect is PartOwner.DEAD]
        if going and not json_:
            _show(where, going)
        if going and not app.may("Remove for good?", yes=yes):
            terminal.say("Nothing was removed.")
            return ExitStatus.GOOD
        removed, failures = await _remove_all(store, going)
    finally:
        await store.close()
    left = len(found) - len(going)
    if json_:
        failed = [{**name_fields(part.path), "reason": fault} for part, fault in failures]
        say_json({"node": where.node, "removed": removed, "left": left, "failed": failed})
    else:
        kept = f"; {text.number(left)} that others may need {'stays' if left == 1 else 'stay'}" if left else ""
        terminal.say(f"removed {text.count(removed, 'unfinished file')}{kept}")
        for part, fault in failures:
            text.warn(f"{text.place(where.node, part.path)}: {fault_words.fault(fault)}")
    return ExitStatus.DIFFERENCES if failures else ExitStatus.GOOD


async def _remove_all(store: Store, parts: Iterable[Part]) -> tuple[int, list[tuple[Part, Fault]]]:
    """Remove part files. Returns how many, and why others stayed."""
    removed, failures = 0, []
    for part in parts:
        try:
            await store.remove(part.path)
            removed += 1
        except FileTrouble as error:
            failures.append((part, error.fault))
    return removed, failures


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
