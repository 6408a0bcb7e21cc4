"""`yatagan mkdir`, `rename`, `remove`: housekeeping here and on nodes."""

from __future__ import annotations

import os
from collections.abc import Awaitable, Callable
from dataclasses import dataclass
from typing import Any, TypeVar

import click

from yatagan.cli import shell_completion
from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.answers.ledger_answer import record_json
from yatagan.cli.context import App, as_json, no_questions, run
from yatagan.cli.terminal import terminal, text
from yatagan.cli.views.scan_progress import EntryCount
from yatagan.cli.words import fault_words
from yatagan.cli.words.exit_status import ExitStatus
from yatagan.cli.words.record_words import warn_of
from yatagan.config.areas import split_area
from yatagan.errors import BadPlace, StoreError
from yatagan.faults import Fault
from yatagan.ledger.ledger import OnRecord
from yatagan.ledger.records import RecordedPlace, RecordKind
from yatagan.operations.put_on_record import Done, put_on_record
from yatagan.places import Place, name_fields
from yatagan.planning.destination_areas import refuse_read_only
from yatagan.stores.interface import Kind, Store
from yatagan.trees import housekeeping
from yatagan.trees.place_patterns import expand_place
from yatagan.trees.scan import Tree, scan

T = TypeVar("T")

#: What could not be removed, named one by one before the rest is only counted.
_FAILURES_SHOWN = 10


@click.command("mkdir", epilog="Example: yatagan mkdir heron:campaign/2026")
@click.argument("place", shell_complete=shell_completion.places)
@no_questions
@as_json
def mkdir_command(place: str, no_questions: bool, json_: bool) -> None:
    """Make the directory PLACE, and what is missing above it. One that is there already is no error."""
    app = App.start(questions=not no_questions)
    where = app.place(place, new=True)

    async def work(store: Store) -> tuple[bytes, list[bytes]]:
        path = await _writable(app, store, where)
        return path, await housekeeping.make_directories(store, path)

    path, made = run(_with(app, where, work))
    if json_:
        say_json({"node": where.node, **name_fields(path), "made": [name_fields(each) for each in made]})
    elif made:
        terminal.say(f"made {text.place(where.node, path)}")
    else:
        terminal.say(f"{text.place(where.node, path)} is there already")


@click.command("rename", epilog="Example: yatagan rename heron:campaign/fen fen-2025")
@click.argument("place", shell_complete=shell_completion.places)
@click.argument("new_name")
@no_questions
@as_json
def rename_command(place: str, new_name: str, no_questions: bool, json_: bool) -> None:
    """Give PLACE the name NEW_NAME, in the directory where it is. A name that is taken is an error."""
    app = App.start(questions=not no_questions)
    where = app.place(place)

    async def work(store: Store) -> tuple[bytes, bytes]:
        path = await _writable(app, store, where)
        return path, await housekeeping.rename(store, path, os.fsencode(new_name))

    path, new = run(_with(app, where, work))
    record = put_on_record(
        app,
        Done(
            RecordKind.RENAMED,
            "good",
            origins=(RecordedPlace(where.node, path),),
            target=RecordedPlace(where.node, new),
        ),
    )
    if json_:
        say_json({"node": where.node, **name_fields(path), **name_fields(new, "new"), **record_json(record)})
    else:
        terminal.say(f"{text.place(where.node, path)} is {text.show(os.path.basename(new))} now")
    warn_of(record)


@dataclass(slots=True)
class _Removal:
    """A place to remove, as it was found."""

    where: Place
    tree: Tree

    def count(self, kind: Kind) -> int:
        """How many entries are of a kind."""
        return sum(facts.kind is kind for facts in self.tree.entries.values())

    @property
    def counts(self) -> str:
        """`1,489 files, 31 directories, 2 links; 57.7 MB`."""
        files, directories, links = (self.count(kind) for kind in (Kind.FILE, Kind.DIRECTORY, Kind.LINK))
        others = len(self.tree.entries) - files - directories - links
        parts = [
            text.count(files, "file") if files else "",
            text.count(directories, "directory", "directories") if directories else "",
            text.count(links, "link") if links else "",
            text.count(others, "other thing") if others else "",
        ]
        return ", ".join(part for part in parts if part) + f"; {text.size(self.size)}"

    @property
    def size(self) -> int:
        """Bytes, of files."""
        return sum(facts.size for facts in self.tree.entries.values() if facts.kind is Kind.FILE)


@click.command("remove", epilog="Example: yatagan remove heron:campaign/fen-2025")
@click.argument("places", nargs=-1, required=True, shell_complete=shell_completion.places)
@click.option("--yes", is_flag=True, help="Do not ask; needed without a terminal.")
@no_questions
@as_json
def remove_command(places: tuple[str, ...], yes: bool, no_questions: bool, json_: bool) -> None:
    """Remove PLACES with all below them, after showing what that is and asking. Links go, what they lead to stays.

    Names in PLACES may be patterns: 'heron:fen/*.tmp'. A root, a home, a start directory, an area and the working
    directory are refused, and so is what holds one.
    """
    app = App.start(questions=not no_questions)
    wheres = [app.place(place) for place in places]
    if len({where.node for where in wheres}) > 1:
        raise BadPlace(places[-1], "all that is removed at once must be on one machine", "use one command for each")
    status = run(_with(app, wheres[0], lambda store: _remove(app, store, wheres, yes=yes, json_=json_)))
    if status:
        raise click.exceptions.Exit(status)


async def _remove(app: App, store: Store, wheres: list[Place], *, yes: bool, json_: bool) -> int:
    protected = await _protected(app, store)
    removals = []
    for where in [each for place in wheres for each in await _meant(store, place)]:
        path = await _writable(app, store, where)
        housekeeping.refuse_to_remove(path, protected)
        with EntryCount(app, [where], quiet=json_) as count:
            tree = await scan(store, path, ours=True, heard=count.heard)
        if not tree.entries:
            raise StoreError(Fault.MISSING, path, store=store.name)
        removals.append(_Removal(where, tree))
    if not json_:
        for removal in removals:
            terminal.say(f"{text.place(removal.where.node, removal.tree.root)}: {removal.counts}")
    if not app.may("Remove this for good?", yes=yes):
        terminal.say("Nothing was removed.")
        return ExitStatus.GOOD
    failures: list[tuple[bytes, Fault, str]] = []
    removed = 0
    for removal in removals:
        root = removal.tree.absolute

        def failed(path: bytes, fault: Fault, detail: str, root: Callable[[bytes], bytes] = root) -> None:
            failures.append((root(path), fault, detail))

        removed += await housekeeping.remove(store, removal.tree, failed)
    record = _put_on_record(app, removals, removed, len(failures))
    _tell_removed(removals, removed, failures, record, json_)
    warn_of(record)
    return ExitStatus.DIFFERENCES if failures else ExitStatus.GOOD


def _put_on_record(app: App, removals: list[_Removal], removed: int, failed: int) -> OnRecord:
    counts = {
        "files": sum(removal.count(Kind.FILE) for removal in removals),
        "entries": sum(len(removal.tree.entries) for removal in removals),
        "removed": removed,
        "failed": failed,
    }
    return put_on_record(
        app,
        Done(
            RecordKind.REMOVED,
            "with failures" if failed else "good",
            origins=tuple(RecordedPlace(removal.where.node, removal.tree.root) for removal in removals),
            counts=counts,
            size=sum(removal.size for removal in removals),
        ),
    )


def _tell_removed(
    removals: list[_Removal], removed: int, failures: list[tuple[bytes, Fault, str]], record: OnRecord, json_: bool
) -> None:
    node = removals[0].where.node
    if json_:
        body: dict[str, Any] = {
            "node": node,
            "places": [
                {**name_fields(removal.tree.root), "entries": len(removal.tree.entries), "size_bytes": removal.size}
                for removal in removals
            ],
            "removed": removed,
            "failed": [{**name_fields(path), "reason": fault, "detail": detail} for path, fault, detail in failures],
            **record_json(record),
        }
        say_json(body)
        return
    terminal.say(f"removed {text.number(removed)} of {text.number(sum(len(r.tree.entries) for r in removals))}")
    for path, fault, detail in failures[:_FAILURES_SHOWN]:
        text.warn(f"{text.place(node, path)}: {fault_words.fault(fault, detail)}")
    if len(failures) > _FAILURES_SHOWN:
        text.warn(f"and {text.number(len(failures) - _FAILURES_SHOWN)} more")


async def _meant(store: Store, where: Place) -> list[Place]:
    """The paths that a place with patterns matches."""
    found = await expand_place(store, where)
    return [where] if found is None else [Place(where.node, path) for path, _ in found[1]]


async def _writable(app: App, store: Store, where: Place) -> bytes:
    """The path of a place. Raises Refused where we may not write.

    A start directory or an area may be a link; then its target is meant.
    """
    area, rest = split_area(where.path)
    path = await store.resolve(where.path, follow=where.path in (b"", b".", b"~") or (bool(area) and not rest))
    if where.node:
        await refuse_read_only(store, app.nodes().get(where.node), path)
    return path


async def _protected(app: App, store: Store) -> list[bytes]:
    """Directories that must not be removed: where logins and commands start, and areas."""
    if store.name:
        areas = [b"@" + area.name.encode() for area in app.nodes().get(store.name).areas]
        return [await store.resolve(path, follow=True) for path in (b"~", b"", *areas)]
    return [os.fsencode(os.path.realpath(os.path.expanduser("~"))), os.path.realpath(os.getcwdb())]


async def _with(app: App, where: Place, work: Callable[[Store], Awaitable[T]]) -> T:
    store = await app.open(app.source(where, commands=False, writing=True))
    try:
        return await work(store)
    finally:
        await store.close()
