"""`yatagan bundle make`: directories as open archives."""

from __future__ import annotations

import os
import posixpath
import time

import click

from yatagan.archives.compression import LEVELS, Form, form_of
from yatagan.batches.batch_store import new_name
from yatagan.bundles.by_node import make_there
from yatagan.bundles.make import BundleContents, MadeBundle, Recipe, make
from yatagan.cli import shell_completion
from yatagan.cli.context import App, as_json, no_questions, one_of, run, written
from yatagan.cli.pattern_options import choosing, parse_choice
from yatagan.cli.terminal import text
from yatagan.cli.views import bundle_view
from yatagan.cli.views.progress import Progress
from yatagan.cli.views.progress_view import view_for
from yatagan.cli.views.scan_progress import EntryCount
from yatagan.cli.words import fault_words
from yatagan.cli.words.exit_status import ExitStatus
from yatagan.cli.words.record_words import warn_of
from yatagan.config.units import parse_moment
from yatagan.errors import BadPlace, LineLost, Refused, StoreError
from yatagan.faults import Fault
from yatagan.ledger.ledger import OnRecord
from yatagan.ledger.records import RecordedPlace, RecordKind
from yatagan.operations.put_on_record import Done, put_on_record
from yatagan.places import Place
from yatagan.planning.destination_areas import refuse_read_only
from yatagan.portable.index import SUFFIX
from yatagan.portable.tar_input import HeaderOptions
from yatagan.stores.interface import Kind, Store
from yatagan.trees.patterns import Choice
from yatagan.trees.scan import Tree, scan

#: Endings of archives that cannot be written: a name that has one would say what is not so.
_OTHER_ENDINGS = (
    b".zip",
    b".7z",
    b".rar",
    b".tar.xz",
    b".txz",
    b".tar.bz2",
    b".tbz2",
    b".tbz",
    b".tar.lz4",
    b".gz",
    b".xz",
    b".bz2",
    b".zst",
    b".jar",
    b".iso",
    b".cpio",
)


@click.command(
    "make",
    short_help="Bundle directories into an archive with an index.",
    epilog="""\b
Examples:
  yatagan bundle make fen                            # writes fen.tar.zst
  yatagan bundle make fen --output heron:@scratch/   # straight on to a node
  yatagan bundle make logs fen/raw --output july.tar.gz --skip '*.tmp'
  yatagan bundle make heron:fen                      # by the node, beside fen
Anyone can unpack it:  tar xf fen.tar.zst""",
)
@click.argument("directories", nargs=-1, required=True, metavar="DIRECTORY...", shell_complete=shell_completion.places)
@click.option("--output", metavar="PLACE", help="The bundle, or a directory for it. Default: NAME.tar.zst, here.")
@click.option(
    "--format", "form", type=one_of(Form), help="Format. Default: what the name of the output ends in, or tar.zst."
)
@click.option("--level", type=int, metavar="N", help="How hard to compress: 1 to 9 for gzip, 1 to 19 for zstd.")
@click.option(
    "--reproducible",
    is_flag=True,
    help="Leave out owners, so that the same tree gives the same bytes for every user.",
)
@click.option(
    "--cap-times-at",
    metavar="SECONDS",
    callback=written(parse_moment),
    help="Later times become this one (seconds since 1970).",
)
@choosing
@no_questions
@as_json
def make_command(
    directories: tuple[str, ...],
    output: str | None,
    form: str | None,
    level: int | None,
    reproducible: bool,
    cap_times_at: int | None,
    only: tuple[str, ...],
    skip: tuple[str, ...],
    no_questions: bool,
    json_: bool,
) -> None:
    """Bundle every DIRECTORY into one archive, with an index of its members beside it.

    What is on a node is bundled there, by the node itself. A bundle gets its name only when all of it is written.
    Nothing is ever replaced.
    """
    app = App.start(questions=not no_questions)
    sources = [app.place(each) for each in directories]
    wanted = app.place(output, new=True) if output else Place(sources[0].node, b"")
    target, chosen = _target(sources, wanted, output, Form(form) if form else None)
    manner = HeaderOptions(reproducible, cap_times_at)
    recipe = Recipe(chosen, _level(chosen, level), manner, max(2, os.cpu_count() or 1), new_name())
    status = run(_make(app, sources, target, recipe, parse_choice(only, skip), json_))
    if status:
        raise click.exceptions.Exit(status)


def _target(sources: list[Place], target: Place, output: str | None, form: Form | None) -> tuple[Place, Form]:
    """Where the bundle goes and its format, from what was typed. Raises BadPlace, UsageError."""
    node = sources[0].node
    for source in sources:
        if source.node != node:
            raise BadPlace(str(source), "all that goes into a bundle must be on one machine", "bundle them one by one")
    if node and target.node != node:
        raise BadPlace(
            str(target),
            f"what is on {node} is bundled there",
            f"write --output {node}:…, and bring the bundle here with yatagan stage",
        )
    typed_directory = output is None or output.endswith(("/", ":")) or target.name == b""
    ending = None if typed_directory else form_of(target.path)
    if not typed_directory and ending is None:
        _refuse_other_ending(target.path)
    if ending is not None and form is not None and ending is not form:
        raise click.UsageError(f"{output} does not end in .{form.value}, which --format asks for")
    if typed_directory:
        target = Place(target.node, posixpath.join(target.path, b""))
    return target, ending or form or Form.ZSTD


def _refuse_other_ending(path: bytes) -> None:
    """Raise UsageError for a name that says it is another kind of archive than can be written."""
    for ending in _OTHER_ENDINGS:
        if path.lower().endswith(ending):
            can = ", ".join(form.value for form in Form)
            raise click.UsageError(f"a bundle is one of {can}, and {text.show(path)} ends in {ending.decode()}")


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
    origin = await app.open(app.source(Place(sources[0].node, b".")))
    store = origin
    try:
        trees = await _scan_all(app, origin, sources, choice, quiet=json_)
        contents = BundleContents()
        for name, tree in trees.items():
            contents.add(name, tree, readable_here=not sources[0].node)
        _refuse_unread(contents)
        if target.node != sources[0].node or not target.node:
            store = await app.open(app.source(target, writing=True))
        path = await _output_path(app, store, target, list(trees), recipe.form)
        progress = Progress(contents.files, contents.size)
        async with view_for(progress, quiet=json_):
            if sources[0].node:
                began = time.monotonic()
                totals = await make_there(store, path, trees, recipe)
                made = MadeBundle(totals, time.monotonic() - began, True, [])
            else:
                made = await make(store, path, contents, recipe, lambda files, size: progress.hashed(size, files))
    except StoreError as error:
        if isinstance(error, LineLost) and target.node and not sources[0].node:
            stage = f"{text.command('stage', sources[0])} {target.node}:DIRECTORY --store bundle"
            text.warn(f"the bundle was not stored; to survive a lost connection: {stage}")
        raise
    finally:
        await origin.close()
        if store is not origin:
            await store.close()
    where = Place(target.node, path)
    origins = tuple(RecordedPlace(sources[0].node, tree.root) for tree in trees.values())
    record = _put_made_on_record(app, origins, where, made, recipe)
    bundle_view.tell_made(where, contents, made, recipe, record, json_)
    warn_of(record)
    return ExitStatus.GOOD


async def _scan_all(app: App, store: Store, sources: list[Place], choice: Choice, *, quiet: bool) -> dict[bytes, Tree]:
    """Scan the sources. Returns their trees by the names that they get in the bundle. Raises BadPlace, StoreError."""
    trees: dict[bytes, Tree] = {}
    for source in sources:
        root = await store.resolve(source.path)
        name = source.name or posixpath.basename(root)
        if name in trees:
            raise BadPlace(str(source), "two of them have the same name", "bundle them one by one")
        with EntryCount(app, [source], quiet=quiet) as count:
            trees[name] = await scan(store, root, choice=choice, heard=count.heard)
        if not trees[name].entries:
            raise StoreError(Fault.MISSING, root, store=store.name)
    return trees


def _refuse_unread(contents: BundleContents) -> None:
    if contents.unread:
        path, fault = next(iter(contents.unread.items()))
        more = f" and {len(contents.unread) - 1} more" if len(contents.unread) > 1 else ""
        raise Refused(
            f"{text.show(path)}{more} cannot be read ({fault_words.fault(fault)}); "
            "a bundle must hold all that was chosen",
            "make it readable, or leave it out with --skip",
        )


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
        raise BadPlace(
            text.place(target.node, above),
            "there is no such directory",
            f"make it with: {text.command('mkdir', Place(target.node, above))}",
        )
    return path


def _put_made_on_record(
    app: App, origins: tuple[RecordedPlace, ...], where: Place, made: MadeBundle, recipe: Recipe
) -> OnRecord:
    return put_on_record(
        app,
        Done(
            RecordKind.BUNDLED,
            "good",
            origins=origins,
            target=RecordedPlace(where.node, where.path),
            counts={"files": made.totals.files},
            size=made.totals.size,
            evidence={bundle_view.made_evidence(where, made): made.totals.files},
            details={
                "archive": recipe.form.value,
                "bundle_bytes": made.totals.stored,
                "bundle_sha256": made.totals.digest,
            },
        ),
        lambda: sorted(made.listed),
    )
