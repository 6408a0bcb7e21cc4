"""`yatagan restore`: what is missing or damaged here comes back from a copy that is as the ledger says that it was."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import click

from yatagan.batches.journal import Journal
from yatagan.cli import shell_completion
from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.answers.restore_answer import losses_json
from yatagan.cli.commands.staging import How, stage
from yatagan.cli.context import App, as_json, checked, no_questions, run
from yatagan.cli.pattern_options import choosing, parse_choice
from yatagan.cli.terminal import text
from yatagan.cli.views.login_questions import confirm
from yatagan.cli.views.report import Report
from yatagan.cli.views.restore_view import show_findings
from yatagan.cli.views.scan_progress import Shown
from yatagan.cli.words.exit_status import ExitStatus
from yatagan.cli.words.messages import explain
from yatagan.operations.restore import FoundLosses, RestoreRequest, Return, WantedTree, find_lost, wanted_trees


@click.command(
    "restore",
    epilog="""\b
Examples:
  yatagan restore --dataset chambers --plan-only   # what is lost
  yatagan restore --dataset chambers
  yatagan restore fen/chambers/chamber-03
  yatagan restore --batch k7qd --into recovered
  yatagan restore fen --only '*.csv'""",
)
@click.argument("place", required=False, shell_complete=shell_completion.places)
@click.option(
    "--dataset",
    metavar="NAME",
    shell_complete=shell_completion.datasets,
    help="Restore a dataset of the project, instead of a PLACE.",
)
@click.option(
    "--batch",
    metavar="ID",
    shell_complete=shell_completion.batches,
    help="Restore what this batch has carried from here, or to here.",
)
@click.option("--into", metavar="DIRECTORY", help="Put it there, under its own name, instead of where it was.")
@choosing
@click.option("--plan-only", is_flag=True, help="Say what is lost and from where it would come back, and stop.")
@no_questions
@as_json
def restore_command(
    place: str | None,
    dataset: str | None,
    batch: str | None,
    into: str | None,
    only: tuple[str, ...],
    skip: tuple[str, ...],
    plan_only: bool,
    no_questions: bool,
    json_: bool,
) -> None:
    """Bring back what is missing or damaged in PLACE, here, from where the ledger says that it was carried.

    Every copy is read before it is taken, and counts only with the digest on record; the nearest is taken. What was
    changed here since is left as it is. Exit status 1 if something that is lost has no such copy.
    """
    if [place, dataset, batch].count(None) != 2:
        raise click.UsageError("name a PLACE, or --dataset NAME, or --batch ID", click.get_current_context())
    app = App.start(questions=not no_questions)
    request = checked(
        lambda: RestoreRequest(
            app.place(place, new=True) if place is not None else None,
            dataset or "",
            batch or "",
            app.place(into, new=True) if into is not None else None,
            parse_choice(only, skip),
        )
    )
    status, answers = 0, list[dict[str, Any]]()
    for wanted in wanted_trees(app, request):
        tree_status, answer = run(_restore(app, wanted, plan_only=plan_only, quiet=json_))
        status = max(status, tree_status)
        answers.append(answer)
        if status == ExitStatus.INTERRUPTED:
            break
    if json_:
        say_json({"restored": answers})
    if status:
        raise click.exceptions.Exit(status)


async def _restore(app: App, wanted: WantedTree, *, plan_only: bool, quiet: bool) -> tuple[int, dict[str, Any]]:
    """Look, show, and bring back. Returns the exit status, and the answer for scripts."""
    found = await find_lost(app, wanted, Shown(app, quiet=quiet))
    trouble = {node: explain(error).message for node, error in found.not_asked.items()}
    answer = losses_json(wanted.name, wanted.target, found.losses, found.copies, trouble)
    if not quiet:
        show_findings(wanted.name, wanted.target, wanted.history, found.losses, found.copies, trouble)
    if found.offered and app.questions.attended and not plan_only and confirm(_older(found)):
        found.take_older()
    status = int(ExitStatus.GOOD if found.whole else ExitStatus.DIFFERENCES)
    answer["batches"] = batches = list[dict[str, Any]]()
    report = Report.JSON if quiet else Report.WORDS
    for each in found.returns():
        ended = _as_recorded(each)
        how = How(report, plan_only, in_background=False, answer=batches.append, ended=ended)
        status = max(status, await stage(app, each.request, how, each.picked))
        if status == ExitStatus.INTERRUPTED:
            break
    return status, answer


def _older(found: FoundLosses) -> str:
    """The question whether earlier versions are to be taken."""
    first, many = found.offered[0], len(found.offered)
    day = found.copies.offers[first].version.record.recorded_at[:10]
    are = f"{text.count(many, 'file')} {'is' if many == 1 else 'are'}"
    return f"{are} left only in an earlier version, such as {text.show(first)} of {day}. Take that?"


def _as_recorded(returned: Return) -> Callable[[Journal], bool]:
    """Says, once a batch has ended, whether all that it has fetched is as on record."""

    def look(journal: Journal) -> bool:
        wrong = [label for label, digest in journal.contents() if returned.digests.get(label, digest) != digest]
        for label in wrong:
            where = returned.request.sources[0]
            text.warn(f"{text.show(label)} changed in {where} while it was fetched: it is NOT as on record")
        return not wrong

    return look
