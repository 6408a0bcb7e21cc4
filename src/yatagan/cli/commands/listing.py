"""`yatagan list`: what is in a place."""

from __future__ import annotations

import asyncio
import posixpath
import stat
from collections import Counter
from collections.abc import Set
from typing import Any

import click

from yatagan.batches.batch_store import Batches
from yatagan.bundles.see_through import SeeThrough
from yatagan.cli import shell_completion
from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.context import App, as_json, no_questions, run
from yatagan.cli.pattern_options import choosing, parse_choice
from yatagan.cli.terminal import terminal, text
from yatagan.cli.views.scan_progress import EntryCount
from yatagan.cli.words import fault_words
from yatagan.cli.words.exit_status import ExitStatus
from yatagan.errors import FileTrouble, StoreError
from yatagan.faults import Fault
from yatagan.places import Place, batch_of_part, name_fields
from yatagan.stores.interface import Facts, Kind, Readable
from yatagan.trees.entries import Entries
from yatagan.trees.patterns import Choice
from yatagan.trees.place_patterns import expand_place
from yatagan.trees.scan import Heard, Tree, scan

_TYPE_BITS = {
    Kind.FILE: stat.S_IFREG,
    Kind.DIRECTORY: stat.S_IFDIR,
    Kind.LINK: stat.S_IFLNK,
    Kind.FIFO: stat.S_IFIFO,
    Kind.SOCKET: stat.S_IFSOCK,
    Kind.DEVICE: stat.S_IFCHR,
    Kind.UNKNOWN: 0,
}
#: Links whose targets are looked at, and how many at once.
_LINKS, _LOOKS = 1000, 16
_PLURALS = {"directory": "directories"}


@click.command("list", epilog="Example: yatagan list heron:fen --recursive")
@click.argument("place", shell_complete=shell_completion.places)
@click.option("--recursive", is_flag=True, help="Show everything below, not only the directory itself.")
@choosing
@no_questions
@as_json
def list_command(
    place: str, recursive: bool, only: tuple[str, ...], skip: tuple[str, ...], no_questions: bool, json_: bool
) -> None:
    """Show what is in PLACE: modes, sizes, times, names, and totals. Nothing is cached.

    Names in PLACE may be patterns: 'heron:fen/*.csv'.
    """
    app = App.start(questions=not no_questions)
    where = app.place(place)
    with EntryCount(app, [where], quiet=json_) as count:
        tree, bundle, dead = run(_read(app, where, recursive, parse_choice(only, skip), count.heard))
    if json_:
        say_json(_as_json(where, tree, bundle, dead, recursive))
    else:
        _show(where, tree, bundle, Batches(app.home.batches), dead, recursive)
    if tree.unread or tree.dropped:
        raise click.exceptions.Exit(ExitStatus.DIFFERENCES)


async def _read(
    app: App, where: Place, recursive: bool, choice: Choice, heard: Heard
) -> tuple[Tree, bytes, set[bytes]]:
    """Read what is shown. Also returns the bundle that it was found in, if any, and the links that lead nowhere."""
    store = SeeThrough(await app.open(app.source(where, commands=False)), listed=False)
    try:
        depth = None if recursive else 1
        if (found := await expand_place(store, where)) is not None:
            gathered = await _gather(store, *found, recursive, choice, heard)
            return gathered, b"", await _dead_links(store, gathered)
        root = await store.resolve(where.path, follow=True)
        tree = await scan(store, root, depth=depth, choice=choice, heard=heard)
        if not tree.entries:
            raise StoreError(Fault.MISSING, root, store=where.node)
        stored = store.stored(root)
        if stored is not None:
            return tree, stored.path, set()
        return tree, b"", await _dead_links(store, tree)
    finally:
        await store.close()


async def _dead_links(store: Readable, tree: Tree) -> set[bytes]:
    """Links whose targets do not exist; of very many only the first are looked at."""
    slots = asyncio.Semaphore(_LOOKS)

    async def leads_nowhere(path: bytes) -> bool:
        async with slots:
            try:
                return await store.look(await store.resolve(tree.absolute(path), follow=True)) is None
            except FileTrouble as error:
                return error.fault is Fault.MISSING

    links = sorted(tree.targets)[:_LINKS]
    found = await asyncio.gather(*map(leads_nowhere, links))
    return {path for path, nowhere in zip(links, found, strict=True) if nowhere}


async def _gather(
    store: Readable, root: bytes, found: list[tuple[bytes, Facts]], recursive: bool, choice: Choice, heard: Heard
) -> Tree:
    """The matches of a pattern, as one tree."""
    tree = Tree(root, Entries({b"": Facts(Kind.DIRECTORY, 0, 0, 0)}))
    for path, facts in found:
        name = posixpath.relpath(path, root)
        tree.entries[name] = facts
        if facts.kind is Kind.LINK:
            tree.targets[name] = await store.read_link(path)
        if recursive and facts.kind is Kind.DIRECTORY:
            tree.graft(name, await scan(store, path, choice=choice, heard=heard))
    return tree


def _listed(tree: Tree) -> list[bytes]:
    """The entries to show: those below a directory, or the one file itself."""
    if tree.entries[b""].kind is not Kind.DIRECTORY:
        return [b""]
    return sorted(path for path in tree.entries if path)


def _show(where: Place, tree: Tree, bundle: bytes, batches: Batches, dead: Set[bytes], recursive: bool) -> None:
    rows = []
    for path in _listed(tree):
        facts = tree.entries[path]
        name = text.show(path or where.name)
        if facts.kind is Kind.DIRECTORY:
            name += "/"
        if path in tree.targets:
            name += " -> " + text.show(tree.targets[path]) + (" (leads nowhere)" if path in dead else "")
        rows.append((mode_text(facts), _size(facts), text.moment(facts.mtime_ns), name))
    if rows:
        text.table(("mode", "size", "changed", "name"), rows, right=(1,))
    skipped = f"; {text.count(tree.skipped, 'entry', 'entries')} skipped" if tree.skipped else ""
    inside = f"; stored in {text.place(where.node, bundle)}" if bundle else ""
    terminal.say(terminal.style(_totals(tree, recursive) + skipped + inside, bold=True))
    for batch, sizes in sorted(_unfinished(tree).items()):
        whose = f"batch {batch}" if batch else "something else that was interrupted"
        what = f"{text.count(len(sizes), 'unfinished file')}, {text.size(sum(sizes))} so far, of {whose}"
        see = text.command("batch", "show", batch) if batches.holds(batch) else text.command("parts", "list", where)
        terminal.say(f"{what}; see: {see}")
    for path in tree.kept:
        see = text.command("kept", "list", Place(where.node, posixpath.dirname(tree.absolute(path))))
        terminal.say(f"replaced files are kept here; see: {see}")
    for path, fault in sorted(tree.unread.items()):
        text.warn(f"{text.show(path)}: {fault_words.fault(fault)}")
    if tree.dropped:
        names = ", ".join(map(text.show, tree.dropped_names[:3])) + (" …" if tree.dropped > 3 else "")
        text.warn(f"{text.count(tree.dropped, 'name')} left out that no directory can hold: {names}")
    if tree.repeated:
        text.warn(f"{text.count(tree.repeated, 'entry', 'entries')} listed more than once, and counted once")


def _unfinished(tree: Tree) -> dict[str, list[int]]:
    """Bytes of part files found, by batch."""
    found: dict[str, list[int]] = {}
    for path, facts in tree.unfinished.items():
        found.setdefault(batch_of_part(posixpath.basename(path)), []).append(facts.size)
    return found


def mode_text(facts: Facts) -> str:
    """Kind and permission bits in the usual ten letters."""
    return stat.filemode(_TYPE_BITS[facts.kind] | facts.mode)


def _size(facts: Facts) -> str:
    return text.size(facts.size) if facts.kind is Kind.FILE else "-"


def _totals(tree: Tree, recursive: bool) -> str:
    kinds = Counter(tree.entries[path].kind for path in _listed(tree))
    if not kinds:
        return "nothing finished yet" if tree.unfinished else "empty"
    parts = [text.count(kinds[kind], kind.value, _PLURALS.get(kind.value, "")) for kind in Kind if kinds[kind]]
    size = sum(facts.size for facts in tree.entries.values() if facts.kind is Kind.FILE)
    counted = f"{', '.join(parts)}; {text.size(size)}"
    if recursive or not kinds[Kind.DIRECTORY]:
        return counted
    below = "what is in directories is not counted (--recursive counts it)"
    return f"{counted}; {below}" if kinds[Kind.FILE] else f"{', '.join(parts)}; {below}"


def _as_json(where: Place, tree: Tree, bundle: bytes, dead: Set[bytes], recursive: bool) -> dict[str, Any]:
    entries = []
    for path in _listed(tree):
        facts = tree.entries[path]
        entry: dict[str, Any] = {
            **name_fields(path or where.name),
            "kind": facts.kind.value,
            "size_bytes": facts.size,
            "modified_at": text.timestamp(facts.mtime_ns),
            "mode": f"{facts.mode:04o}",
        }
        if path in tree.targets:
            entry.update(name_fields(tree.targets[path], "target"))
            entry["leads_nowhere"] = path in dead
        entries.append(entry)
    return {
        "node": where.node,
        **name_fields(tree.root, "root"),
        **(name_fields(bundle, "bundle") if bundle else {}),
        "entries": entries,
        "recursive": recursive,
        "files": sum(entry["kind"] == Kind.FILE.value for entry in entries),
        "size_bytes": sum(entry["size_bytes"] for entry in entries if entry["kind"] == Kind.FILE.value),
        "skipped": tree.skipped,
        "kept": [name_fields(tree.absolute(path)) for path in tree.kept],
        "dropped": tree.dropped,
        "dropped_names": [name_fields(path) for path in tree.dropped_names],
        "repeated": tree.repeated,
        "unfinished": [
            {**name_fields(path), "batch": batch_of_part(posixpath.basename(path)), "size_bytes": facts.size}
            for path, facts in sorted(tree.unfinished.items())
        ],
        "unread": [{**name_fields(path), "reason": fault.value} for path, fault in sorted(tree.unread.items())],
    }
