"""`yatagan batch resume`: going on with one batch, or with all, here or in the background."""

from __future__ import annotations

from dataclasses import dataclass, replace

import click

from yatagan.background.leaving import begun, leave_to_worker, prepare_logins
from yatagan.batches.batch_store import Batch, Batches
from yatagan.batches.counts import BatchCounts
from yatagan.batches.planning_log import PlanningLog
from yatagan.batches.steps import Prove
from yatagan.cli import shell_completion
from yatagan.cli.answers.batch_answer import ended_json
from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.answers.json_fields import batch_json
from yatagan.cli.commands import run_batch
from yatagan.cli.context import App, as_json, no_questions, one_of, run
from yatagan.cli.terminal import terminal, text
from yatagan.cli.views import batch_summary
from yatagan.cli.views.leaving_view import left_status, tell_begun
from yatagan.cli.views.login_questions import confirm
from yatagan.cli.views.report import Report, json_lines, say_event
from yatagan.cli.words import messages
from yatagan.cli.words.conclusions import conclude_batch
from yatagan.cli.words.exit_status import ExitStatus
from yatagan.errors import BatchInUse, YataganError
from yatagan.operations.accepted_batch import AcceptedBatch
from yatagan.operations.resume import ResumeRequest, find_newest_failed, find_unfinished, resume


@dataclass(frozen=True, slots=True)
class _GoingOn:
    """How batches are to go on."""

    request: ResumeRequest
    in_background: bool
    report: Report


#: Other batches that are named before the rest is only counted.
_NAMED = 5


@click.command(
    "resume",
    epilog="""\b
Examples:
  yatagan batch resume k7qd
  yatagan batch resume k7qd --background
  yatagan batch resume --all --failed""",
)
@click.argument("id", required=False, shell_complete=shell_completion.batches)
@click.option("--all", "all_", is_flag=True, help="Every batch that is not finished, the oldest first.")
@click.option("--failed", is_flag=True, help="Also one that is finished, of which steps have failed.")
@click.option("--background", "in_background", is_flag=True, help="Leave it to a worker, and come back at once.")
@click.option("--take-over", is_flag=True, help="Also one that another host began, if that host is gone for good.")
@click.option(
    "--make-again",
    is_flag=True,
    help="If the destination or a directory in it is gone: make it again, and carry again what was in it.",
)
@click.option("--prove", type=one_of(Prove), help="From now on prove contents in another way than the plan said.")
@click.option("--quiet", is_flag=True, help="Show nothing but what goes wrong.")
@no_questions
@as_json
@json_lines
def resume_command(
    id: str | None,
    all_: bool,
    failed: bool,
    in_background: bool,
    take_over: bool,
    make_again: bool,
    prove: str | None,
    quiet: bool,
    no_questions: bool,
    json_: bool,
    lines: bool,
) -> None:
    """Go on with a batch, without ID the newest that is not finished. Failed steps are tried again.

    One that waits in the queue goes on here and now, and leaves the queue.
    """
    if all_ and id is not None:
        raise click.UsageError("name a batch, or say --all", click.get_current_context())
    app = App.start(questions=not no_questions)
    report = Report.chosen(quiet=quiet, json_=json_, lines=lines)
    proof = Prove(prove) if prove is not None else None
    wish = _GoingOn(ResumeRequest("", make_again, proof, take_over), in_background, report)
    if all_:
        status = _resume_all(app, find_unfinished(app, failed=failed), wish)
    else:
        status = run(_resume(app, _chosen(app, id, failed=failed, say=report.in_words), wish))
    if status:
        raise click.exceptions.Exit(status)


def _chosen(app: App, id: str | None, *, failed: bool, say: bool) -> Batch:
    """The batch that is meant: without ID the newest that is not finished; others are named. Raises NoSuchBatch."""
    batches = Batches(app.home.batches)
    if id is not None:
        return batches.find(id)
    if failed:
        return find_newest_failed(app)
    for each in PlanningLog(app.home.planning).broken_off() if say else ():
        when = text.moment(int(each.began * 1e9))
        text.warn(f"the stage of {when} ended before its plan was accepted; once more: {text.typed(each.command)}")
    *others, newest = find_unfinished(app) or [batches.find(None)]
    if others and say:
        names = ", ".join(batch.name for batch in others[::-1][:_NAMED])
        more = f" and {text.number(len(others) - _NAMED)} more" if len(others) > _NAMED else ""
        terminal.say(f"Not finished either: {names}{more}. All of them: yatagan batch resume --all")
    return newest


def _resume_all(app: App, found: list[Batch], wish: _GoingOn) -> int:
    """Go on with one after the other. Returns the first exit status that is not good."""
    statuses: list[int] = []
    if not found and wish.report.in_words:
        terminal.say("No batch is left to go on with.")
    for batch in found:
        try:
            statuses.append(run(_resume(app, batch, wish)))
        except YataganError as error:  # it must not keep the others
            known = messages.explain(error)
            statuses.append(known.status)
            text.warn(f"batch {batch.name}: {known}")
        if statuses[-1] == ExitStatus.INTERRUPTED and not wish.in_background:
            break  # the person has stopped it, or the disk is full
    return next((status for status in statuses if status), ExitStatus.GOOD)


async def _resume(app: App, batch: Batch, wish: _GoingOn) -> int:
    request = replace(wish.request, batch=batch.name, take_over=False)
    try:
        accepted = await resume(app, request)
    except BatchInUse as error:
        if not (error.elsewhere and wish.request.take_over and _is_gone(app, error)):
            raise
        accepted = await resume(app, replace(request, take_over=True))
    async with accepted:
        outcome = accepted.outcome
        if outcome.good and not request.make_again:
            return _is_finished(app, outcome, wish.report)
        if wish.in_background:
            return await _leave(app, accepted, wish.report)
        return await _carry(app, accepted, wish.report)


def _is_gone(app: App, error: BatchInUse) -> bool:
    """Whether the host that began a batch is gone for good, as far as a person here knows."""
    return not app.questions.attended or confirm(f"{error.holder} has it. Is that gone for certain?")


def _is_finished(app: App, outcome: BatchCounts, report: Report) -> int:
    if report.for_scripts:
        _say_ended(app, outcome, report)
    elif report.in_words:
        terminal.say(f"Batch {outcome.header.id} is finished already.")
    return ExitStatus.GOOD


async def _carry(app: App, accepted: AcceptedBatch, report: Report) -> int:
    """Go on here and now."""
    if report.in_words:
        terminal.say(terminal.style(f"Going on with batch {accepted.name}", bold=True))
    outcome, problem = await run_batch.carry(app, accepted, report)
    if report.for_scripts:
        _say_ended(app, outcome, report)
    elif report.in_words or not outcome.good:
        batch_summary.summary(app, accepted.journal, outcome, problem)
    return conclude_batch(outcome, problem).status


async def _leave(app: App, accepted: AcceptedBatch, report: Report) -> int:
    """Leave it to a worker."""
    header = accepted.outcome.header
    outlook = await prepare_logins(app, (header.source_node, header.destination_node))
    leave_to_worker(app, accepted.batch, accepted.journal)
    outcome, now = await begun(app, accepted.batch)
    if report is Report.JSON_LINES:
        say_event("left", {"batch": batch_json(outcome, now)})
    elif report is Report.JSON:
        say_json(batch_json(outcome, now))
    elif report.in_words:
        tell_begun(app, outcome, now, outlook)
    return left_status(now, outcome)


def _say_ended(app: App, outcome: BatchCounts, report: Report) -> None:
    """The batch at the end, as JSON."""
    answer = ended_json(app, outcome)
    if report is Report.JSON_LINES:
        say_event("ended", {"batch": answer})
    else:
        say_json(answer)
