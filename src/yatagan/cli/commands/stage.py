"""`yatagan stage`: carry files and directories to a node, or back."""

from __future__ import annotations

from typing import Any

import click

from yatagan.batches.journal_data import Purpose
from yatagan.batches.steps import Modes, Prove, Times
from yatagan.cli import shell_completion
from yatagan.cli.commands.stage_datasets import stage_datasets
from yatagan.cli.commands.staging import How, stage
from yatagan.cli.context import App, as_json, no_questions, one_of, run, written
from yatagan.cli.pattern_options import choosing, parse_choice
from yatagan.cli.terminal import text
from yatagan.cli.views.report import Report, json_lines
from yatagan.config.project import By, StoredAs, Towards
from yatagan.config.units import parse_duration, parse_rate
from yatagan.errors import Refused
from yatagan.operations.stage_request import DatasetStageRequest, IfNewer, Pack, StageRequest
from yatagan.planning.stored_bundles import BUNDLED


@click.command(
    "stage",
    epilog="""\b
Examples:
  yatagan stage fen heron:campaign                   # heron:campaign/fen
  yatagan stage heron:results/july .                 # july arrives here
  yatagan stage fen heron:campaign --plan-only
  yatagan stage fen heron:campaign --background      # leave it running
  yatagan stage 'heron:runs/2026-*/flux.csv' . --skip '*.tmp'
  yatagan stage 'runs/*/flux.csv' heron:in --as '{stem}-{parent}{suffix}'
  yatagan stage fen heron:campaign --by digest       # where contents differ
  yatagan stage heron:campaign/fen bittern:upload    # from node to node
  yatagan stage --dataset chambers                   # of the project
  yatagan stage fen heron:archive --store bundle     # as fen.tar.zst
  yatagan stage heron:archive/fen .                  # and back as fen""",
)
@click.argument("sources", nargs=-1, metavar="SOURCE...", shell_complete=shell_completion.places)
@click.argument("destination", required=False, metavar="DESTINATION", shell_complete=shell_completion.places)
@click.option(
    "--dataset",
    multiple=True,
    metavar="NAME",
    shell_complete=shell_completion.datasets,
    help="Stage a dataset that the project declares, instead of a SOURCE (repeatable): an input goes there, a result "
    "comes here.",
)
@click.option("--all", "every", is_flag=True, help="Stage every dataset of the project.")
@click.option("--towards", type=one_of(Towards), help="Stage datasets towards here, or there, whatever their use.")
@click.option(
    "--as",
    "as_",
    metavar="NAME",
    help="New name of the source; for several sources with fields: {name}, {stem}, {suffix}, {parent} (its "
    "directory), {number} or {number:03}.",
)
@click.option(
    "--modes",
    type=one_of(Modes),
    help="Permission bits: the source's (keep), or those that umask and access lists there give to new files, with "
    "only the execute bit of the source (site). Default: keep; in shared areas site.",
)
@click.option(
    "--times",
    type=one_of(Times),
    default=Times.KEEP.value,
    show_default=True,
    help="Modification times: the source's (keep), or the time of arrival (now), so that old files are not purged.",
)
@choosing
@click.option(
    "--pack",
    type=one_of(Pack),
    default=Pack.AUTO.value,
    show_default=True,
    help="Whether small files travel together, and are unpacked on arrival: where that is faster (auto), always, or "
    "never.",
)
@click.option(
    "--store",
    type=click.Choice([each.value for each in (StoredAs.FILES, *BUNDLED)]),
    help="What a directory becomes: files, one bundle for every SOURCE, or one for every directory right below it "
    "(by-directory). Default: what is there keeps its form, and what is new becomes files.",
)
@click.option(
    "--by",
    type=one_of(By),
    default=By.SIZE_AND_TIME.value,
    show_default=True,
    help="How a file counts as there already: by size and time, or by contents (digest), for which both sides are read "
    "unless a digest is remembered.",
)
@click.option(
    "--if-newer-there",
    type=one_of(IfNewer),
    default=IfNewer.ASK.value,
    show_default=True,
    help="Files that are newer at the destination, or were changed there since the last stage: leave them, replace "
    "them (what was there is kept), or ask; without a terminal they are left.",
)
@click.option(
    "--accept-gone",
    is_flag=True,
    help="Put on record that files of a dataset are gone from here, however many; else you are asked about more than a "
    "few, and without a terminal they stay on record.",
)
@click.option(
    "--unchanged-for",
    callback=written(parse_duration, 0.0),
    metavar="SPAN",
    help="Leave files for another time that have changed within this span, such as 2m, or are being written to.",
)
@click.option(
    "--growing",
    multiple=True,
    metavar="PATTERN",
    help="Files that only grow, such as logs: carried up to their present end; the next run sends only what was added "
    "(repeatable).",
)
@click.option(
    "--no-space-check",
    is_flag=True,
    help="Begin even if free space seems too small: for disks that compress or report it wrongly.",
)
@click.option(
    "--background",
    "in_background",
    is_flag=True,
    help="Leave it to a worker once it is planned: it goes on without this terminal. See yatagan batch watch.",
)
@click.option("--plan-only", is_flag=True, help="Show the plan and stop.")
@click.option(
    "--prove",
    type=one_of(Prove),
    default=Prove.AUTO.value,
    show_default=True,
    help="Proof of contents: by the node (on-node), by reading back, or none; auto is the best that the node allows.",
)
@click.option(
    "--max-rate",
    callback=written(parse_rate, 0),
    metavar="RATE",
    help="Send or fetch no faster than this, such as 20MB/s.",
)
@click.option("--quiet", is_flag=True, help="Show nothing but what goes wrong.")
@no_questions
@as_json
@json_lines
@click.pass_context
def stage_command(
    context: click.Context,
    /,
    in_background: bool,
    plan_only: bool,
    quiet: bool,
    no_questions: bool,
    json_: bool,
    lines: bool,
    **asked: Any,
) -> None:
    """Carry every SOURCE into the directory DESTINATION, under its own name; or datasets of the project.

    The plan is shown, then carried out. What is right already is left as it is; what is replaced is kept; a file gets
    its final name only when all of it is there.
    """
    report = Report.chosen(quiet=quiet, json_=json_, lines=lines)
    app = App.start(questions=not no_questions)
    request = stage_asked(app, context)
    how = How(report, plan_only=plan_only, in_background=in_background)
    status = stage_datasets(app, request, how) if isinstance(request, list) else run(stage(app, request, how))
    if status:
        raise click.exceptions.Exit(status)


def stage_asked(app: App, context: click.Context) -> StageRequest | list[DatasetStageRequest]:
    """What a stage as typed asks for: one of places, or one for each dataset. Raises UsageError and others."""
    asked = context.params
    options: dict[str, Any] = {
        "prove": Prove(asked["prove"]),
        "modes": Modes(asked["modes"]) if asked["modes"] is not None else None,
        "times": Times(asked["times"]),
        "pack": Pack(asked["pack"]),
        "max_rate": asked["max_rate"],
        "by": By(asked["by"]),
        "if_newer": IfNewer(asked["if_newer_there"]),
        "accept_gone": asked["accept_gone"],
        "space_check": not asked["no_space_check"],
        "unchanged_for": asked["unchanged_for"],
        "growing": parse_choice(asked["growing"], ()) if asked["growing"] else None,
    }
    towards = Towards(asked["towards"]) if asked["towards"] else None
    if asked["dataset"] or asked["every"]:
        _refuse_declared(context)
        names = dict.fromkeys(asked["dataset"]) or _all_datasets(app)
        return [DatasetStageRequest(name, towards, **options) for name in names]
    if towards is not None:
        raise click.UsageError("--towards goes with --dataset or --all", context)
    if asked["accept_gone"]:
        raise click.UsageError("--accept-gone goes with --dataset or --all", context)
    if asked["destination"] is None or not asked["sources"]:
        raise _incomplete(asked["destination"], context)
    return StageRequest(
        tuple(map(app.place, asked["sources"])),
        app.place(asked["destination"], new=True),
        renamed=asked["as_"],
        choice=parse_choice(asked["only"], asked["skip"]),
        stored=StoredAs(asked["store"]) if asked["store"] is not None else None,
        purpose=Purpose(ledger=app.ledger_directory()),
        **options,
    )


def _refuse_declared(context: click.Context) -> None:
    """Refuse what the project file says of a dataset."""
    if any(context.params[name] for name in ("destination", "sources", "as_", "only", "skip", "store")):
        why = "the project file says what a dataset is and where: leave out places, --as, --only, --skip and --store"
        raise click.UsageError(why, context)


def _all_datasets(app: App) -> list[str]:
    project = app.project()
    if not project.datasets:
        raise Refused("the project declares no dataset yet", f"declare one in {text.show(str(project.file))}")
    return list(project.datasets)


def _incomplete(only: str | None, context: click.Context) -> click.UsageError:
    """The error where sources or the destination are missing; `only` is all that was named."""
    if only is None:
        return click.UsageError("SOURCE and DESTINATION are missing", context)
    such = ". for the directory that you are in" if ":" in only else "NODE:PATH"
    return click.UsageError(f"the destination is missing: name one after {text.show(only)}, such as {such}", context)
