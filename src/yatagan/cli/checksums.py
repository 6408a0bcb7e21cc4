"""`yatagan checksums`: the record of a tree."""

from __future__ import annotations

import contextlib
import os
import posixpath
import secrets
import time
from collections.abc import Mapping
from dataclasses import dataclass

import click

from yatagan.batches.batch_store import new_name
from yatagan.bundles.see_through import SeeThrough
from yatagan.cli import fault_words, shell_completion, terminal, text
from yatagan.cli.context import App, as_json, no_questions, run, say_json
from yatagan.cli.exit_status import ExitStatus
from yatagan.cli.json_fields import evidence_json
from yatagan.cli.ledger_record import put_on_record, record_json, record_row, warn_of
from yatagan.cli.pattern_options import choosing, parse_choice
from yatagan.cli.progress import Progress
from yatagan.cli.progress_view import view_for
from yatagan.cli.scan_progress import EntryCount
from yatagan.cli.verdict_view import ORIGINS
from yatagan.digests.check_script import check_script
from yatagan.digests.checksum_lists import ALGORITHM, LIST_NAME
from yatagan.errors import BadPlace, StoreError
from yatagan.faults import Fault
from yatagan.ledger.ledger import OnRecord
from yatagan.ledger.records import RecordedPlace, RecordKind
from yatagan.places import PART_PREFIX, PART_SUFFIX, Place, name_fields
from yatagan.planning.destination_areas import refuse_read_only
from yatagan.stores.interface import Kind, Placement, Readable, Store
from yatagan.stores.local_calls import own_umask
from yatagan.trees import checksum_record
from yatagan.trees.hashing import Content, DigestOrigin, digests
from yatagan.trees.kept_directories import KeptDirectories
from yatagan.trees.patterns import Choice
from yatagan.trees.scan import Tree, scan


class Counting:
    """Shows how many bytes were hashed."""

    def __init__(self, tree: Tree, paths: list[bytes], quiet: bool) -> None:
        self._sizes = {path: tree.entries[path].size for path in paths if path in tree.entries}
        self.progress = Progress(len(self._sizes), sum(self._sizes.values()))
        self.view = view_for(self.progress, quiet=quiet)

    def done(self, content: Content) -> None:
        """One more file is hashed."""
        self.progress.hashed(self._sizes.get(content.path, 0))


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
def checksums_command(
    place: str,
    output: str | None,
    as_script: str | None,
    only: tuple[str, ...],
    skip: tuple[str, ...],
    no_questions: bool,
    json_: bool,
) -> None:
    """Write the checksum list of PLACE, here or on a node, and its facts file beside it.

    A list that is there already is kept.
    """
    if output is not None and as_script is not None:
        raise click.UsageError("--output and --as-script exclude each other", click.get_current_context())
    app = App.start(questions=not no_questions)
    to = _Output(as_script or output, script=as_script is not None)
    status = run(_checksums(app, app.place(place), to, parse_choice(only, skip), json_))
    if status:
        raise click.exceptions.Exit(status)


@dataclass(frozen=True, slots=True)
class _Output:
    """Where the list goes as typed, None for the tree itself; and whether it becomes a script."""

    file: str | None
    script: bool

    @property
    def printed(self) -> bool:
        """Whether it goes to standard output."""
        return self.file == "-"


async def _checksums(app: App, where: Place, to: _Output, choice: Choice, json_: bool) -> int:
    output = to.file
    store = await app.open(app.source(where, writing=output is None))
    try:
        seeing = SeeThrough(store, listed=False)
        tree = await scan_place(app, seeing, where, choice, quiet=json_)
        if output is None and seeing.stored(tree.root) is not None:
            raise BadPlace(
                str(where), "it is stored as a bundle, which is never written into", "name a list: --output FILE"
            )
        if output is None and where.node:
            await refuse_read_only(store, app.nodes().get(where.node), tree.root)
        alone = tree.entries[b""].kind is Kind.FILE
        paths = [path for path in tree.files() if not checksum_record.is_record(path)]
        counting = Counting(tree, paths, quiet=json_)
        async with counting.view:
            contents = await digests(seeing, tree, paths, ALGORITHM, counting.done)
        if alone:
            contents = {where.name: next(iter(contents.values()))}
        data = _script(contents, output) if to.script else checksum_record.write_list(contents)
        unread = {path: content.fault for path, content in contents.items() if content.fault is not None}
        unread.update(tree.unread)
        if to.printed:
            terminal.say_data(data)
        else:
            target = await _write(app, store, where, tree, to, data, alone)
    finally:
        await store.close()
    size = sum(tree.entries[path].size for path in paths)
    origin = next(iter(contents.values())).origin if contents else DigestOrigin.HERE
    files, outcome = len(contents) - len(unread), "good" if not unread else f"{len(unread)} could not be read"
    record = put_on_record(
        app,
        RecordKind.LISTED,
        outcome,
        origins=(RecordedPlace(where.node, tree.root),),
        target=RecordedPlace(target.node, target.path) if not to.printed else None,
        counts={"files": files, "unreadable": len(unread)},
        size=size,
        evidence={origin.value: files},
        details=patterns(choice),
        contents=lambda: ((path, contents[path].digest) for path in sorted(contents) if contents[path].digest),
    )
    if not to.printed:
        written = _Written(where, tree.root, target, files, size, outcome, origin, alone, to.script)
        _tell_written(written, record, json_)
    warn_of(record)
    for path, why in sorted(unread.items()):
        text.warn(f"{text.show(path)}: {fault_words.fault(why)}; it is not on the list")
    return ExitStatus.DIFFERENCES if unread else ExitStatus.GOOD


@dataclass(frozen=True, slots=True)
class _Written:
    """A list, or a script, that was written to `target`: of the tree `root`, which is at the place `where`.

    `alone`: that is one file. `size` in bytes; `outcome` in the ledger's words; `origin`: where the digests were made.
    """

    where: Place
    root: bytes
    target: Place
    files: int
    size: int
    outcome: str
    origin: DigestOrigin
    alone: bool
    script: bool


def _tell_written(written: _Written, record: OnRecord, json_: bool) -> None:
    target = written.target
    if json_:
        counts = {"files": written.files, "size_bytes": written.size}
        evidence = evidence_json({written.origin: written.files})
        in_list = {**name_fields(target.path, "list"), "list_node": target.node}
        tree = {"node": written.where.node, **name_fields(written.root), **counts}
        say_json({**tree, "evidence": evidence, "outcome": written.outcome, **in_list, **record_json(record)})
        return
    terminal.say(terminal.style(f"Wrote {text.place(target.node, target.path)}", bold=True))
    text.facts(
        [
            ("listed", f"{text.count(written.files, 'file')}, {text.size(written.size)}"),
            ("how", ORIGINS[written.origin]),
            ("facts", "" if written.script else _facts_words(posixpath.basename(target.path))),
            ("check", _check_words(written)),
            record_row(record),
        ]
    )


def _script(contents: Mapping[bytes, Content], output: str | None) -> bytes:
    """The list as a script."""
    name = posixpath.basename(os.fsencode(output or "")) if output != "-" else b"check"
    return check_script(name, [(path, contents[path].digest) for path in sorted(contents) if contents[path].digest])


def _facts_words(name: bytes) -> str:
    return f"modes, times, links and directories: {text.show(name + checksum_record.FACTS_SUFFIX)}"


def _check_words(written: _Written) -> str:
    """How the list, or the script, is used: lines that can be pasted."""
    where, target = written.where, written.target
    name = posixpath.basename(target.path)
    if written.script:
        return f"sh {text.quoted(name)} DIRECTORY; in a job script: sh {text.quoted(name)} inputs || exit 1"
    beside = posixpath.dirname(written.root) if written.alone else written.root
    inside = posixpath.dirname(target.path) == beside
    ours = text.command("verify", where) if inside else text.command("verify", where, "--against", target)
    if target.node != where.node:
        return ours
    above = posixpath.dirname(where.path) if written.alone else where.path
    enter = f"cd {text.quoted(above)} && " if above not in (b"", b".") else ""
    standard = f"{enter}sha256sum -c {text.quoted(name if inside else target.path)}"
    return f"{f'on {where.node}: ' if where.node else ''}{standard}, or: {ours}"


async def scan_place(app: App, store: Readable, where: Place, choice: Choice, *, quiet: bool) -> Tree:
    """Scan what is in a place. Raises StoreError, MISSING where there is nothing."""
    root = await store.resolve(where.path, follow=True)
    with EntryCount(app, [where], quiet=quiet) as count:
        tree = await scan(store, root, choice=choice, heard=count.heard)
    if not tree.entries:
        raise StoreError(Fault.MISSING, root, store=where.node)
    return tree


async def _write(app: App, store: Store, where: Place, tree: Tree, to: _Output, data: bytes, alone: bool) -> Place:
    """Write list and facts file, or a script. Returns its place."""
    output = to.file
    if output is None:
        path = tree.root + b".sha256" if alone else posixpath.join(tree.root, LIST_NAME)
        target, there = Place(where.node, path), store
    else:
        given = app.place(output, new=True)
        there = store if given.node and given.node == where.node else await app.open(app.source(given, writing=True))
        target = Place(given.node, await there.resolve(given.path))
        if given.node:
            await refuse_read_only(there, app.nodes().get(given.node), target.path)
    name = posixpath.basename(target.path)
    try:
        facts = checksum_record.write_facts(tree, name, data)
        keeping = KeptDirectories(there, posixpath.dirname(target.path), new_name().encode())
        closed = 0 if target.node else own_umask()
        await _put(there, target.path, data, keeping, (0o755 if to.script else 0o644) & ~closed)
        if not to.script:
            await _put(there, target.path + checksum_record.FACTS_SUFFIX, facts, keeping, 0o644 & ~closed)
    finally:
        if there is not store:
            await there.close()
    return target


async def _put(store: Store, path: bytes, data: bytes, keeping: KeptDirectories, mode: int) -> None:
    """Write a small file atomically; an older one of its name is kept."""
    directory = posixpath.dirname(path)
    part = posixpath.join(directory, PART_PREFIX + b"list-" + secrets.token_hex(4).encode() + PART_SUFFIX)
    writer = await store.create_part(part)
    try:
        for offset in range(0, len(data), store.traits.write_size):
            await writer.write(offset, data[offset : offset + store.traits.write_size])
        await writer.sync()
        seen = await store.look(path)
        kept = await keeping.path_for(posixpath.basename(path)) if seen is not None else b""
        await store.place(
            writer,
            Placement(part, path, len(data), directory, mode=mode, mtime_ns=time.time_ns(), seen=seen, kept=kept),
        )
    except BaseException as error:
        with contextlib.suppress(StoreError):  # what is left of it is found by `parts`
            await store.remove(part)
        if isinstance(error, StoreError) and error.path == part:
            raise StoreError(error.fault, path, store=error.store, detail=error.detail) from error
        raise
    finally:
        await writer.close()


def patterns(choice: Choice) -> dict[str, list[str]]:
    """The patterns that chose, for the ledger; empty if everything was chosen."""
    given = {"only": choice.only, "skip": choice.skip}
    return {name: [text.show(pattern) for pattern in patterns] for name, patterns in given.items() if patterns}
