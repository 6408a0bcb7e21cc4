"""`yatagan verify`: a place against a checksum list, a batch against what it has put there, a dataset against the
ledger."""

from __future__ import annotations

import functools
import hashlib
import os
import posixpath
from collections.abc import Awaitable, Callable, Mapping
from pathlib import Path
from typing import Any

import click

from yatagan.bundles.see_through import SeeThrough
from yatagan.cli import shell_completion, text
from yatagan.cli.checksums import patterns, scan_place
from yatagan.cli.context import App, as_json, no_questions, one_of, run, say_json
from yatagan.cli.dataset_state import not_good_json, not_good_words
from yatagan.cli.exit_status import ExitStatus
from yatagan.cli.ledger_record import put_on_record, record_json, warn_of
from yatagan.cli.named_file import open_descriptor, read_named
from yatagan.cli.pattern_options import choosing, parse_choice
from yatagan.cli.verdict_view import Against, show_one_line, show_verdicts, verdicts_json
from yatagan.cli.verify_dataset import place_of, verify_batch, verify_dataset
from yatagan.cli.verifying import Looking
from yatagan.config.project import StoredAs, Towards
from yatagan.digests.algorithms import ALGORITHMS
from yatagan.digests.any_lists import Reading, read_list
from yatagan.digests.checksum_lists import LIST_NAME, Listed
from yatagan.errors import BadList, BadPlace
from yatagan.ledger.ledger import OnRecord
from yatagan.ledger.records import RecordedPlace, RecordKind
from yatagan.operations.stage_request import By
from yatagan.places import Place
from yatagan.stores.interface import Kind, Readable
from yatagan.trees import checksum_record
from yatagan.trees.checksum_record import is_record
from yatagan.trees.patterns import Choice
from yatagan.trees.scan import Tree
from yatagan.verdicts.algorithm_of_list import refuse_other_algorithm
from yatagan.verdicts.on_record import verdicts_on_record
from yatagan.verdicts.scope import StillNotGood, named_on_record
from yatagan.verdicts.verification import Claims, Finding, Verdicts


@click.command(
    "verify",
    epilog="""\b
Examples:
  yatagan verify heron:fen                  # against heron:fen/SHA256SUMS
  yatagan verify heron:fen --against fen/SHA256SUMS
  yatagan verify heron:fen --against published.md5 --drop-leading 1
  yatagan verify --batch k7qd               # is it still there as it was put?
  yatagan verify --dataset chambers         # of the project, as on record
  yatagan verify heron:fen --by size-and-time
  yatagan verify heron:archive --resume     # goes on where it was cut off
In a job script:
  yatagan verify --dataset chambers --at here --no-questions || exit 1""",
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
    "--dataset",
    metavar="NAME",
    shell_complete=shell_completion.datasets,
    help="Verify a dataset of the project against what the ledger has of it, instead of a PLACE.",
)
@click.option(
    "--at",
    type=one_of(Towards),
    help="Verify the dataset here or there. Default: where it is carried to.",
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
@click.option(
    "--processes",
    type=click.IntRange(min=1, max=256),
    metavar="N",
    help="Let N processors hash, of those that the machine has: on a login node at most 2. They give way to others.",
)
@click.option(
    "--resume",
    is_flag=True,
    help="Go on where a run of the last 24 hours was cut off, and log in again when the connection is lost. What has "
    "moved since is read again.",
)
@choosing
@no_questions
@as_json
def verify_command(
    place: str | None,
    against: str | None,
    batch: str | None,
    dataset: str | None,
    at: str | None,
    digest: str | None,
    below: str | None,
    drop: int,
    by: str,
    processes: int | None,
    resume: bool,
    only: tuple[str, ...],
    skip: tuple[str, ...],
    no_questions: bool,
    json_: bool,
) -> None:
    """Verify PLACE against a checksum list, or a batch or dataset against what is on record of it.

    Says what is the same, different, missing or not listed, and by which evidence. Lists of any open form are read:
    lines HEX PATH or NAME (PATH) = HEX, of MD5, SHA-1, SHA-2, BLAKE2 and BLAKE3. With patterns, only what they choose,
    there and on the list. Exit status 0 when everything on the list is there and the same, 1 otherwise.
    """
    app = App.start(questions=not no_questions)
    if [place, batch, dataset].count(None) != 2:
        raise click.UsageError("name a PLACE, or --batch ID, or --dataset NAME", click.get_current_context())
    if place is None and (against or digest or below or drop):
        raise click.UsageError("only a PLACE is verified against a list", click.get_current_context())
    if at is not None and dataset is None:
        raise click.UsageError("--at goes with --dataset", click.get_current_context())
    choice, contents, quiet = parse_choice(only, skip), By(by) is By.DIGEST, json_

    def look(node: str) -> Looking:
        return Looking(app, node, contents=contents, quiet=quiet, resume=resume, processes=processes or 0)

    attempt: Callable[[], Awaitable[tuple[Verdicts, Place, Against]]]
    details: dict[str, str] = {}
    if batch is not None:
        looking = look("")
        attempt = functools.partial(verify_batch, app, batch, choice, looking)
    elif dataset is not None:
        project = app.project()
        declared = project.dataset(dataset)
        end = Towards(at) if at else declared.towards
        if declared.stored is StoredAs.BAG:
            from yatagan.cli.bag import check_place  # which other verdicts can do without

            raise click.exceptions.Exit(check_place(app, place_of(declared, end), json_=json_))
        looking = look(place_of(declared, end).node)
        attempt = functools.partial(verify_dataset, app, project, declared, end, choice, looking)
        details = {"project": project.name, "dataset": declared.name, "at": end.value}
    else:
        assert place is not None
        where = app.place(place)
        looking = look(where.node)
        reading = Reading(digest, os.fsencode(below or ""), drop)
        attempt = functools.partial(_verify, app, where, against, reading, choice, looking)
    verdicts, where, used = run(looking.with_patience(attempt))
    record = _put_on_record(app, where, used, verdicts, {**patterns(choice), **details})
    earlier = _still_not_good(app, details, record)
    if json_:
        said = {**verdicts_json(where, used, verdicts), "still_not_good": not_good_json(earlier)}
        say_json({**said, **record_json(record)})
    elif dataset is not None and no_questions and verdicts.good:
        show_one_line(where, used, verdicts)
    else:
        show_verdicts(where, used, verdicts, record)
    for words in not_good_words(used.dataset, earlier) if not json_ else ():
        text.warn(f"{used.dataset}, {words}")
    warn_of(record)
    if not verdicts.good:
        raise click.exceptions.Exit(ExitStatus.DIFFERENCES)


async def _verify(
    app: App, where: Place, against: str | None, reading: Reading, choice: Choice, looking: Looking
) -> tuple[Verdicts, Place, Against]:
    store = SeeThrough(await app.open(app.source(where, names=True)))
    try:
        tree = await scan_place(app, store, where, choice, quiet=looking.quiet)
        place, data, facts = await _read_record(app, store, tree, where, against)
        name = text.place(place.node, place.path)
        if reading.algorithm is None and facts is not None:
            reading = Reading(checksum_record.algorithm_of(facts), reading.below, reading.drop)
        read = read_list(data, name, reading)
        if not read.lines and facts is None and any(not is_record(path) for path in tree.entries.of_kind(Kind.FILE)):
            raise BadList(name, 0, "it names no file, though there are some")
        listed = [line for line in read.lines if choice.chooses(line.path)]
        if store.take_as_files(tree.absolute(line.path) for line in listed):
            tree = await scan_place(app, store, where, choice, quiet=looking.quiet)
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
        if not looking.contents and expected is None:
            raise BadPlace(name, "a bare list has no sizes and no times", "leave out --by, and contents are compared")
        claims = Claims(listed, expected, read.contradictions)
        verdicts = await looking.verdicts(store, tree, claims)
        if read.assumed and looking.contents and not verdicts.count(Finding.SAME, Kind.FILE):
            await refuse_other_algorithm(store, tree, listed, name)
        digest = hashlib.sha256(data).hexdigest()
        return verdicts, where, Against(tree.root, place, digest, listed, inside=against is None, crlf=read.crlf)
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
    if against is not None and open_descriptor(against) is not None:
        piped = read_named(Path(against), "name a list with --against FILE", checksum_record.LARGEST_LIST)
        return Place("", os.fsencode(against)), piped, None
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


def _still_not_good(app: App, details: Mapping[str, str], record: OnRecord) -> list[StillNotGood]:
    """What earlier verdicts on the dataset have found, where this one has not looked, or not as well."""
    if "dataset" not in details:
        return []
    found = verdicts_on_record(app.ledger_to_read()).of_dataset(details["project"], details["dataset"])
    return [each for each in found if each.record.id != record.id]


def _put_on_record(app: App, where: Place, used: Against, verdicts: Verdicts, details: Mapping[str, Any]) -> OnRecord:
    findings = (
        Finding.DIFFERENT,
        Finding.MISSING,
        Finding.MOVED,
        Finding.FACTS_DIFFER,
        Finding.UNREADABLE,
        Finding.NOT_LISTED,
    )
    counts = {finding.name.lower(): count for finding in findings if (count := verdicts.count(finding))}
    looked = {
        verdicts.origin.value: verdicts.files - verdicts.remembered if verdicts.contents else 0,
        "remembered": verdicts.remembered,
        "size and time": 0 if verdicts.contents else verdicts.files,
    }
    against = {"against": RecordedPlace(used.place.node, used.place.path).as_json(), "against_sha256": used.digest}
    return put_on_record(
        app,
        RecordKind.VERIFIED,
        "good" if verdicts.good else "facts differ" if verdicts.contents_good else "not good",
        origins=(RecordedPlace(where.node, used.root),),
        counts={"files": verdicts.files, **counts},
        size=verdicts.size,
        evidence=looked,
        details={
            **({"batch": used.batch} if used.batch else {} if used.dataset else against),
            **details,
            "not_good": named_on_record(verdicts),
        },
        contents=lambda: ((line.path, line.digest) for line in used.listed if line.path),
    )
