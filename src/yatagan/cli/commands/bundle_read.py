"""`yatagan bundle list`, `unpack` and `check`: archives of any maker as what is in them."""

from __future__ import annotations

import time
from collections.abc import Coroutine, Iterator
from dataclasses import replace
from typing import TypeVar

import click

from yatagan.batches.batch_store import new_name
from yatagan.bundles.by_node import unpack_there
from yatagan.bundles.read import ReadResult, UnpackRequest, check, list_members, open_bundle, unpack
from yatagan.bundles.threads import in_thread
from yatagan.cli import shell_completion
from yatagan.cli.answers.bundle_answer import listing_json
from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.context import App, as_json, no_questions, run, written
from yatagan.cli.pattern_options import choosing, parse_choice
from yatagan.cli.terminal import terminal, text
from yatagan.cli.views import bundle_view
from yatagan.cli.views.progress import Progress
from yatagan.cli.views.progress_view import View, view_for
from yatagan.cli.words.exit_status import ExitStatus
from yatagan.cli.words.record_words import warn_of
from yatagan.config.units import parse_size
from yatagan.digests.checksum_lists import format_list
from yatagan.errors import BadPlace, StoreError
from yatagan.faults import Fault
from yatagan.ledger.ledger import OnRecord
from yatagan.ledger.records import RecordedPlace, RecordKind
from yatagan.operations.put_on_record import Done, put_on_record
from yatagan.places import Place
from yatagan.planning.destination_areas import refuse_read_only
from yatagan.portable import unpacking
from yatagan.portable.index import IndexEntry
from yatagan.portable.tar import Damaged
from yatagan.stores.interface import Kind, Store
from yatagan.trees.patterns import Choice

T = TypeVar("T")

#: What comes out of a compressed archive, at most, for each byte of it.
_RATIO = 200


@click.command(
    "list",
    short_help="Show what is in an archive.",
    epilog="""\b
Examples:
  yatagan bundle list heron:fen.tar.zst --only chamber-07
  yatagan bundle list july.zip --json""",
)
@click.argument("place", shell_complete=shell_completion.places)
@click.option("--checksums", is_flag=True, help="Print a checksum list of the members instead, for sha256sum -c.")
@choosing
@no_questions
@as_json
def list_command(
    place: str, checksums: bool, only: tuple[str, ...], skip: tuple[str, ...], no_questions: bool, json_: bool
) -> None:
    """Show what is in the archive PLACE, without unpacking it: members, sizes, times, totals.

    From the index where there is one; otherwise as little as possible is read of the archive.
    """
    app = App.start(questions=not no_questions)
    where = app.place(place)
    choice = parse_choice(only, skip)
    status = run(_list(app, where, choice, checksums=checksums, json_=json_))
    if status:
        raise click.exceptions.Exit(status)


class _Listing:
    """The entries that were read, and where the archive is damaged."""

    def __init__(self) -> None:
        self.lines: list[IndexEntry] = []
        self.damage = ""

    def read(self, lines: Iterator[IndexEntry]) -> None:
        try:
            self.lines.extend(lines)
        except Damaged as damaged:
            self.damage = bundle_view.damage_text(damaged.at, damaged.why)


async def _list(app: App, where: Place, choice: Choice, *, checksums: bool, json_: bool) -> int:
    store = await app.open(app.source(where, commands=False))
    listing = _Listing()
    try:
        path = await _archive(store, where)
        async with open_bundle(store, path) as bundle:
            await in_thread(lambda stop: listing.read(list_members(bundle, choice, _RATIO)))
    finally:
        await store.close()
    if checksums:
        if not bundle.fits:
            raise BadPlace(str(where), "it has no index that fits it, so there are no digests", "unpack it first")
        lines = format_list((line.member.name, line.digest) for line in listing.lines if line.digest)
        terminal.say_data(b"".join(lines))
        return ExitStatus.GOOD
    if json_:
        say_json(listing_json(where, path, listing.lines, listing.damage, bundle.fits))
    else:
        bundle_view.show_listing(listing.lines, listing.damage)
        if bundle.index_file is not None and not bundle.fits:
            text.warn("the index beside it was made for another archive, or this one has been cut")
    if listing.damage:
        text.warn(listing.damage)
        return ExitStatus.DIFFERENCES
    return ExitStatus.GOOD


@click.command(
    "unpack",
    short_help="Unpack an archive, here or on its node.",
    epilog="""\b
Examples:
  yatagan bundle unpack fen.tar.zst                # below where you are
  yatagan bundle unpack heron:fen.tar.zst --only chamber-07 --into back
  yatagan bundle unpack heron:fen.tar.zst --into heron:  # by the node
  yatagan bundle unpack broken.tar.gz --salvage""",
)
@click.argument("place", shell_complete=shell_completion.places)
@click.option("--into", metavar="DIRECTORY", help="Where to, here or on the same node. Default: the working directory.")
@click.option(
    "--if-there",
    type=click.Choice([unpacking.LEAVE, unpacking.REPLACE_OLDER, unpacking.REPLACE]),
    default=unpacking.LEAVE,
    show_default=True,
    help="Files that are there already and differ: leave them, replace those that are older, or replace them. What "
    "is replaced is kept.",
)
@click.option("--salvage", is_flag=True, help="Where the archive is damaged, go on behind the damage.")
@click.option("--links-out", is_flag=True, help="Make links that lead out of the directory, too.")
@click.option(
    "--size-limit",
    callback=written(parse_size),
    metavar="SIZE",
    help="Write no more than this, such as 20GB. Default: the free space of the disk.",
)
@click.option(
    "--ratio-limit",
    type=click.IntRange(min=1),
    default=_RATIO,
    show_default=True,
    help="Stop when more than this many bytes come out for each byte of a compressed archive.",
)
@choosing
@no_questions
@as_json
def unpack_command(
    place: str,
    into: str | None,
    if_there: str,
    salvage: bool,
    links_out: bool,
    size_limit: int | None,
    ratio_limit: int,
    only: tuple[str, ...],
    skip: tuple[str, ...],
    no_questions: bool,
    json_: bool,
) -> None:
    """Unpack the archive PLACE, here or on a node, from any program: tar of any kind, gzip, bzip2, xz, zstd, zip.

    Every file is compared with the index where there is one. No member leads outside the directory; what is there
    already is left alone.
    """
    app = App.start(questions=not no_questions)
    run_name = new_name()
    manner = unpacking.UnpackOptions(run_name, if_there, links_out, size_limit, sync_disk=True)
    wish = UnpackRequest(parse_choice(only, skip), manner, ratio_limit, salvage)
    status = run(_unpack(app, app.place(place), app.place(into or ".", new=True), wish, json_))
    if status:
        raise click.exceptions.Exit(status)


async def _unpack(app: App, where: Place, into: Place, wish: UnpackRequest, json_: bool) -> int:
    if into.node and into.node != where.node:
        raise BadPlace(str(into), "an archive is unpacked here or on the node that it is on", "stage it there first")
    store = await app.open(app.source(where, commands=bool(into.node), writing=bool(into.node)))
    target = store if into.node else await app.open(app.source(into, writing=True))
    began = time.monotonic()
    try:
        path = await _archive(store, where)
        root = await _directory(app, target, into)
        wish = await _within_space(target, root, wish)
        async with open_bundle(store, path) as bundle:
            totals = bundle.totals
            progress = Progress(totals.files if totals else 0, totals.size if totals else 0)
            view = view_for(progress, quiet=json_)
            if into.node:
                read = await _with(view, unpack_there(store, path, root, wish))
            else:
                read = await _with(
                    view,
                    in_thread(
                        lambda stop: unpack(bundle, root, wish, lambda files, size: progress.hashed(size, files), stop)
                    ),
                )
    finally:
        await store.close()
        if target is not store:
            await target.close()
    record = _put_unpacked_on_record(app, where, path, Place(into.node, root), read)
    if wish.choice and not read.files and not json_:
        text.warn("no file was unpacked: the patterns choose none, or all are there already")
    unpacked = bundle_view.Unpacked(bundle, read, wish, time.monotonic() - began, record)
    bundle_view.tell_unpacked(where, path, Place(into.node, root), unpacked, json_)
    warn_of(record)
    return ExitStatus.GOOD if read.good else ExitStatus.DIFFERENCES


async def _with(view: View, work: Coroutine[None, None, T]) -> T:
    """Await work while a view shows it."""
    async with view:
        return await work


async def _directory(app: App, store: Store, into: Place) -> bytes:
    """The directory to unpack into, made if it is missing. Raises BadPlace, Refused."""
    root = await store.resolve(into.path, follow=True)
    if into.node:
        await refuse_read_only(store, app.nodes().get(into.node), root)
    found = await store.look(root)
    if found is None:
        await store.make_directory(root, 0o777)
    elif found.kind is not Kind.DIRECTORY:
        raise BadPlace(str(into), f"it is a {found.kind.value}, not a directory")
    return root


async def _within_space(store: Store, root: bytes, wish: UnpackRequest) -> UnpackRequest:
    """Limit what is written to the free space, unless the user set a limit."""
    free = await store.free_space(root) if wish.manner.most is None else None
    return wish if free is None else replace(wish, manner=wish.manner._replace(most=free - free // 50))


def _put_unpacked_on_record(app: App, where: Place, path: bytes, into: Place, read: ReadResult) -> OnRecord | None:
    if not read.files:
        return None
    counts = {
        "files": read.files,
        "left_as_is": read.counts[unpacking.LEFT],
        "replaced": read.counts[unpacking.REPLACED],
    }
    return put_on_record(
        app,
        Done(
            RecordKind.UNPACKED,
            "good" if read.good else "not good",
            origins=(RecordedPlace(where.node, path),),
            target=RecordedPlace(into.node, into.path),
            counts={what: count for what, count in counts.items() if count},
            size=read.size,
            evidence={"compared with the index": read.proven, "not listed": max(0, read.files - read.proven)},
        ),
        lambda: sorted((name, digest) for name, digest in read.listed if digest),
    )


@click.command(
    "check",
    short_help="Check an archive against its index.",
    epilog="""\b
Examples:
  yatagan bundle check fen.tar.zst
  yatagan bundle check heron:fen.tar.zst""",
)
@click.argument("place", shell_complete=shell_completion.places)
@click.option("--ratio-limit", type=click.IntRange(min=1), default=_RATIO, show_default=True, help="See bundle unpack.")
@no_questions
@as_json
def check_command(place: str, ratio_limit: int, no_questions: bool, json_: bool) -> None:
    """Read every member of the archive PLACE and compare it with the index: contents, sizes, modes, times.

    Without an index, whether the archive can be read to its end. Exit status 0 when all is well, 1 otherwise.
    """
    app = App.start(questions=not no_questions)
    status = run(_check(app, app.place(place), ratio_limit, json_))
    if status:
        raise click.exceptions.Exit(status)


async def _check(app: App, where: Place, ratio: int, json_: bool) -> int:
    store = await app.open(app.source(where, commands=False))
    try:
        path = await _archive(store, where)
        async with open_bundle(store, path) as bundle:
            totals = bundle.totals
            progress = Progress(totals.files if totals else 0, totals.size if totals else 0)
            async with view_for(progress, quiet=json_):
                read = await in_thread(
                    lambda stop: check(bundle, ratio, lambda files, size: progress.hashed(size, files), stop)
                )
            bundle_view.tell_checked(where, path, bundle, read, json_)
    finally:
        await store.close()
    return ExitStatus.GOOD if read.good else ExitStatus.DIFFERENCES


async def _archive(store: Store, where: Place) -> bytes:
    """The absolute path of an archive. Raises BadPlace."""
    path = await store.resolve(where.path, follow=True)
    found = await store.look(path)
    if found is None:
        raise StoreError(Fault.MISSING, path, store=where.node)
    if found.kind is not Kind.FILE:
        raise BadPlace(str(where), f"it is a {found.kind.value}, not an archive")
    return path
