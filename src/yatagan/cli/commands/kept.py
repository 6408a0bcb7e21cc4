"""`yatagan kept`: what was replaced, and bringing it back or removing it."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import click

from yatagan.batches.batch_store import new_name
from yatagan.cli import shell_completion
from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.answers.ledger_answer import record_json
from yatagan.cli.command_group import CommandGroup
from yatagan.cli.context import App, as_json, no_questions, options, run, written
from yatagan.cli.pattern_options import choosing, parse_choice
from yatagan.cli.terminal import terminal, text
from yatagan.cli.views.scan_progress import EntryCount
from yatagan.cli.words import fault_words
from yatagan.cli.words.exit_status import ExitStatus
from yatagan.cli.words.record_words import warn_of
from yatagan.config.units import parse_duration
from yatagan.errors import FileTrouble, StoreError
from yatagan.faults import Fault
from yatagan.ledger.ledger import OnRecord
from yatagan.ledger.records import RecordedPlace, RecordKind
from yatagan.operations.put_on_record import Done, put_on_record
from yatagan.places import Place, holds, name_fields
from yatagan.planning.destination_areas import refuse_read_only
from yatagan.stores.interface import Store
from yatagan.trees import kept as kept_files
from yatagan.trees.kept import KeptFile, newest_of_each
from yatagan.trees.patterns import Choice

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


@dataclass(frozen=True, slots=True)
class _Wish:
    """Which kept files are meant."""

    where: Place
    batch: str
    older_than: float
    choice: Choice

    def takes(self, root: bytes, kept: KeptFile) -> bool:
        """Whether a kept file is meant, of a place with this absolute path."""
        below = kept.original[len(root) :].lstrip(b"/") if holds(root, kept.original) else kept.path
        aged = time.time() - kept.replaced_ns / 1e9 >= self.older_than
        return self.batch in kept.batch and aged and (not self.choice or self.choice.chooses(below))


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
    wish = _Wish(app.place(place), batch, older_than, parse_choice(only, skip))
    found = run(_list(app, wish, quiet=json_))
    if json_:
        say_json({"node": wish.where.node, "kept": [_as_json(each) for each in found]})
    else:
        _show(wish.where, found)


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
    wish = _Wish(app.place(place), batch, 0, parse_choice(only, skip))
    status = run(_restore(app, wish, yes=yes, json_=json_))
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
    wish = _Wish(app.place(place), batch, older_than, parse_choice(only, skip))
    status = run(_remove(app, wish, yes=yes, json_=json_))
    if status:
        raise click.exceptions.Exit(status)


async def _list(app: App, wish: _Wish, *, quiet: bool) -> list[KeptFile]:
    store = await app.open(app.source(wish.where, commands=False))
    try:
        return await _find(app, store, wish, quiet=quiet)
    finally:
        await store.close()


async def _find(app: App, store: Store, wish: _Wish, *, quiet: bool) -> list[KeptFile]:
    root = await store.resolve(wish.where.path)
    with EntryCount(app, [wish.where], quiet=quiet) as count:
        return [each async for each in kept_files.find_kept(store, root, count.heard) if wish.takes(root, each)]


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


def _nothing(where: Place) -> StoreError:
    return StoreError(Fault.NOT_KEPT, where.path or b".", store=where.node)


async def _restore(app: App, wish: _Wish, *, yes: bool, json_: bool) -> int:
    store = await app.open(app.source(wish.where, commands=False, writing=True))
    try:
        found = newest_of_each(await _find(app, store, wish, quiet=json_))
        if not found:
            raise _nothing(wish.where)
        await _refuse_read_only(app, store, wish.where, found)
        question = f"Bring back {_totals(found)}? What has their names by now is kept in turn"
        if len(found) > 1 and not app.may(question, yes=yes):
            terminal.say("Nothing was brought back.")
            return ExitStatus.GOOD
        batch, done, failures = new_name(), [], []
        for kept in found:
            try:
                done.append((kept, await kept_files.restore(store, kept, batch)))
            except FileTrouble as error:
                failures.append((kept, error.fault, error.detail))
        await kept_files.remove_empty(store, {kept.top for kept, _ in done})
    finally:
        await store.close()
    aside = [kept for kept, where in done if where]
    record = _put_on_record(app, wish.where.node, RecordKind.REPLACED, [kept for kept, _ in done], len(failures))
    if json_:
        restored = [{**_as_json(kept), **(name_fields(where, "kept_in_turn") if where else {})} for kept, where in done]
        say_json(
            {"node": wish.where.node, "restored": restored, "failed": _failed_json(failures), **record_json(record)}
        )
    else:
        terminal.say(f"Brought back {text.count(len(done), 'file')}, {text.size(_size([kept for kept, _ in done]))}.")
        if aside:
            see = text.command("kept", "list", wish.where, "--batch", batch)
            whose = "its name" if len(aside) == len(done) == 1 else f"the names of {text.number(len(aside))} of them"
            terminal.say(f"  What had {whose} is kept in turn: {see}")
        _tell_failures(wish.where.node, failures)
    warn_of(record)
    return ExitStatus.DIFFERENCES if failures else ExitStatus.GOOD


async def _remove(app: App, wish: _Wish, *, yes: bool, json_: bool) -> int:
    store = await app.open(app.source(wish.where, commands=False, writing=True))
    failures: list[tuple[KeptFile, Fault, str]] = []
    try:
        found = await _find(app, store, wish, quiet=json_)
        await _refuse_read_only(app, store, wish.where, found)
        if found and not app.may(f"Remove {_totals(found)}, for good?", yes=yes):
            terminal.say("Nothing was removed.")
            return ExitStatus.GOOD
        gone = await kept_files.remove_kept(store, found, lambda *failure: failures.append(failure))
        await kept_files.remove_empty(store, {each.top for each in gone})
    finally:
        await store.close()
    record = _put_on_record(app, wish.where.node, RecordKind.REMOVED, gone, len(failures))
    if json_:
        removed = {"removed": len(gone), "removed_bytes": _size(gone), "failed": _failed_json(failures)}
        say_json({"node": wish.where.node, **removed, **record_json(record)})
    else:
        terminal.say(f"Removed {_totals(gone)}." if gone else "Nothing was removed: nothing like that is kept.")
        _tell_failures(wish.where.node, failures)
    warn_of(record)
    return ExitStatus.DIFFERENCES if failures else ExitStatus.GOOD


def _put_on_record(app: App, node: str, kind: RecordKind, files: Sequence[KeptFile], failed: int) -> OnRecord | None:
    """Put on record which kept files were brought back or removed; nothing where there was none."""
    if not files:
        return None
    return put_on_record(
        app,
        Done(
            kind,
            "with failures" if failed else "good",
            origins=tuple(RecordedPlace(node, kept.original) for kept in files),
            counts={"files": len(files), "failed": failed},
            size=_size(files),
        ),
    )


async def _refuse_read_only(app: App, store: Store, where: Place, found: Sequence[KeptFile]) -> None:
    """Raise Refused if anything is in an area that is saved as read-only."""
    if where.node:
        for top in {each.top for each in found}:
            await refuse_read_only(store, app.nodes().get(where.node), top)


def _tell_failures(node: str, failures: Sequence[tuple[KeptFile, Fault, str]]) -> None:
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


def _failed_json(failures: Sequence[tuple[KeptFile, Fault, str]]) -> list[dict[str, Any]]:
    return [{**name_fields(kept.original), "reason": fault, "detail": detail} for kept, fault, detail in failures]
