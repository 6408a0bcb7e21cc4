"""`yatagan bundle`: directories as open archives, and archives of any maker as what is in them."""

from __future__ import annotations

import os
import posixpath
import secrets
import stat
import time
from collections.abc import Iterator
from typing import Any

import click

from yatagan.archives import unpacking
from yatagan.archives.compression import LEVELS, Form, form_of
from yatagan.archives.index import SUFFIX, Line
from yatagan.archives.making import Manner
from yatagan.archives.tar import DIRECTORY, FILE, Damaged
from yatagan.bundles.apart import apart
from yatagan.bundles.make import Contents, Made, Recipe, make
from yatagan.bundles.read import Bundle, Difference, Read, Wish, check, list_members, open_bundle, unpack
from yatagan.cli import completing, text, words
from yatagan.cli.cautions import refuse_read_only
from yatagan.cli.choosing import choosing, parse_choice
from yatagan.cli.context import App, as_json, no_questions, one_of, run, say_json
from yatagan.cli.view import Progress, view_for
from yatagan.config.units import parse_size
from yatagan.errors import BadPlace, Fault, Refused, StoreError
from yatagan.ledger.ledger import Ledger, RecordKind, record_name
from yatagan.places import Place, name_fields, parse_place
from yatagan.stores.interface import Kind, Store
from yatagan.trees.patterns import Choice
from yatagan.trees.scan import scan

#: Told one by one before the rest is only counted.
_SHOWN = 20
#: What comes out of a compressed archive, at most, for each byte of it.
_RATIO = 200

_REASONS = {
    unpacking.ABSOLUTE: "its name begins at the root of the disk",
    unpacking.CLIMBS: "its name climbs out of the directory",
    unpacking.EMPTY: "it has no name that a file could have",
    unpacking.OURS: "its name is one that Yatagan uses itself",
    unpacking.THROUGH_LINK: "a link is in its way",
    unpacking.THROUGH_FILE: "a file is where it needs a directory",
    unpacking.LEADS_OUT: "a link that leads out of the directory (--links-out makes it all the same)",
    unpacking.SPECIAL: "a device or FIFO",
    unpacking.NO_TARGET: "a link to something that is not in the archive",
    unpacking.TOO_DEEP: "too many directories above it",
    unpacking.DIFFERENT: "its contents are not what the index says",
}
_DIFFERENCES = {
    Difference.CONTENTS: "its contents are not what the index says",
    Difference.FACTS: "its mode, time, size or target is not what the index says",
    Difference.NOT_LISTED: "the index does not name it",
    Difference.MISSING: "the index names it, and it is not there",
}


@click.group("bundle")
def bundle_command() -> None:
    """Directories as open archives: made, listed, unpacked, checked; here and on nodes.

    A bundle is a tar archive, plain, gzip or zstd, that everybody's programs read; its index lies beside it.
    """


# -- make ------------------------------------------------------------------------------------------------------


@bundle_command.command(
    "make",
    epilog="""\b
Examples:
  yatagan bundle make fen                             writes fen.tar.zst and its index
  yatagan bundle make fen --output heron:@scratch/    straight on to a node
  yatagan bundle make logs fen/raw --output july.tar.gz --skip '*.tmp'
Anyone can unpack it:  tar xf fen.tar.zst""",
)
@click.argument("directories", nargs=-1, required=True, metavar="DIRECTORY...", shell_complete=completing.places)
@click.option("--output", metavar="PLACE", help="The bundle, or a directory for it. Default: NAME.tar.zst, here.")
@click.option("--format", "form", type=one_of(Form), help="Default: what the name of the output ends in, or tar.zst.")
@click.option("--level", type=int, metavar="N", help="How hard to compress: 1 to 9 for gzip, 1 to 19 for zstd.")
@click.option(
    "--reproducible",
    is_flag=True,
    help="Leave out owners, so that the same tree gives the same bytes, whoever bundles it.",
)
@click.option("--latest", metavar="SECONDS", type=float, help="Later times become this one (seconds since 1970).")
@choosing
@no_questions
@as_json
def make_command(
    directories: tuple[str, ...],
    output: str | None,
    form: str | None,
    level: int | None,
    reproducible: bool,
    latest: float | None,
    only: tuple[str, ...],
    skip: tuple[str, ...],
    no_questions: bool,
    json_: bool,
) -> None:
    """Bundle every DIRECTORY of this machine into one archive, with an index of its members beside it.

    It has its name only when everything that was chosen is in it. Nothing is ever replaced.
    """
    app = App.start(questions=not no_questions)
    sources = [parse_place(each) for each in directories]
    target, chosen = _target(sources, output, Form(form) if form else None)
    manner = Manner(reproducible, round(latest * 1e9) if latest is not None else None)
    recipe = Recipe(chosen, _level(chosen, level), manner, max(2, os.cpu_count() or 1), secrets.token_hex(4))
    status = run(_make(app, sources, target, recipe, parse_choice(only, skip), json_))
    if status:
        raise click.exceptions.Exit(status)


def _target(sources: list[Place], output: str | None, form: Form | None) -> tuple[Place, Form]:
    """Where the bundle goes, as far as the words tell, and its form. Raises BadPlace, UsageError."""
    for source in sources:
        if source.node:
            raise BadPlace(str(source), "a bundle is made of directories of this machine", "stage it here first")
    target = parse_place(output) if output else Place("", b"")
    typed_directory = output is None or output.endswith(("/", ":")) or target.name == b""
    ending = None if typed_directory else form_of(target.path)
    if ending is not None and form is not None and ending is not form:
        raise click.UsageError(f"{output} does not end in .{form.value}, which --format asks for")
    chosen = ending or form or Form.ZSTD
    if typed_directory:
        target = Place(target.node, posixpath.join(target.path, b""))
    return target, chosen


def _level(form: Form, level: int | None) -> int:
    if form is Form.TAR:
        if level is not None:
            raise click.UsageError("a plain tar has no level")
        return 0
    least, usual, most = LEVELS[form]
    if level is not None and not least <= level <= most:
        raise click.UsageError(f"the level of {form.value} is a number from {least} to {most}")
    return usual if level is None else level


async def _make(app: App, sources: list[Place], target: Place, recipe: Recipe, choice: Choice, json_: bool) -> int:
    here = await app.open(app.source(Place("", b".")))
    contents = Contents()
    names = []
    for source in sources:
        root = await here.resolve(source.path)
        name = source.name or posixpath.basename(root)
        if name in names:
            raise BadPlace(str(source), "two of them have the same name", "bundle them one by one")
        names.append(name)
        tree = await scan(here, root, choice=choice)
        if not tree.entries:
            raise StoreError(Fault.MISSING, root)
        contents.add(name, tree)
    if contents.unread:
        path, fault = next(iter(contents.unread.items()))
        more = f" and {len(contents.unread) - 1} more" if len(contents.unread) > 1 else ""
        raise Refused(
            f"{text.show(path)}{more} cannot be read ({words.fault(fault)}), and a bundle must hold all that was chosen",
            "make it readable, or leave it out with --skip",
        )
    store = await app.open(app.source(target, writing=True))
    try:
        path = await _output_path(app, store, target, names, recipe.form)
        progress = Progress(contents.files, contents.size)
        view = view_for(progress, quiet=json_)
        async with view:
            made = await make(store, path, contents, recipe, lambda files, size: progress.hashed(size, files))
    finally:
        await store.close()
    _put_made_on_record(app, Place(target.node, path), contents, made, recipe)
    _tell_made(Place(target.node, path), contents, made, recipe, json_)
    return words.Exit.GOOD


async def _output_path(app: App, store: Store, target: Place, names: list[bytes], form: Form) -> bytes:
    """The absolute path of the bundle. Raises BadPlace and Refused."""
    ending = b"." + form.value.encode()
    directory = target.path.endswith(b"/") or target.path == b""
    path = await store.resolve(target.path, follow=directory)
    found = await store.look(path)
    if directory or (found is not None and found.kind is Kind.DIRECTORY):
        if len(names) > 1:
            raise BadPlace(
                str(target), "a bundle of several directories needs a name", "--output NAME" + ending.decode()
            )
        path = posixpath.join(await store.resolve(target.path, follow=True), names[0] + ending)
    elif form_of(path) is None:
        path += ending
    if target.node:
        await refuse_read_only(store, app.nodes().get(target.node), path)
    for each in (path, path + SUFFIX):
        if await store.look(each) is not None:
            raise Refused(
                f"{text.place(target.node, each)} exists already, and nothing is ever replaced by a bundle",
                "name another one with --output, or rename or remove it",
            )
    above = posixpath.dirname(path)
    if await store.look(above) is None:
        raise BadPlace(text.place(target.node, above), "there is no such directory", "make it with yatagan mkdir")
    return path


def _put_made_on_record(app: App, where: Place, contents: Contents, made: Made, recipe: Recipe) -> None:
    body = {
        "node": where.node,
        **name_fields(where.path),
        "format": recipe.form.value,
        "files": made.totals.files,
        "bytes": made.totals.size,
        "bundle_bytes": made.totals.stored,
        "bundle_sha256": made.totals.digest,
        "evidence": _made_evidence(where, made),
        "outcome": "good",
    }
    Ledger(app.home.ledger).append(record_name(RecordKind.BUNDLED), RecordKind.BUNDLED, body, sorted(made.listed))


def _made_evidence(where: Place, made: Made) -> str:
    if not where.node:
        return "written and synced"
    return "on-node" if made.proven else "sent"


def _tell_made(where: Place, contents: Contents, made: Made, recipe: Recipe, json_: bool) -> None:
    totals = made.totals
    if json_:
        say_json(
            {
                "node": where.node,
                **name_fields(where.path),
                **name_fields(where.path + SUFFIX, "index"),
                "format": recipe.form.value,
                "level": recipe.level,
                "members": totals.members,
                "files": totals.files,
                "bytes": totals.size,
                "bundle_bytes": totals.stored,
                "bundle_sha256": totals.digest,
                "seconds": round(made.seconds, 3),
                "evidence": _made_evidence(where, made),
                "skipped": contents.skipped,
                "not_bundled": [name_fields(path) for path in contents.special],
            }
        )
        return
    click.echo(click.style(f"Bundled into {text.place(where.node, where.path)}", bold=True))
    others = totals.members - totals.files
    share = f", {totals.stored / totals.size:.0%} of that" if totals.size else ""
    rate = text.pace(totals.files, totals.size, made.seconds)
    special = ", ".join(text.show(path) for path in contents.special[:3])
    name = text.show(posixpath.basename(where.path))
    text.facts(
        [
            ("before", f"{text.count(totals.files, 'file')}, {text.size(totals.size)}{_and_others(others)}"),
            ("after", f"{text.size(totals.stored)}{share}"),
            ("took", f"{text.duration(made.seconds)}{f', {rate}' if rate else ''}"),
            (
                "skipped",
                f"{text.count(contents.skipped, 'entry', 'entries')} left out by patterns" * bool(contents.skipped),
            ),
            ("not in it", f"{special}: neither files, directories nor links" if special else ""),
            ("proof", _proof(where, made)),
            ("index", text.show(posixpath.basename(where.path + SUFFIX))),
            ("unpack", f"yatagan bundle unpack {text.place(where.node, where.path)}, or: {_tar(recipe.form)} {name}"),
        ]
    )


def _and_others(others: int) -> str:
    return f"; {text.count(others, 'directory or link', 'directories and links')}" if others else ""


def _proof(where: Place, made: Made) -> str:
    if not where.node:
        return ""
    if made.proven:
        return f"{where.node} hashed the bundle after it was synced (on-node)"
    return f"none: {where.node} runs no commands; yatagan bundle check reads it back"


def _tar(form: Form) -> str:
    return "tar xf"


# -- list ------------------------------------------------------------------------------------------------------


@bundle_command.command(
    "list",
    epilog="""\b
Examples:
  yatagan bundle list heron:fen.tar.zst --only 'fen/plot-07/*'
  yatagan bundle list july.zip --json""",
)
@click.argument("place", shell_complete=completing.places)
@click.option("--checksums", is_flag=True, help="Print a checksum list of the members instead, for sha256sum -c.")
@choosing
@no_questions
@as_json
def list_command(
    place: str, checksums: bool, only: tuple[str, ...], skip: tuple[str, ...], no_questions: bool, json_: bool
) -> None:
    """Show what is in the archive PLACE, without unpacking it: members, sizes, times, totals.

    From the index where there is one; otherwise no more is read than the archive's form makes necessary.
    """
    app = App.start(questions=not no_questions)
    where = parse_place(place)
    choice = parse_choice(only, skip)
    status = run(_list(app, where, choice, checksums=checksums, json_=json_))
    if status:
        raise click.exceptions.Exit(status)


class _Listing:
    """What was found, and how the reading ended."""

    def __init__(self) -> None:
        self.lines: list[Line] = []
        self.damage = ""

    def read(self, lines: Iterator[Line]) -> None:
        try:
            self.lines.extend(lines)
        except Damaged as damaged:
            self.damage = _damage(damaged.at, damaged.why)


async def _list(app: App, where: Place, choice: Choice, *, checksums: bool, json_: bool) -> int:
    store = await app.open(app.source(where, commands=False))
    listing = _Listing()
    try:
        path = await _archive(store, where)
        async with open_bundle(store, path) as bundle:
            await apart(lambda stop: listing.read(list_members(bundle, choice, _RATIO)))
            fits = bundle.fits
            unfit = bundle.beside is not None and not fits
    finally:
        await store.close()
    if checksums:
        if not fits:
            raise BadPlace(
                str(where), "it has no index that fits it, so there are no digests", "unpack it, or bundle anew"
            )
        from yatagan.digests.lists import format_list

        lines = format_list((line.member.name, line.digest) for line in listing.lines if line.digest)
        click.echo(b"".join(lines), nl=False)
        return words.Exit.GOOD
    if json_:
        say_json(_listing_json(where, path, listing, fits))
    else:
        _show_listing(listing)
        if unfit:
            text.warn("the index beside it was made for another archive, or this one has been cut")
    if listing.damage:
        text.warn(listing.damage)
        return words.Exit.DIFFERENCES
    return words.Exit.GOOD


def _show_listing(listing: _Listing) -> None:
    rows = []
    for line in listing.lines:
        member = line.member
        name = text.show(member.name) + "/" * (member.kind == DIRECTORY)
        if member.target:
            name += " -> " + text.show(member.target)
        bits = _TYPE_BITS.get(member.kind, 0)
        size = text.size(member.size) if member.kind == FILE else "-"
        rows.append((stat.filemode(bits | member.mode), size, text.moment(member.mtime_ns), name))
    if rows:
        text.table(("mode", "size", "changed", "name"), rows, right=(1,))
    files = [line.member for line in listing.lines if line.member.kind == FILE]
    others = len(listing.lines) - len(files)
    size = text.size(sum(member.size for member in files))
    click.echo(click.style(f"{text.count(len(files), 'file')}, {size}{_and_others(others)}", bold=True))


_TYPE_BITS = {FILE: stat.S_IFREG, DIRECTORY: stat.S_IFDIR, "link": stat.S_IFLNK, "fifo": stat.S_IFIFO}


def _listing_json(where: Place, path: bytes, listing: _Listing, fits: bool) -> dict[str, Any]:
    members = []
    for line in listing.lines:
        member = line.member
        members.append(
            {
                **name_fields(member.name),
                "kind": member.kind,
                "size": member.size,
                "mode": f"{member.mode:04o}",
                "mtime_ns": member.mtime_ns,
                **(name_fields(member.target, "target") if member.target else {}),
                **({"sha256": line.digest} if line.digest else {}),
            }
        )
    return {"node": where.node, **name_fields(path), "index": fits, "members": members, "damage": listing.damage}


# -- unpack ----------------------------------------------------------------------------------------------------


@bundle_command.command(
    "unpack",
    epilog="""\b
Examples:
  yatagan bundle unpack fen.tar.zst                           into the current directory
  yatagan bundle unpack heron:fen.tar.zst --only 'fen/plot-07/*' --into back
  yatagan bundle unpack broken.tar.gz --salvage""",
)
@click.argument("place", shell_complete=completing.places)
@click.option("--into", metavar="DIRECTORY", help="Where to; made if it is not there. Default: the current directory.")
@click.option(
    "--replace",
    type=click.Choice([unpacking.NEVER, unpacking.OLDER, unpacking.ALWAYS]),
    default=unpacking.NEVER,
    show_default=True,
    help="Which files that are there already and differ are replaced. The old ones are kept.",
)
@click.option("--salvage", is_flag=True, help="Where the archive is damaged, go on behind the damage.")
@click.option("--links-out", is_flag=True, help="Make links that lead out of the directory, too.")
@click.option("--most", metavar="SIZE", help="Write no more than this in all. Default: what the disk has room for.")
@click.option(
    "--ratio",
    type=click.IntRange(min=1),
    default=_RATIO,
    show_default=True,
    help="Stop when more than so many bytes come out for each one of a compressed archive.",
)
@choosing
@no_questions
@as_json
def unpack_command(
    place: str,
    into: str | None,
    replace: str,
    salvage: bool,
    links_out: bool,
    most: str | None,
    ratio: int,
    only: tuple[str, ...],
    skip: tuple[str, ...],
    no_questions: bool,
    json_: bool,
) -> None:
    """Unpack the archive PLACE, here or on a node, whoever made it: tar of any kind, gzip, bzip2, xz, zstd, zip.

    Every file is held against the index where there is one. No member leads outside the directory; what is there
    already is left alone.
    """
    app = App.start(questions=not no_questions)
    limit = parse_size(most) if most is not None else None
    run_name = secrets.token_hex(4)
    manner = unpacking.Manner(run_name, replace, links_out, limit, sync_disk=True)
    wish = Wish(parse_choice(only, skip), manner, ratio, salvage)
    status = run(_unpack(app, parse_place(place), parse_place(into or "."), wish, json_))
    if status:
        raise click.exceptions.Exit(status)


async def _unpack(app: App, where: Place, into: Place, wish: Wish, json_: bool) -> int:
    if into.node:
        raise BadPlace(str(into), "it is not on this machine", "stage the archive, or what is unpacked")
    here = await app.open(app.source(into, writing=True))
    store = await app.open(app.source(where, commands=False))
    began = time.monotonic()
    try:
        root = await here.resolve(into.path, follow=True)
        if (found := await here.look(root)) is None:
            await here.make_directory(root, 0o777)
        elif found.kind is not Kind.DIRECTORY:
            raise BadPlace(str(into), f"it is a {found.kind.value}, not a directory")
        if wish.manner.most is None:
            room = await here.room(root)
            if room is not None:
                wish = Wish(wish.choice, wish.manner._replace(most=room - room // 50), wish.ratio, wish.salvage)
        path = await _archive(store, where)
        async with open_bundle(store, path) as bundle:
            totals = bundle.totals
            progress = Progress(totals.files if totals else 0, totals.size if totals else 0)
            async with view_for(progress, quiet=json_):
                read = await apart(
                    lambda stop: unpack(bundle, root, wish, lambda files, size: progress.hashed(size, files), stop)
                )
            _put_unpacked_on_record(app, where, path, root, read)
            _tell_unpacked(where, path, root, bundle, read, wish, time.monotonic() - began, json_)
    finally:
        await store.close()
    return words.Exit.GOOD if read.good else words.Exit.DIFFERENCES


def _put_unpacked_on_record(app: App, where: Place, path: bytes, root: bytes, read: Read) -> None:
    if not read.files:
        return
    body = {
        "node": where.node,
        **name_fields(path),
        **name_fields(root, "into"),
        "files": read.files,
        "bytes": read.size,
        "left": read.counts[unpacking.LEFT],
        "evidence": {"held against the index": read.proven, "not listed": max(0, read.files - read.proven)},
        "outcome": "good" if read.good else "not good",
    }
    listed = sorted((name, digest) for name, digest in read.listed if digest)
    Ledger(app.home.ledger).append(record_name(RecordKind.UNPACKED), RecordKind.UNPACKED, body, listed)


def _tell_unpacked(
    where: Place, path: bytes, root: bytes, bundle: Bundle, read: Read, wish: Wish, seconds: float, json_: bool
) -> None:
    counts = read.counts
    if json_:
        say_json(
            {
                "node": where.node,
                **name_fields(path),
                **name_fields(root, "into"),
                "good": read.good,
                "files": read.files,
                "bytes": read.size,
                "held_against_index": read.proven,
                "fetched": bundle.fetched,
                "counts": dict(counts),
                "set_id_bits_left_out": read.bits,
                "damage": [{"at": each.at, "why": each.why} for each in read.damage],
                "members": [
                    {**name_fields(each.member.name), "outcome": each.what, "reason": each.why} for each in read.told
                ],
            }
        )
        return
    click.echo(click.style(f"Unpacked {text.place(where.node, path)} into {text.show(root)}", bold=True))
    rate = text.pace(read.files, read.size, seconds)
    text.facts(
        [
            ("unpacked", f"{text.count(read.files, 'file')}, {text.size(read.size)}{f'; {rate}' if rate else ''}"),
            ("left as is", f"{text.number(counts[unpacking.LEFT])}, there already" if counts[unpacking.LEFT] else ""),
            (
                "replaced",
                f"{text.number(counts[unpacking.REPLACED])}; the old ones are in .yatagan-kept/{wish.manner.run}"
                if counts[unpacking.REPLACED]
                else "",
            ),
            ("proof", _held(read, bundle)),
            ("fetched", f"{text.size(bundle.fetched)} of {text.size(bundle.source.size)}" if where.node else ""),
            ("set-id bits", f"left out of {text.count(read.bits, 'member')}" if read.bits else ""),
        ]
    )
    _tell_members(read)
    _tell_damage(read, wish.salvage)
    if counts[unpacking.IN_THE_WAY]:
        text.warn(
            f"{text.number(counts[unpacking.IN_THE_WAY])} differ from what has the name there, and were not unpacked; "
            "--replace older or always replaces files and keeps the old ones"
        )


def _held(read: Read, bundle: Bundle) -> str:
    if read.strays:
        return "none: the index beside it is of another archive"
    if bundle.beside is None:
        return "none: there is no index, so nothing tells what the contents should be"
    return "every file was held against the digest in the index"


def _tell_members(read: Read) -> None:
    shown = [each for each in read.told if each.what != unpacking.REPLACED]
    for each in shown[:_SHOWN]:
        if each.what == unpacking.IN_THE_WAY:
            why = f"a {each.why} is there already" if each.why != "something new" else "something new has its name"
        else:
            why = _REASONS.get(each.why) or _DIFFERENCES.get(each.what) or each.why  # type: ignore[call-overload]
        text.warn(f"{text.show(each.member.name)}: {each.what}: {text.show(why)}")
    if len(shown) > _SHOWN:
        text.warn(f"and {text.number(len(shown) - _SHOWN)} more: --json shows all")


def _tell_damage(read: Read, salvaged: bool) -> None:
    for each in read.damage[:_SHOWN]:
        text.warn(_damage(each.at, each.why))
    if read.damage:
        good = f"{text.count(read.files, 'file')}, {text.size(read.size)}"
        text.warn(f"good are {good}" + ("" if salvaged else "; --salvage goes on behind the damage"))


def _damage(at: int, why: str) -> str:
    return f"the archive is damaged at byte {text.number(at)} of its contents: {text.show(why)}"


# -- check -----------------------------------------------------------------------------------------------------


@bundle_command.command(
    "check",
    epilog="""\b
Examples:
  yatagan bundle check fen.tar.zst
  yatagan bundle check heron:fen.tar.zst""",
)
@click.argument("place", shell_complete=completing.places)
@click.option("--ratio", type=click.IntRange(min=1), default=_RATIO, show_default=True, help="See bundle unpack.")
@no_questions
@as_json
def check_command(place: str, ratio: int, no_questions: bool, json_: bool) -> None:
    """Read every member of the archive PLACE and hold it against the index: contents, sizes, modes, times.

    Without an index, whether the archive can be read to its end. Exit status 0 when all is well, 1 otherwise.
    """
    app = App.start(questions=not no_questions)
    status = run(_check(app, parse_place(place), ratio, json_))
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
                read = await apart(
                    lambda stop: check(bundle, ratio, lambda files, size: progress.hashed(size, files), stop)
                )
            _tell_checked(where, path, bundle, read, json_)
    finally:
        await store.close()
    return words.Exit.GOOD if read.good else words.Exit.DIFFERENCES


def _tell_checked(where: Place, path: bytes, bundle: Bundle, read: Read, json_: bool) -> None:
    if json_:
        say_json(
            {
                "node": where.node,
                **name_fields(path),
                "good": read.good,
                "index": bundle.beside is not None,
                "members": read.counts["members"],
                "files": read.files,
                "bytes": read.size,
                "held_against_index": read.proven,
                "damage": [{"at": each.at, "why": each.why} for each in read.damage],
                "differences": [{**name_fields(each.member.name), "verdict": each.what} for each in read.told],
            }
        )
        return
    word = click.style("good", fg="green") if read.good else click.style("NOT GOOD", fg="red")
    click.echo(click.style(f"{text.place(where.node, path)}: ", bold=True) + word)
    index = (
        "there is none: whether the contents are what they were, nobody can tell"
        if bundle.beside is None
        else "it is of another archive"
        if read.strays
        else "every file was read and held against its digest, and its facts"
    )
    text.facts([("read", f"{text.count(read.files, 'file')}, {text.size(read.size)}"), ("index", index)])
    _tell_members(read)
    _tell_damage(read, salvaged=True)


# -- what they share -------------------------------------------------------------------------------------------


async def _archive(store: Store, where: Place) -> bytes:
    """The absolute path of an archive. Raises BadPlace."""
    path = await store.resolve(where.path, follow=True)
    found = await store.look(path)
    if found is None:
        raise StoreError(Fault.MISSING, path, store=where.node)
    if found.kind is not Kind.FILE:
        raise BadPlace(str(where), f"it is a {found.kind.value}, not an archive")
    return path
