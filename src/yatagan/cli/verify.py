"""`yatagan verify`: a place against a checksum list, or against what a batch has put there."""

from __future__ import annotations

import contextlib
import hashlib
import os
import posixpath

import click

from yatagan.batches.batch_store import Batches
from yatagan.bundles.see_through import SeeThrough
from yatagan.cli import shell_completion, text
from yatagan.cli.checksums import Counting, patterns, scan_place
from yatagan.cli.context import App, as_json, no_questions, one_of, run, say_json
from yatagan.cli.exit_status import ExitStatus
from yatagan.cli.ledger_record import put_on_record, record_json, warn_of
from yatagan.cli.pattern_options import choosing, parse_choice
from yatagan.cli.stage_request import By
from yatagan.cli.verdict_view import Against, show_verdicts, verdicts_json
from yatagan.digests.algorithms import ALGORITHMS
from yatagan.digests.any_lists import Reading, read_list
from yatagan.digests.checksum_lists import LIST_NAME, Listed
from yatagan.errors import BadPlace
from yatagan.ledger.ledger import OnRecord
from yatagan.ledger.records import RecordedPlace, RecordKind
from yatagan.places import Place
from yatagan.stores.interface import Kind, Readable, Store
from yatagan.trees import checksum_record
from yatagan.trees.patterns import Choice
from yatagan.trees.scan import Tree, scan
from yatagan.verdicts.of_batch import claims_of_batch
from yatagan.verdicts.verification import Claims, Finding, Verdicts, verify


@click.command(
    "verify",
    epilog="""\b
Examples:
  yatagan verify heron:fen                  # against heron:fen/SHA256SUMS
  yatagan verify heron:fen --against fen/SHA256SUMS
  yatagan verify heron:fen --against published.md5 --drop-leading 1
  yatagan verify --batch k7qd               # is it still there as it was put?
  yatagan verify heron:fen --by size-and-time
In a job script:  yatagan verify inputs --json > verdict.json || exit 1""",
)
@click.argument("place", required=False, shell_complete=shell_completion.places)
@click.option(
    "--against", metavar="FILE", help="The checksum list, here or on a node. Default: SHA256SUMS in the tree."
)
@click.option(
    "--batch",
    "batch",
    metavar="ID",
    shell_complete=shell_completion.batches,
    help="Verify what this batch has put into its destination, instead of a PLACE.",
)
@click.option(
    "--digest",
    type=click.Choice([each.name for each in ALGORITHMS]),
    metavar="NAME",
    help="The algorithm of the list, where neither its lines nor its name say it: sha256, sha512, blake2b, blake3, md5 "
    "and others.",
)
@click.option(
    "--below", metavar="DIRECTORY", help="Take only the paths of the list below this directory, relative to it."
)
@click.option(
    "--drop-leading",
    "drop",
    type=click.IntRange(min=0),
    default=0,
    metavar="N",
    help="Drop the first N names of every path on the list.",
)
@click.option(
    "--by",
    type=one_of(By),
    default=By.DIGEST.value,
    show_default=True,
    help="Contents (digest), or a quick look that goes by size and time and does not see what keeps both.",
)
@choosing
@no_questions
@as_json
def verify_command(
    place: str | None,
    against: str | None,
    batch: str | None,
    digest: str | None,
    below: str | None,
    drop: int,
    by: str,
    only: tuple[str, ...],
    skip: tuple[str, ...],
    no_questions: bool,
    json_: bool,
) -> None:
    """Verify PLACE against a checksum list: same, different, missing or not listed, and by which evidence.

    Lists of any open form are read: lines HEX PATH or NAME (PATH) = HEX, of MD5, SHA-1, SHA-2, BLAKE2 and BLAKE3. With
    patterns, only what they choose, there and on the list. Exit status 0 when everything on the list is there and the
    same, 1 otherwise.
    """
    app = App.start(questions=not no_questions)
    if (place is None) == (batch is None):
        raise click.UsageError("name a PLACE, or --batch ID", click.get_current_context())
    if batch is not None and (against or digest or below or drop):
        raise click.UsageError("a batch is verified without a list", click.get_current_context())
    choice, contents = parse_choice(only, skip), By(by) is By.DIGEST
    if batch is not None:
        verdicts, where, used = run(_verify_batch(app, batch, choice, contents=contents, quiet=json_))
    else:
        reading = Reading(digest, os.fsencode(below or ""), drop)
        assert place is not None
        verdicts, where, used = run(
            _verify(app, app.place(place), against, reading, choice, contents=contents, quiet=json_)
        )
    record = _put_on_record(app, where, used, verdicts, choice)
    if json_:
        say_json({**verdicts_json(where, used, verdicts), **record_json(record)})
    else:
        show_verdicts(where, used, verdicts, record)
    warn_of(record)
    if not verdicts.good:
        raise click.exceptions.Exit(ExitStatus.DIFFERENCES)


async def _verify(
    app: App, where: Place, against: str | None, reading: Reading, choice: Choice, *, contents: bool, quiet: bool
) -> tuple[Verdicts, Place, Against]:
    store = SeeThrough(await app.open(app.source(where)))
    try:
        tree = await scan_place(app, store, where, choice, quiet=quiet)
        place, data, facts = await _read_record(app, store, tree, where, against)
        name = text.place(place.node, place.path)
        if reading.algorithm is None and facts is not None:
            reading = Reading(checksum_record.algorithm_of(facts), reading.below, reading.drop)
        read = read_list(data, name, reading)
        listed = [line for line in read.lines if choice.chooses(line.path)]
        if store.take_as_files(tree.absolute(line.path) for line in listed):
            tree = await scan_place(app, store, where, choice, quiet=quiet)
        if choice and not listed:
            raise BadPlace(str(where), "the patterns choose nothing that is on the list", "look at the list")
        alone = tree.entries[b""].kind is not Kind.DIRECTORY
        if alone:
            listed = _only(listed, where)
        moved = bool(reading.below or reading.drop)  # then the facts file has other paths
        expected = (
            checksum_record.read_facts(facts, data, str(place) + ".facts.jsonl")
            if facts is not None and not alone and not moved
            else None
        )
        if expected is not None and choice:
            expected = {path: facts for path, facts in expected.items() if path in tree.entries or choice.chooses(path)}
        if not contents and expected is None:
            raise BadPlace(name, "a bare list has no sizes and no times", "leave out --by, and contents are compared")
        claims = Claims(listed, expected, read.contradictions)
        verdicts = await _counted(store, tree, claims, contents=contents, quiet=quiet)
        digest = hashlib.sha256(data).hexdigest()
        return verdicts, where, Against(tree.root, place, digest, listed, inside=against is None, crlf=read.crlf)
    finally:
        await store.close()


async def _counted(store: Readable, tree: Tree, claims: Claims, *, contents: bool, quiet: bool) -> Verdicts:
    """Verify, and show how many bytes were hashed."""
    if not contents:
        return await verify(store, tree, claims, contents=False)
    counting = Counting(tree, sorted({line.path for line in claims.listed}), quiet)
    async with counting.view:
        return await verify(store, tree, claims, counting.done)


async def _verify_batch(
    app: App, name: str, choice: Choice, *, contents: bool, quiet: bool
) -> tuple[Verdicts, Place, Against]:
    batch = Batches(app.home.batches).find(name)
    with contextlib.closing(batch.journal()) as journal:
        header, pins = journal.header(), journal.standing().pins
        claims = claims_of_batch(journal, choice)
    if not (claims.listed or claims.expected):
        raise BadPlace(batch.name, "it has put nothing there yet", text.command("batch", "resume", batch.name))
    where = Place(header.destination_node, header.destination)
    opened: Store = await app.open(app.source(where, pinned=pins.get(where.node)))
    store = SeeThrough(opened)
    try:
        store.take_as_files(posixpath.join(header.destination, line.path) for line in claims.listed)
        tree = Tree(header.destination)
        for _, arrival in header.arrivals:
            path = posixpath.join(header.destination, arrival)
            found = await scan(store, path)
            if b"" in found.entries:
                tree.entries[arrival] = found.entries[b""]
                tree.targets.update({arrival: found.targets[b""]} if b"" in found.targets else {})
            tree.graft(arrival, found)
        verdicts = await _counted(store, tree, claims, contents=contents, quiet=quiet)
        return verdicts, where, Against(header.destination, where, "", claims.listed, inside=False, batch=batch.name)
    finally:
        await store.close()


def _only(listed: list[Listed], where: Place) -> list[Listed]:
    """The record of a single file: its own line."""
    found = [line for line in listed if posixpath.basename(line.path) == where.name]
    if len({line.path for line in found}) != 1:
        raise BadPlace(str(where), "the list does not name this file", "give another list with --against")
    return [Listed(b"", line.digest, line.algorithm) for line in found]


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
        Finding.MOVED,
        Finding.FACTS_DIFFER,
        Finding.UNREADABLE,
        Finding.NOT_LISTED,
    )
    counts = {finding.name.lower(): count for finding in findings if (count := verdicts.count(finding))}
    looked = {verdicts.origin.value: verdicts.files} if verdicts.contents else {"size and time": len(verdicts.found)}
    against = {"against": RecordedPlace(used.place.node, used.place.path).as_json(), "against_sha256": used.digest}
    return put_on_record(
        app,
        RecordKind.VERIFIED,
        "good" if verdicts.good else "facts differ" if verdicts.contents_good else "not good",
        origins=(RecordedPlace(where.node, used.root),),
        counts={"files": verdicts.files, **counts},
        size=verdicts.size,
        evidence=looked,
        details={**({"batch": used.batch} if used.batch else against), **patterns(choice)},
        contents=lambda: ((line.path, line.digest) for line in used.listed if line.path),
    )
