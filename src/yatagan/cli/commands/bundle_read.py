"""`yatagan bundle list`, `unpack` and `check`: archives of any maker as what is in them."""

from __future__ import annotations

import click

from yatagan.cli import shell_completion
from yatagan.cli.answers.bundle_answer import listing_json
from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.context import App, as_json, no_questions, run, written
from yatagan.cli.pattern_options import choosing, parse_choice
from yatagan.cli.terminal import terminal, text
from yatagan.cli.views import bundle_view
from yatagan.cli.views.scan_progress import Shown
from yatagan.cli.words.exit_status import ExitStatus
from yatagan.cli.words.record_words import warn_of
from yatagan.config.units import parse_size
from yatagan.digests.checksum_lists import format_list
from yatagan.operations.bundle_read import RATIO, UnpackArchive, check_archive, list_archive, unpack_archive
from yatagan.portable import unpacking
from yatagan.request_errors import BadBundle, WrongBundle


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
    listing = run(list_archive(app, where, parse_choice(only, skip)))
    bundle, damage = listing.bundle, bundle_view.damage_words(listing.damage)
    if checksums:
        if not bundle.fits:
            raise BadBundle(WrongBundle.NO_DIGESTS, str(where))
        lines = format_list((line.member.name, line.digest) for line in listing.lines if line.digest)
        terminal.say_data(b"".join(lines))
        return
    if json_:
        say_json(listing_json(where, listing.path, listing.lines, damage, bundle.fits))
    else:
        bundle_view.show_listing(listing.lines, damage)
        if bundle.index_file is not None and not bundle.fits:
            text.warn("the index beside it was made for another archive, or this one has been cut")
    if damage:
        text.warn(damage)
        raise click.exceptions.Exit(ExitStatus.DIFFERENCES)


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
    default=RATIO,
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
    request = UnpackArchive(
        app.place(place),
        app.place(into or ".", new=True),
        parse_choice(only, skip),
        if_there,
        salvage,
        links_out,
        size_limit,
        ratio_limit,
    )
    unpacked = run(unpack_archive(app, request, Shown(app, quiet=json_)))
    if request.choice and not unpacked.read.files and not json_:
        text.warn("no file was unpacked: the patterns choose none, or all are there already")
    bundle_view.tell_unpacked(unpacked, json_)
    warn_of(unpacked.record)
    if not unpacked.read.good:
        raise click.exceptions.Exit(ExitStatus.DIFFERENCES)


@click.command(
    "check",
    short_help="Check an archive against its index.",
    epilog="""\b
Examples:
  yatagan bundle check fen.tar.zst
  yatagan bundle check heron:fen.tar.zst""",
)
@click.argument("place", shell_complete=shell_completion.places)
@click.option("--ratio-limit", type=click.IntRange(min=1), default=RATIO, show_default=True, help="See bundle unpack.")
@no_questions
@as_json
def check_command(place: str, ratio_limit: int, no_questions: bool, json_: bool) -> None:
    """Read every member of the archive PLACE and compare it with the index: contents, sizes, modes, times.

    Without an index, whether the archive can be read to its end. Exit status 0 when all is well, 1 otherwise.
    """
    app = App.start(questions=not no_questions)
    checked = run(check_archive(app, app.place(place), Shown(app, quiet=json_), ratio=ratio_limit))
    bundle_view.tell_checked(checked, json_)
    if not checked.read.good:
        raise click.exceptions.Exit(ExitStatus.DIFFERENCES)
