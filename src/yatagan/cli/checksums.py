"""`yatagan checksums` and `yatagan verify`: the record of a tree, and verifying a tree against it."""

from __future__ import annotations

import hashlib
import posixpath
import secrets
import time

import click

from yatagan.batches.batch_store import new_name
from yatagan.bundles.see_through import SeeThrough
from yatagan.cli import fault_words, shell_completion, text
from yatagan.cli.context import App, as_json, no_questions, run, say_json
from yatagan.cli.exit_status import ExitStatus
from yatagan.cli.json_fields import evidence_json
from yatagan.cli.ledger_record import put_on_record, record_json, record_row, warn_of
from yatagan.cli.pattern_options import choosing, parse_choice
from yatagan.cli.plan_warnings import refuse_read_only
from yatagan.cli.progress import Progress
from yatagan.cli.progress_view import view_for
from yatagan.cli.scan_progress import EntryCount
from yatagan.cli.verdict_view import ORIGINS, Against, show_verdicts, verdicts_json
from yatagan.digests.checksum_lists import ALGORITHM, LIST_NAME, Listed, parse_list
from yatagan.errors import BadPlace, StoreError
from yatagan.faults import Fault
from yatagan.ledger.ledger import OnRecord
from yatagan.ledger.records import RecordedPlace, RecordKind
from yatagan.places import PART_PREFIX, PART_SUFFIX, Place, name_fields
from yatagan.stores.interface import Kind, Placement, Readable, Store
from yatagan.trees import checksum_record
from yatagan.trees.checksum_record import Finding, Verdicts
from yatagan.trees.hashing import Content, DigestOrigin, digests
from yatagan.trees.kept_directories import KeptDirectories
from yatagan.trees.patterns import Choice
from yatagan.trees.scan import Tree, scan


class _Counting:
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
Anyone can check it:  cd fen && sha256sum -c SHA256SUMS""",
)
@click.argument("place", shell_complete=shell_completion.places)
@click.option(
    "--output", metavar="FILE", help="Where to write the list (- prints it). Default: SHA256SUMS in the tree."
)
@choosing
@no_questions
@as_json
def checksums_command(
    place: str, output: str | None, only: tuple[str, ...], skip: tuple[str, ...], no_questions: bool, json_: bool
) -> None:
    """Write the checksum list of PLACE, here or on a node, and its facts file beside it.

    A list that is there already is kept.
    """
    app = App.start(questions=not no_questions)
    status = run(_checksums(app, app.place(place), output, parse_choice(only, skip), json_))
    if status:
        raise click.exceptions.Exit(status)


async def _checksums(app: App, where: Place, output: str | None, choice: Choice, json_: bool) -> int:
    store = await app.open(app.source(where, writing=output is None))
    try:
        seeing = SeeThrough(store, listed=False)
        tree = await _scan(app, seeing, where, choice, quiet=json_)
        if output is None and seeing.stored(tree.root) is not None:
            raise BadPlace(
                str(where), "it is stored as a bundle, which is never written into", "name a list: --output FILE"
            )
        if output is None and where.node:
            await refuse_read_only(store, app.nodes().get(where.node), tree.root)
        alone = tree.entries[b""].kind is Kind.FILE
        paths = [path for path in tree.files() if not checksum_record.is_record(path)]
        counting = _Counting(tree, paths, quiet=json_)
        async with counting.view:
            contents = await digests(seeing, tree, paths, ALGORITHM, counting.done)
        if alone:
            contents = {where.name: next(iter(contents.values()))}
        data = checksum_record.write_list(contents)
        unread = {path: content.fault for path, content in contents.items() if content.fault is not None}
        unread.update(tree.unread)
        if output == "-":
            click.echo(data, nl=False)
        else:
            target, name = await _write(app, store, where, tree, output, data, alone)
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
        target=RecordedPlace(target.node, target.path) if output != "-" else None,
        counts={"files": files, "unreadable": len(unread)},
        size=size,
        evidence={origin.value: files},
        details=_patterns(choice),
        contents=lambda: ((path, contents[path].digest) for path in sorted(contents) if contents[path].digest),
    )
    if output != "-":
        _tell_listed(where, tree.root, target, name, (files, size, outcome), origin, record, json_)
    warn_of(record)
    for path, why in sorted(unread.items()):
        text.warn(f"{text.show(path)}: {fault_words.fault(why)}; it is not on the list")
    return ExitStatus.DIFFERENCES if unread else ExitStatus.GOOD


def _tell_listed(
    where: Place,
    root: bytes,
    target: Place,
    name: bytes,
    counted: tuple[int, int, str],
    origin: DigestOrigin,
    record: OnRecord,
    json_: bool,
) -> None:
    files, size, outcome = counted
    if json_:
        answer = {"node": where.node, **name_fields(root), "files": files, "size_bytes": size}
        evidence = evidence_json({origin: files})
        in_list = {**name_fields(target.path, "list"), "list_node": target.node}
        say_json({**answer, "evidence": evidence, "outcome": outcome, **in_list, **record_json(record)})
        return
    click.echo(click.style(f"Wrote {text.place(target.node, target.path)}", bold=True))
    text.facts(
        [
            ("listed", f"{text.count(files, 'file')}, {text.size(size)}"),
            ("how", ORIGINS[origin]),
            ("facts", f"modes, times, links and directories: {text.show(name + checksum_record.FACTS_SUFFIX)}"),
            (
                "check",
                f"sha256sum -c {text.quoted(name)}, or: {text.command('verify', where)}",
            ),
            record_row(record),
        ]
    )


async def _scan(app: App, store: Readable, where: Place, choice: Choice, *, quiet: bool) -> Tree:
    root = await store.resolve(where.path, follow=True)
    with EntryCount(app, [where], quiet=quiet) as count:
        tree = await scan(store, root, choice=choice, heard=count.heard)
    if not tree.entries:
        raise StoreError(Fault.MISSING, root, store=where.node)
    return tree


async def _write(
    app: App, store: Store, where: Place, tree: Tree, output: str | None, data: bytes, alone: bool
) -> tuple[Place, bytes]:
    """Write list and facts file. Returns the list's directory and name."""
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
        await _put(there, target.path, data, keeping)
        await _put(there, target.path + checksum_record.FACTS_SUFFIX, facts, keeping)
    finally:
        if there is not store:
            await there.close()
    return target, name


async def _put(store: Store, path: bytes, data: bytes, keeping: KeptDirectories) -> None:
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
            Placement(part, path, len(data), directory, mode=0o644, mtime_ns=time.time_ns(), seen=seen, kept=kept),
        )
    finally:
        await writer.close()


def _patterns(choice: Choice) -> dict[str, list[str]]:
    """The patterns that chose, for the ledger; empty if everything was chosen."""
    given = {"only": choice.only, "skip": choice.skip}
    return {name: [text.show(pattern) for pattern in patterns] for name, patterns in given.items() if patterns}


@click.command(
    "verify",
    epilog="""\b
Examples:
  yatagan verify heron:fen                  # against heron:fen/SHA256SUMS
  yatagan verify heron:fen --against fen/SHA256SUMS
In a job script:  yatagan verify inputs --json > verdict.json || exit 1""",
)
@click.argument("place", shell_complete=shell_completion.places)
@click.option(
    "--against", metavar="FILE", help="The checksum list, here or on a node. Default: SHA256SUMS in the tree."
)
@choosing
@no_questions
@as_json
def verify_command(
    place: str, against: str | None, only: tuple[str, ...], skip: tuple[str, ...], no_questions: bool, json_: bool
) -> None:
    """Verify PLACE against a checksum list: same, different, missing or not listed, and by which evidence.

    With patterns, only what they choose, there and on the list.
    Exit status 0 when everything on the list is there and the same, 1 otherwise.
    """
    app = App.start(questions=not no_questions)
    choice = parse_choice(only, skip)
    verdicts, where, used = run(_verify(app, app.place(place), against, choice, quiet=json_))
    record = _put_on_record(app, where, used, verdicts, choice)
    if json_:
        say_json({**verdicts_json(where, used, verdicts), **record_json(record)})
    else:
        show_verdicts(where, used, verdicts, record)
    warn_of(record)
    if not verdicts.good:
        raise click.exceptions.Exit(ExitStatus.DIFFERENCES)


async def _verify(
    app: App, where: Place, against: str | None, choice: Choice, quiet: bool
) -> tuple[Verdicts, Place, Against]:
    store = SeeThrough(await app.open(app.source(where)))
    try:
        tree = await _scan(app, store, where, choice, quiet=quiet)
        place, data, facts = await _read_record(app, store, tree, where, against)
        listed = [line for line in parse_list(data, text.place(place.node, place.path)) if choice.chooses(line.path)]
        if store.take_as_files(tree.absolute(line.path) for line in listed):
            tree = await _scan(app, store, where, choice, quiet=quiet)
        if choice and not listed:
            raise BadPlace(str(where), "the patterns choose nothing that is on the list", "look at the list")
        if tree.entries[b""].kind is not Kind.DIRECTORY:
            listed = _only(listed, where)
        expected = checksum_record.read_facts(facts, data, str(place) + ".facts.jsonl") if facts else None
        if tree.entries[b""].kind is not Kind.DIRECTORY:
            expected = None
        elif expected is not None and choice:
            expected = {path: facts for path, facts in expected.items() if path in tree.entries or choice.chooses(path)}
        counting = _Counting(tree, [line.path for line in listed], quiet)
        async with counting.view:
            verdicts = await checksum_record.verify(store, tree, listed, expected, counting.done)
        used = Against(tree.root, place, hashlib.sha256(data).hexdigest(), listed, inside=against is None)
        return verdicts, where, used
    finally:
        await store.close()


def _only(listed: list[Listed], where: Place) -> list[Listed]:
    """The record of a single file: its own line."""
    found = [line for line in listed if posixpath.basename(line.path) == where.name]
    if len(found) != 1:
        raise BadPlace(str(where), "the list does not name this file", "give another list with --against")
    return [Listed(b"", found[0].digest, found[0].algorithm)]


async def _read_record(
    app: App, store: Readable, tree: Tree, where: Place, against: str | None
) -> tuple[Place, bytes, bytes | None]:
    """Read a list, and the facts file beside it if there is one."""
    if against is None:
        alone = tree.entries[b""].kind is not Kind.DIRECTORY
        path = tree.root + b".sha256" if alone else posixpath.join(tree.root, LIST_NAME)
        place, there = Place(where.node, path), store
    else:
        given = app.place(against)
        there = store if given.node == where.node else await app.open(app.source(given, commands=False))
        place = Place(given.node, await there.resolve(given.path, follow=True))
    try:
        if await there.look(place.path) is None:
            raise BadPlace(
                str(place),
                "there is no checksum list",
                f"name one with --against FILE, or make one with: {text.command('checksums', where)}",
            )
        data = await checksum_record.fetch(there, place.path)
        facts_path = place.path + checksum_record.FACTS_SUFFIX
        facts = await checksum_record.fetch(there, facts_path) if await there.look(facts_path) is not None else None
        return place, data, facts
    finally:
        if there is not store:
            await there.close()


def _put_on_record(app: App, where: Place, used: Against, verdicts: Verdicts, choice: Choice) -> OnRecord:
    findings = (
        Finding.DIFFERENT,
        Finding.MISSING,
        Finding.FACTS_DIFFER,
        Finding.UNREADABLE,
        Finding.NOT_LISTED,
    )
    counts = {finding.name.lower(): count for finding in findings if (count := verdicts.count(finding))}
    return put_on_record(
        app,
        RecordKind.VERIFIED,
        "good" if verdicts.good else "facts differ" if verdicts.contents_good else "not good",
        origins=(RecordedPlace(where.node, used.root),),
        counts={"files": verdicts.files, **counts},
        size=verdicts.size,
        evidence={verdicts.origin.value: verdicts.files},
        details={
            "against": RecordedPlace(used.place.node, used.place.path).as_json(),
            "against_sha256": used.digest,
            **_patterns(choice),
        },
        contents=lambda: ((line.path, line.digest) for line in used.listed if line.path),
    )
