"""`yatagan bundle make`: directories as open archives."""

from __future__ import annotations

import posixpath

import click

from yatagan.archives.compression import Form
from yatagan.cli import shell_completion
from yatagan.cli.context import App, as_json, no_questions, one_of, run, written
from yatagan.cli.pattern_options import choosing, parse_choice
from yatagan.cli.terminal import text
from yatagan.cli.views import bundle_view
from yatagan.cli.views.scan_progress import Shown
from yatagan.cli.words.record_words import warn_of
from yatagan.config.units import parse_moment
from yatagan.errors import LineLost
from yatagan.operations.bundle_make import BundleRequest, NewBundle, make_bundle
from yatagan.places import Place
from yatagan.portable.tar_input import HeaderOptions


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
    request = BundleRequest(
        tuple(app.place(each) for each in directories),
        _output(app, output),
        Form(form) if form else None,
        level,
        parse_choice(only, skip),
        HeaderOptions(reproducible, cap_times_at),
    )
    made = run(_make(app, request, quiet=json_))
    bundle_view.tell_made(made, json_)
    warn_of(made.record)


def _output(app: App, typed: str | None) -> Place | None:
    """Where the bundle is to go; with a slash at its end, the directory for it."""
    if typed is None:
        return None
    place = app.place(typed, new=True)
    return Place(place.node, posixpath.join(place.path, b"")) if typed.endswith(("/", ":")) else place


async def _make(app: App, request: BundleRequest, *, quiet: bool) -> NewBundle:
    try:
        return await make_bundle(app, request, Shown(app, quiet=quiet))
    except LineLost:
        source, output = request.sources[0], request.output
        if output is not None and output.node and not source.node:
            stage = f"{text.command('stage', source)} {output.node}:DIRECTORY --store bundle"
            text.warn(f"the bundle was not stored; to survive a lost connection: {stage}")
        raise
