"""A stage at the command line: planned, shown, asked about, and carried or left to a worker."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from yatagan.background.leaving import Outlook, begun, leave_to_worker, prepare_logins
from yatagan.batches.journal import Journal
from yatagan.cli.answers.batch_answer import ended_json
from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.answers.json_fields import batch_json
from yatagan.cli.answers.plan_answer import plan_json
from yatagan.cli.commands import run_batch
from yatagan.cli.context import App
from yatagan.cli.terminal import terminal, text
from yatagan.cli.views import batch_summary
from yatagan.cli.views.leaving_view import left_status, tell_begun
from yatagan.cli.views.login_questions import confirm
from yatagan.cli.views.plan_view import show_plan
from yatagan.cli.views.report import Report, say_event
from yatagan.cli.views.scan_progress import Shown
from yatagan.cli.words.caution_words import gone_words
from yatagan.cli.words.conclusions import conclude_batch, conclude_plan
from yatagan.cli.words.earlier_words import is_done, would_be_done
from yatagan.cli.words.exit_status import ExitStatus
from yatagan.operations.accepted_batch import AcceptedBatch
from yatagan.operations.stage import PlannedStage, plan_stage
from yatagan.operations.stage_request import IfNewer, StageRequest
from yatagan.planning.picked import Picked


@dataclass(frozen=True, slots=True)
class How:
    """What is done with a plan, and in which form that is said.

    `answer` takes the one JSON object; `ended` looks at a batch that was carried, and says whether all is well with it.
    """

    report: Report
    plan_only: bool
    in_background: bool
    answer: Callable[[dict[str, Any]], None] = say_json
    ended: Callable[[Journal], bool] | None = None


async def stage(app: App, request: StageRequest, how: How, picked: Picked | None = None) -> int:
    """Plan a stage, show the plan and carry it out, or leave it to a worker. Returns the exit status."""
    outlook = None
    if how.in_background and not how.plan_only:
        outlook = await prepare_logins(app, (request.source_node, request.destination.node))
    watcher = Shown(app, quiet=not how.report.in_words)
    async with plan_stage(app, request, watcher, picked=picked, noted=not how.plan_only) as planned:
        if how.report.in_words:
            show_plan(planned)
        if not how.plan_only:
            _ask(planned, how.report)
        described = plan_json(planned) if how.report.for_scripts else {}
        if how.plan_only or not planned.anything:
            return _end_with_plan(planned, described, how)
        accepted = await planned.accept()
    async with accepted:
        if planned.earlier is not None and planned.use is not None and how.report.in_words:
            terminal.say(is_done(planned.earlier, planned.use, accepted.name))
        if outlook is not None:
            return max(await _leave(app, accepted, described, how, outlook), _status_of(planned))
        status = await _carry(app, accepted, described, how)
    if how.report.in_words and (missed := _missed(planned)):
        text.warn(missed)
    return max(status, _status_of(planned))


def _ask(planned: PlannedStage, report: Report) -> None:
    """Ask about what a person is to decide."""
    request = planned.request
    if report.for_scripts or not planned.desk.questions.attended:
        return
    if planned.plan.summary.newer and request.if_newer is IfNewer.ASK:
        newer = text.count(planned.plan.summary.newer, "newer file")
        if confirm(f"Replace {newer} there? What was there is kept"):
            planned.replace_newer()
    on_record = "Put on record that they are gone? They are no longer verified or restored then"
    if planned.gone is not None and not planned.gone_accepted and confirm(on_record):
        planned.accept_gone()


def _missed(planned: PlannedStage) -> str:
    """What is said at the end of what is gone from the source and stays on record; "" for nothing."""
    if planned.gone is None or planned.gone_accepted:
        return ""
    gone = gone_words(planned.gone, planned.request.source_node)
    return f"{gone}; they stay on record. If they are meant to be gone: --accept-gone"


def _status_of(planned: PlannedStage) -> ExitStatus:
    """What a stage ends with that is good otherwise."""
    return ExitStatus.DIFFERENCES if _missed(planned) or planned.unmatched else ExitStatus.GOOD


def _end_with_plan(planned: PlannedStage, described: dict[str, Any], how: How) -> int:
    """Show that a plan is not carried out, and why. Returns the exit status."""
    report, missed = how.report, _missed(planned)
    if how.plan_only and planned.earlier is not None and planned.use is not None and report.in_words:
        terminal.say(would_be_done(planned.earlier, planned.use))
    if not how.plan_only:
        planned.record_gone()
    found = conclude_plan(planned.plan.summary, planned.unmatched)
    if report is Report.JSON_LINES:
        say_event("planned", {"plan": described, "batch": None})
    elif report is Report.JSON:
        how.answer({"plan": described, "batch": None})
    elif report.in_words and missed:
        text.warn(missed)
    elif found.text and report.in_words and not (how.plan_only and found.status is ExitStatus.GOOD):
        terminal.say(found.text)
    return max(found.status, ExitStatus.DIFFERENCES if missed else ExitStatus.GOOD)


async def _carry(app: App, accepted: AcceptedBatch, described: dict[str, Any], how: How) -> int:
    """Carry a batch here and now. Returns the exit status."""
    report = how.report
    if report is Report.JSON_LINES:
        say_event("planned", {"plan": described, "batch": accepted.name})
    outcome, problem = await run_batch.carry(app, accepted, report)
    if report is Report.JSON_LINES:
        say_event("ended", {"batch": ended_json(app, outcome)})
    elif report is Report.JSON:
        how.answer({"plan": described, "batch": ended_json(app, outcome)})
    elif report.in_words or not outcome.good:
        batch_summary.summary(app, accepted.journal, outcome, problem)
    well = how.ended is None or how.ended(accepted.journal)
    return max(conclude_batch(outcome, problem).status, ExitStatus.GOOD if well else ExitStatus.DIFFERENCES)


async def _leave(app: App, accepted: AcceptedBatch, described: dict[str, Any], how: How, outlook: Outlook) -> int:
    """Leave a batch to a worker. Returns the exit status."""
    report = how.report
    leave_to_worker(app, accepted.batch, accepted.journal)
    outcome, now = await begun(app, accepted.batch)
    if report is Report.JSON_LINES:
        say_event("planned", {"plan": described, "batch": accepted.name})
        say_event("left", {"batch": batch_json(outcome, now)})
    elif report is Report.JSON:
        how.answer({"plan": described, "batch": batch_json(outcome, now)})
    elif report.in_words:
        tell_begun(app, outcome, now, outlook)
    return left_status(now, outcome)
