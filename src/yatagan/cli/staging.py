"""A stage from its request to its end: planned, shown, accepted, and carried or left to a worker."""

from __future__ import annotations

import contextlib
import functools
from collections.abc import Callable, Sequence
from contextlib import AsyncExitStack
from dataclasses import dataclass
from typing import Any

from yatagan.batches.batch_store import Batch, Batches
from yatagan.batches.journal import Journal
from yatagan.batches.journal_data import Header
from yatagan.batches.planning_log import PlanningLog
from yatagan.batches.steps import Modes, Prove
from yatagan.cli import batch_summary, fault_words, plan_warnings, run_batch, terminal, text
from yatagan.cli.background import Outlook, begun, leave_to_worker, left_status, prepare_logins, tell_begun
from yatagan.cli.conclusions import conclude_batch, conclude_plan
from yatagan.cli.context import App, say_json
from yatagan.cli.earlier_batch import Earlier, EarlierUse, as_json_earlier, find_earlier, held
from yatagan.cli.exit_status import ExitStatus
from yatagan.cli.expectations import expectation_of
from yatagan.cli.json_fields import batch_json
from yatagan.cli.login_questions import confirm
from yatagan.cli.missed import Missed
from yatagan.cli.plan_view import plan_json, show_plan
from yatagan.cli.report import Report, say_event
from yatagan.cli.scan_progress import EntryCount, comparing_contents
from yatagan.cli.stage_request import IfNewer, Request
from yatagan.config.areas import Area
from yatagan.engine.recording import staged_statement
from yatagan.engine.run_log import RunLog
from yatagan.engine.session import evidence_for
from yatagan.errors import BadPlace
from yatagan.faults import Fault
from yatagan.ledger.ledger import record_id
from yatagan.ledger.records import RecordKind
from yatagan.places import Place
from yatagan.planning.placed_before import placed_before, refused_before
from yatagan.planning.plan import Plan
from yatagan.planning.planner import make_plan, replace_newer
from yatagan.stores.interface import Store
from yatagan.trees.not_kept import find_unkept


@dataclass(frozen=True, slots=True)
class How:
    """What is done with a plan, and in which form that is said.

    `answer` takes the one JSON object; `ended` looks at a batch that was carried, and says whether all is well with it.
    """

    report: Report
    plan_only: bool
    in_background: bool
    routine: str
    answer: Callable[[dict[str, Any]], None] = say_json
    ended: Callable[[Journal], bool] | None = None


async def stage(request: Request, command: tuple[str, ...], how: How) -> int:
    """Plan a stage, show the plan and carry it out, or leave it to a worker. Returns the exit status."""
    app, report, plan_only, outlook = request.app, how.report, how.plan_only, None
    if how.in_background and not plan_only:
        outlook = await prepare_logins(app, (request.source_node, request.destination.node))
    ends = request.ends()
    async with AsyncExitStack() as opened:
        planning = contextlib.ExitStack()
        opened.push(planning)
        if not (plan_only or how.routine):
            planning.enter_context(PlanningLog(app.home.planning).planning(command))
        stores = []
        for end in ends:
            stores.append(await app.open(end))
            opened.push_async_callback(stores[-1].close)
        source, destination = stores
        plan, careful, modes = await _plan(request, source, destination, quiet=not report.in_words)
        missed = Missed(await request.gone(source, plan), request)
        unmatched = request.choice.unmatched(path for arrival in plan.arrivals for path in arrival.tree.entries)
        careful += [*plan_warnings.look_at_patterns(unmatched), *plan_warnings.look_at_shells(stores)]
        header = _header(request, command, plan, modes, source, destination)
        earlier = find_earlier(app, header)
        if earlier is not None and how.routine:
            earlier.refuse_if_stopped()
        plan.safe = earlier.outcome.safe if earlier is not None else 0
        if report.in_words:
            begun_words = earlier.words if earlier is not None else ""
            show_plan(request, plan, source, destination, [*missed.cautions, *careful], modes, begun_words)
        if not plan_only and not report.for_scripts and plan.summary.newer and request.asks_about_newer:
            _ask_about_newer(plan, source, destination)
        if not plan_only and not report.for_scripts:
            missed.ask()
        use = earlier.use(header, plan) if earlier is not None else None
        described = (
            plan_json(plan, careful, as_json_earlier(earlier, use), header.promised, missed.as_json())
            if report.for_scripts
            else {}
        )
        if plan_only or not (plan.summary.anything or earlier is not None):
            if plan_only and earlier is not None and use is not None and report.in_words:
                terminal.say(earlier.would(use))
            if not plan_only:
                _record_gone(request, missed, header)
            return max(_tell_no_batch(plan, described, how, missed, unmatched), missed.status)
        batch = await _accept(request, plan, header, destination, earlier, use, missed.labels)
        planning.close()
        if earlier is not None and use is not None and report.in_words:
            terminal.say(earlier.did(use, batch.name))
        if outlook is not None:
            status = max(await _leave(app, batch, described, how, outlook), missed.status)
            return max(status, ExitStatus.DIFFERENCES) if unmatched else status
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
            how.answer({"plan": described, "batch": run_batch.ended_json(app, outcome)})
        elif report.in_words or not outcome.good:
            batch_summary.summary(app, journal, outcome, problem)
        status = conclude_batch(outcome, problem).status
        well = how.ended is None or how.ended(journal)
        if report.in_words and missed.verdict:
            text.warn(missed.verdict)
        return max(status, missed.status, ExitStatus.GOOD if well and not unmatched else ExitStatus.DIFFERENCES)
    finally:
        journal.close()
        batch.unlock()


async def _leave(app: App, batch: Batch, described: dict[str, Any], how: How, outlook: Outlook) -> int:
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
        how.answer({"plan": described, "batch": batch_json(outcome, now)})
    elif report.in_words:
        tell_begun(app, outcome, now, outlook)
    return left_status(now, outcome)


def _record_gone(request: Request, missed: Missed, header: Header) -> None:
    """Put on record that something is no longer at the source, where nothing else is to be done."""
    if gone := missed.labels:
        statement = staged_statement(record_id(RecordKind.STAGED), "good", header, {"files": 0, "failed": 0})
        request.app.ledger_in(header.purpose.ledger).append(
            statement, tuple, lambda: [(each, None, None) for each in gone]
        )


async def _accept(
    request: Request,
    plan: Plan,
    header: Header,
    destination: Store,
    earlier: Earlier | None,
    use: EarlierUse | None,
    gone: tuple[bytes, ...],
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
    if gone:
        with contextlib.closing(batch.journal()) as journal:
            journal.note_gone(gone)
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
                    picked=request.picked,
                    placed=functools.partial(placed_before, Batches(request.app.home.batches), place.node),
                    modes=request.modes(area),
                    refused=functools.partial(refused_before, Batches(request.app.home.batches), place.node),
                )
    if request.if_newer is IfNewer.REPLACE:
        replace_newer(plan, seen, destination)
    if plan.summary.anything:
        plan.unkept = await find_unkept(source, plan.carried())
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


def _tell_no_batch(
    plan: Plan, described: dict[str, Any], how: How, missed: Missed, unmatched: Sequence[bytes]
) -> ExitStatus:
    """Show that a plan is not carried out, and why."""
    found, report = conclude_plan(plan.summary, unmatched), how.report
    if report is Report.JSON_LINES:
        say_event("planned", {"plan": described, "batch": None})
    elif report is Report.JSON:
        how.answer({"plan": described, "batch": None})
    elif report.in_words and missed.verdict:
        text.warn(missed.verdict)
    elif found.text and report.in_words and not (how.plan_only and found.status is ExitStatus.GOOD):
        terminal.say(found.text)
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
        purpose=request.purpose,
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
