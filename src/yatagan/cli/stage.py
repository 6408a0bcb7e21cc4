"""`yatagan stage`: carry files and directories to a node, or back."""

from __future__ import annotations

import contextlib
import functools
from contextlib import AsyncExitStack
from dataclasses import dataclass
from typing import Any

import click

from yatagan.batches.batch_store import Batch, Batches
from yatagan.batches.journal_data import Header
from yatagan.batches.steps import Modes, Prove, Times
from yatagan.cli import batch_summary, fault_words, plan_warnings, run_batch, shell_completion, text
from yatagan.cli.background import Outlook, begun, leave_to_worker, left_status, prepare_logins, tell_begun
from yatagan.cli.conclusions import conclude_batch, conclude_plan
from yatagan.cli.context import App, as_json, no_questions, one_of, run, say_json, written
from yatagan.cli.earlier_batch import Earlier, EarlierUse, as_json_earlier, find_earlier, held
from yatagan.cli.exit_status import ExitStatus
from yatagan.cli.expectations import expectation_of
from yatagan.cli.json_fields import batch_json
from yatagan.cli.ledger_record import typed_command
from yatagan.cli.login_questions import confirm
from yatagan.cli.pattern_options import choosing, parse_choice
from yatagan.cli.plan_view import plan_json, show_plan
from yatagan.cli.report import Report, json_lines, say_event
from yatagan.cli.scan_progress import EntryCount, comparing_contents
from yatagan.cli.stage_request import By, IfNewer, Pack, Request, Storing
from yatagan.config.areas import Area
from yatagan.config.units import parse_duration, parse_rate
from yatagan.engine.run_log import RunLog
from yatagan.engine.session import evidence_for
from yatagan.errors import BadPlace
from yatagan.faults import Fault
from yatagan.places import Place
from yatagan.planning.placed_before import placed_before
from yatagan.planning.plan import Plan
from yatagan.planning.planner import make_plan, replace_newer
from yatagan.stores.interface import Store
from yatagan.trees.not_kept import find_unkept


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
  yatagan stage fen heron:archive --store bundle     # as fen.tar.zst
  yatagan stage heron:archive/fen .                  # and back as fen""",
)
@click.argument("sources", nargs=-1, metavar="SOURCE...", shell_complete=shell_completion.places)
@click.argument("destination", required=False, metavar="DESTINATION", shell_complete=shell_completion.places)
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
    type=one_of(Storing),
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
@click.option("--routine", default="", hidden=True)  # what a worker says when it runs a routine
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
def stage_command(
    sources: tuple[str, ...],
    destination: str | None,
    as_: str | None,
    modes: str | None,
    times: str,
    only: tuple[str, ...],
    skip: tuple[str, ...],
    pack: str,
    store: str | None,
    by: str,
    if_newer_there: str,
    unchanged_for: float,
    growing: tuple[str, ...],
    no_space_check: bool,
    in_background: bool,
    routine: str,
    plan_only: bool,
    prove: str,
    max_rate: int,
    quiet: bool,
    no_questions: bool,
    json_: bool,
    lines: bool,
) -> None:
    """Carry every SOURCE into the directory DESTINATION, under its own name.

    The plan is shown, then carried out. What is right already is left as it is; what is replaced is kept; a file gets
    its final name only when all of it is there.
    """
    report = Report.chosen(quiet=quiet, json_=json_, lines=lines)
    app = App.start(questions=not no_questions)
    if destination is None or not sources:
        raise _incomplete(destination)
    places = [app.place(source) for source in sources]
    request = Request(
        app,
        places,
        app.place(destination, new=True),
        as_,
        Prove(prove),
        parse_choice(only, skip),
        Modes(modes) if modes is not None else None,
        Times(times),
        Pack(pack),
        Storing(store) if store is not None else None,
        max_rate,
        By(by),
        IfNewer(if_newer_there),
        space_check=not no_space_check,
        unchanged_for=unchanged_for,
        growing=parse_choice(growing, ()) if growing else None,
    )
    how = _How(report, plan_only=plan_only, in_background=in_background, routine=routine)
    status = run(_stage(request, typed_command(), how))
    if status:
        raise click.exceptions.Exit(status)


def _incomplete(only: str | None) -> click.UsageError:
    """The error where sources or the destination are missing; `only` is all that was named."""
    context = click.get_current_context()
    if only is None:
        return click.UsageError("SOURCE and DESTINATION are missing", context)
    such = ". for the directory that you are in" if ":" in only else "NODE:PATH"
    return click.UsageError(f"the destination is missing: name one after {text.show(only)}, such as {such}", context)


@dataclass(frozen=True, slots=True)
class _How:
    """What is done with a plan, and in which form that is said."""

    report: Report
    plan_only: bool
    in_background: bool
    routine: str


async def _stage(request: Request, command: tuple[str, ...], how: _How) -> int:
    app, report, plan_only, outlook = request.app, how.report, how.plan_only, None
    if how.in_background and not plan_only:
        outlook = await prepare_logins(app, (request.source_node, request.destination.node))
    ends = request.ends()
    async with AsyncExitStack() as opened:
        stores = []
        for end in ends:
            stores.append(await app.open(end))
            opened.push_async_callback(stores[-1].close)
        source, destination = stores
        plan, careful, modes = await _plan(request, source, destination, quiet=not report.in_words)
        header = _header(request, command, plan, modes, source, destination)
        earlier = find_earlier(app, header)
        plan.safe = earlier.outcome.safe if earlier is not None else 0
        if report.in_words:
            show_plan(request, plan, source, destination, careful, modes, earlier.words if earlier is not None else "")
        if not plan_only and not report.for_scripts and plan.summary.newer and request.asks_about_newer:
            _ask_about_newer(plan, source, destination)
        use = earlier.use(header, plan) if earlier is not None else None
        described = (
            plan_json(plan, careful, as_json_earlier(earlier, use), header.promised) if report.for_scripts else {}
        )
        if plan_only or not (plan.summary.anything or earlier is not None):
            if plan_only and earlier is not None and use is not None and report.in_words:
                click.echo(earlier.would(use))
            return _tell_no_batch(plan, described, report, plan_only=plan_only)
        batch = await _accept(request, plan, header, destination, earlier, use)
        if earlier is not None and use is not None and report.in_words:
            click.echo(earlier.did(use, batch.name))
        if outlook is not None:
            return await _leave(app, batch, described, how, outlook)
        opened.pop_all()  # the run of the batch takes them over
    journal = batch.journal()
    try:
        plan.arrivals.clear()  # a large plan is in the journal now, and need not be held here too
        again = await held(app, journal, (source, destination), ends)
        if report is Report.JSON_LINES:
            say_event("planned", {"plan": described, "batch": batch.name})
        outcome, problem = await run_batch.carry(app, batch, journal, again, report)
        if report is Report.JSON_LINES:
            say_event("ended", {"batch": run_batch.ended_json(app, outcome)})
        elif report is Report.JSON:
            say_json({"plan": described, "batch": run_batch.ended_json(app, outcome)})
        elif report.in_words or not outcome.good:
            batch_summary.summary(app, journal, outcome, problem)
        return conclude_batch(outcome, problem).status
    finally:
        journal.close()
        batch.unlock()


async def _leave(app: App, batch: Batch, described: dict[str, Any], how: _How, outlook: Outlook) -> int:
    """Leave a batch to a worker. Returns the exit status."""
    report = how.report
    try:
        with contextlib.closing(batch.journal()) as journal:
            leave_to_worker(app, batch, journal, how.routine)
    finally:
        batch.unlock()
    outcome, now = await begun(app, batch, wait=not how.routine)
    if report is Report.JSON_LINES:
        say_event("planned", {"plan": described, "batch": batch.name})
        say_event("left", {"batch": batch_json(outcome, now)})
    elif report is Report.JSON:
        say_json({"plan": described, "batch": batch_json(outcome, now)})
    elif report.in_words:
        tell_begun(app, outcome, now, outlook)
    return left_status(now, outcome)


async def _accept(
    request: Request, plan: Plan, header: Header, destination: Store, earlier: Earlier | None, use: EarlierUse | None
) -> Batch:
    """The batch to carry, locked by us. Raises BatchInUse, Refused, JournalError."""
    app = request.app
    if earlier is not None and use is EarlierUse.RUNNING:
        raise earlier.in_use()
    if request.space_check:
        plan_warnings.refuse_without_space(plan, request.destination.node, app.settings().disk.reserve)
    if earlier is None or use is None:
        batch = Batches(app.home.batches).accept(header, plan.steps())
    else:
        app.queue().remove(earlier.batch.name)  # what becomes of it is decided here
        batch = await earlier.become(use, header, plan, destination)
    RunLog(batch).write("accepted", files=plan.summary.files, size_bytes=plan.summary.size)
    return batch


async def _plan(
    request: Request, source: Store, destination: Store, *, quiet: bool
) -> tuple[Plan, list[plan_warnings.Caution], Modes]:
    """The plan, its warnings, and whose modes arrive. Raises Refused and BadPlace."""
    _check_proof(request, source, destination)
    area, careful = await _area(request, destination)
    place = request.destination
    async with request.seen(source) as seen:
        await request.expand(seen)
        costs = await request.costs(source, destination)
        places = [*(Place(request.source_node, path) for path, _ in request.sources), place]
        with EntryCount(request.app, places, quiet=quiet) as count:
            async with comparing_contents(request.app, wanted=request.by_digest, quiet=quiet) as looking:
                plan = await make_plan(
                    seen,
                    destination,
                    request.sources,
                    place.path,
                    choice=request.choice,
                    times=request.times,
                    together=request.together(source, destination, costs),
                    stored=request.stored,
                    heard=count.heard,
                    looking=looking,
                    unchanged_for=request.unchanged_for,
                    growing=request.growing,
                    placed=functools.partial(placed_before, Batches(request.app.home.batches), place.node),
                )
    if plan.summary.anything:
        plan.unkept = await find_unkept(source, plan.carried())
    if request.if_newer is IfNewer.REPLACE:
        replace_newer(plan, seen, destination)
    if request.prove is Prove.ON_NODE and destination.machine is not None and not plan.same_disk:
        raise BadPlace(
            f"{destination.name}:",
            fault_words.fault(Fault.OTHER_DISK),
            "use --prove read-back, or none to do without proof",
        )
    if place.node:
        await plan_warnings.refuse_plan(destination, request.app.nodes().get(place.node), plan)
    ages = plan_warnings.look_at_ages(plan, area, request.times)
    spool = plan_warnings.look_at_spool(plan, request.app.home.batches)
    line = plan_warnings.look_at_line(plan, (source, destination))
    if plan.summary.files:
        plan.expectation = expectation_of(request, plan, (source, destination), costs)
    if request.renames_nothing:
        careful += plan_warnings.look_at_name(plan, Place(request.source_node, request.sources[0][0]), place)
    return plan, [*ages, *careful, *spool, *_role(request, plan), *line], request.modes(area)


def _ask_about_newer(plan: Plan, source: Store, destination: Store) -> None:
    """Ask whether newer files are to be replaced."""
    question = f"Replace {text.count(plan.summary.newer, 'newer file')} there? What was there is kept"
    if confirm(question):
        replace_newer(plan, source, destination)


def _tell_no_batch(plan: Plan, described: dict[str, Any], report: Report, *, plan_only: bool) -> ExitStatus:
    """Show that a plan is not carried out, and why."""
    found = conclude_plan(plan.summary)
    if report is Report.JSON_LINES:
        say_event("planned", {"plan": described, "batch": None})
    elif report is Report.JSON:
        say_json({"plan": described, "batch": None})
    elif found.text and report.in_words and not (plan_only and found.status is ExitStatus.GOOD):
        click.echo(found.text)
    return found.status


def _header(
    request: Request, command: tuple[str, ...], plan: Plan, modes: Modes, source: Store, destination: Store
) -> Header:
    """The header of the batch, without its name."""
    return Header(
        id="",
        created_ns=0,
        command=command,
        source_node=request.source_node,
        destination_node=request.destination.node,
        destination=plan.destination,
        prove=request.prove,
        modes=modes,
        times=request.times,
        arrivals=tuple((arrival.tree.root, arrival.name) for arrival in plan.arrivals),
        options=request.options,
        max_rate=request.max_rate,
        top_inode=plan.top_inode,
        promised=evidence_for(request.prove, source, destination, plan.same_disk),
        expected_seconds=plan.expectation.seconds if plan.expectation is not None else 0.0,
        # Where only parts are sent, how long it takes says little of the connection.
        modelled_seconds=plan.expectation.modelled if plan.expectation and not _in_part(plan) else 0.0,
    )


def _in_part(plan: Plan) -> bool:
    """Whether of some files only a part is sent."""
    return bool(plan.summary.in_part or plan.summary.growing_there)


async def _area(request: Request, destination: Store) -> tuple[Area | None, list[plan_warnings.Caution]]:
    if not request.destination.node:
        return None, []
    node = request.app.nodes().get(request.destination.node)
    return await plan_warnings.look_at_area(destination, node, request.destination)


def _role(request: Request, plan: Plan) -> list[plan_warnings.Caution]:
    """Warnings about the nodes at both ends."""
    nodes, settings = request.app.nodes(), request.app.settings().login_node
    names = dict.fromkeys(name for name in (request.source_node, request.destination.node) if name)
    return [
        caution
        for name in names
        for caution in plan_warnings.look_at_role(plan, nodes.get(name), list(nodes), settings)
    ]


def _check_proof(request: Request, source: Store, destination: Store) -> None:
    """Raise an error before anything moves if the requested proof is impossible."""
    remote = destination if not destination.traits.here else source
    if request.prove is Prove.ON_NODE and remote.machine is None:
        raise BadPlace(
            f"{remote.name}:", "it does not run commands, so it cannot hash files", "use --prove read-back or auto"
        )
