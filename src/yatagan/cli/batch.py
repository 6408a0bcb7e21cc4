"""`yatagan batch`: what became of a batch, and going on with one."""

from __future__ import annotations

import contextlib

import click

from yatagan.batches.batch_store import Batch, Batches
from yatagan.batches.counts import BatchCounts, outcome_of
from yatagan.batches.journal import Journal
from yatagan.batches.journal_data import Header
from yatagan.batches.states import CARRIED, ENDED, BatchState, StepState
from yatagan.batches.steps import Prove, Step, StepKind
from yatagan.batches.strip import Strip, StripFile
from yatagan.cli import exit_status, messages, run_batch, shell_completion, text
from yatagan.cli.batch_end import cancel_command, remove_command
from yatagan.cli.command_group import CommandGroup
from yatagan.cli.context import App, as_json, no_questions, one_of, run, say_json
from yatagan.cli.exit_status import ExitStatus
from yatagan.cli.json_fields import batch_json, step_json
from yatagan.cli.ledger_record import of_batch, record_json, record_row
from yatagan.cli.report import Report, json_lines, say_event
from yatagan.cli.strip_view import drawn, strip_of
from yatagan.engine.recording import record
from yatagan.errors import JournalError, Refused
from yatagan.places import Place
from yatagan.stores.local import LocalStore
from yatagan.transfer.extents import Extents

#: States of a step between its beginning and its end, and how many such steps `batch show` names.
_UNDER_WAY = (StepState.MOVING, StepState.ARRIVED, StepState.PROVEN)
_STEPS_SHOWN = 8


@click.group("batch", cls=CommandGroup)
def batch_command() -> None:
    """A batch is a plan that was accepted, with the state of every step on disk.

    ID is any part of a batch's name that no other has, such as its last four characters.
    """


@batch_command.command("list", epilog="Example: yatagan batch list --json")
@as_json
def list_(json_: bool) -> None:
    """Show all batches, oldest first."""
    app = App.start()
    rows, unread = [], []
    for batch in Batches(app.home.batches):
        try:
            rows.append((batch, _outcome(batch)))
        except JournalError as error:
            unread.append((batch, error))
    if json_:
        broken = [
            {"batch": batch.name, "state": "damaged" if why.damaged else "unreadable", "detail": why.detail}
            for batch, why in unread
        ]
        known = [batch_json(outcome, carried=batch.is_carried()) for batch, outcome in rows]
        say_json({"batches": known + broken})
    elif not rows and not unread:
        click.echo("There is no batch yet. Make one with: yatagan stage SOURCE… DESTINATION")
    elif rows:
        _table(rows)
    for _, why in unread:
        text.warn(str(messages.explain(why)))
    if unread:
        raise click.exceptions.Exit(ExitStatus.DIFFERENCES)


#: Cells of a batch's strip in a list, and on its own.
_LISTED_CELLS, _SHOWN_CELLS = 10, 40
#: Files of a batch whose steps are read for its strip in a list: more take a second.
_MOST_LISTED = 300_000


def _table(rows: list[tuple[Batch, BatchCounts]]) -> None:
    """Show batches as a table, on a terminal with a strip of each."""
    table: list[tuple[str, ...]] = [
        (
            batch.name,
            _strip(batch, outcome),
            _state(batch, outcome),
            _done(outcome),
            text.moment(outcome.header.created_ns),
            _where(outcome),
        )
        for batch, outcome in rows
    ]
    heads: tuple[str, ...] = ("batch", "", "state", "files", "made", "to")
    if not any(row[1] for row in table):
        table, heads = [(row[0], *row[2:]) for row in table], (heads[0], *heads[2:])
    text.table(heads, table, squeeze=True)


def _strip(batch: Batch, outcome: BatchCounts) -> str:
    """A short strip of a batch; of one that is finished and good it is known without reading its steps."""
    if outcome.good:
        only = Strip([StripFile(1, 1, StepState.IN_PLACE, 0)])
        return drawn(only, _LISTED_CELLS) if outcome.moved else ""
    if outcome.files > _MOST_LISTED:
        return ""
    with contextlib.closing(batch.journal()) as journal:
        return drawn(strip_of(journal), _LISTED_CELLS)


def _outcome(batch: Batch) -> BatchCounts:
    journal = batch.journal()
    try:
        return outcome_of(journal)
    finally:
        journal.close()


@batch_command.command(
    "show", short_help="Show what is done, waiting and failed.", epilog="Example: yatagan batch show k7qd"
)
@click.argument("id", required=False, shell_complete=shell_completion.batches)
@as_json
def show_(id: str | None, json_: bool) -> None:
    """Show a batch, without ID the newest: what is done, what is waiting, what failed and why.

    ID is any part of a batch's name that no other has, such as its last four characters.
    """
    app = App.start()
    batch = Batches(app.home.batches).find(id)
    journal = batch.journal()
    try:
        outcome = outcome_of(journal)
        if json_:
            carried = batch.is_carried()
            steps = (step for step in journal.steps() if step.state is not StepState.IN_PLACE)
            shown = [step_json(step, _step_state(step, carried)) for step in steps]
            record = record_json(of_batch(app, outcome.standing.recorded))
            say_json({**record, **batch_json(outcome, carried=carried), "steps": shown})
        else:
            _show(app, batch, journal, outcome)
    finally:
        journal.close()


def _show(app: App, batch: Batch, journal: Journal, outcome: BatchCounts) -> None:
    header = outcome.header
    click.echo(click.style(f"Batch {batch.name}: ", bold=True) + run_batch.tinted(outcome, _state(batch, outcome)))
    run_batch.show_strip(journal, _SHOWN_CELLS)
    goes_on = outcome.standing.state not in ENDED
    size = outcome.moved_size + outcome.waiting_size
    share = f" of {text.size(size)}, {outcome.moved_size / size:.0%}" if outcome.waiting and size else ""
    text.facts(
        [
            ("command", text.typed(header.command)),
            ("made", text.moment(header.created_ns)),
            ("into", text.place(header.destination_node, header.destination)),
            (
                run_batch.place_label(outcome),
                f"{text.count(outcome.moved, 'file')}, {text.size(outcome.moved_size)}{share}",
            ),
            ("stored", run_batch.stored(outcome)),
            ("parts", run_batch.parts(outcome)),
            (
                "left as is",
                f"{text.count(outcome.left, 'file')}, {text.size(outcome.left_size)}" if outcome.left else "",
            ),
            *run_batch.rest(outcome),
            ("proof", run_batch.proof(outcome)),
            ("took", run_batch.took(outcome)),
            record_row(of_batch(app, outcome.standing.recorded)),
            ("taken over", _successor(outcome)),
            *(_under_way(step, batch) for step in journal.steps(*_UNDER_WAY, limit=_STEPS_SHOWN) if goes_on),
        ]
    )
    run_batch.failures(journal, f"yatagan batch show {batch.name} --json")
    if goes_on and not batch.is_carried():
        click.echo(f"  Go on with: yatagan batch resume {batch.name}")


def _successor(outcome: BatchCounts) -> str:
    standing = outcome.standing
    return f"by batch {standing.detail}" if standing.state is BatchState.CANCELLED and standing.detail else ""


def _under_way(step: Step, batch: Batch) -> tuple[str, str]:
    safe = Extents.decode(step.durable).total
    part = f", {text.size(safe)} of {text.size(step.facts.size)} safe on disk" if safe else ""
    name = text.show(step.label)
    if step.kind is StepKind.BUNDLE:
        name = f"small files together, from {name} on"
    return _step_state(step, batch.is_carried()), f"{name}{part}"


def _step_state(step: Step, carried: bool) -> str:
    """The state of a step in words; without a process nothing is moving."""
    return "waiting" if step.state is StepState.MOVING and not carried else step.state.value


@batch_command.command(short_help="Go on with a batch.", epilog="Example: yatagan batch resume k7qd")
@click.argument("id", required=False, shell_complete=shell_completion.batches)
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
def resume(
    id: str | None,
    make_again: bool,
    prove: str | None,
    quiet: bool,
    no_questions: bool,
    json_: bool,
    lines: bool,
) -> None:
    """Go on with a batch, without ID the newest. Failed steps are tried again."""
    app = App.start(questions=not no_questions)
    batch = Batches(app.home.batches).find(id)
    report = Report.chosen(quiet=quiet, json_=json_, lines=lines)
    status = run(_resume(app, batch, make_again, prove, report))
    if status:
        raise click.exceptions.Exit(status)


async def _resume(app: App, batch: Batch, make_again: bool, prove: str | None, report: Report) -> int:
    batch.lock()
    journal = batch.journal()
    try:
        outcome = outcome_of(journal)
        run_batch.refuse_cancelled(outcome)
        if outcome.good and not make_again:
            journal.clear_spool()
            record(journal, app.ledger())
            if report.for_scripts:
                _say_ended(app, outcome_of(journal), report)
            elif report.in_words:
                click.echo(f"Batch {batch.name} is finished already.")
            return ExitStatus.GOOD
        header, pins = outcome.header, outcome.standing.pins
        await _refuse_moved(header)
        journal.reopen_failed()
        if prove is not None:
            journal.prove_by(Prove(prove))
        if make_again:
            journal.make_again(wanted=True)
        ends = tuple(
            app.source(Place(node, b""), pinned=pins.get(node))
            for node in (header.source_node, header.destination_node)
        )
        if report.in_words:
            click.echo(click.style(f"Going on with batch {batch.name}", bold=True))
        outcome, problem = await run_batch.carry(app, batch, journal, (ends[0], ends[1]), report)
        if report.for_scripts:
            _say_ended(app, outcome, report)
        elif report.in_words or not outcome.good:
            run_batch.summary(app, journal, outcome, problem)
        return exit_status.of_batch(outcome, problem).status
    finally:
        journal.close()
        batch.unlock()


def _say_ended(app: App, outcome: BatchCounts, report: Report) -> None:
    """The batch at the end, as JSON."""
    answer = run_batch.ended_json(app, outcome)
    if report is Report.JSON_LINES:
        say_event("ended", {"batch": answer})
    else:
        say_json(answer)


async def _refuse_moved(header: Header) -> None:
    """Raise Refused if an accepted path of this machine leads elsewhere by now."""
    here = LocalStore(b"/")
    for root in header.roots:
        # A source may be a link, which is staged as such; what we write into must not have become one.
        into = root == header.destination and not header.destination_node
        if (real := await here.resolve(root, follow=into)) != root:
            raise Refused(
                f"{text.show(root)} leads to {text.show(real)} now, which is not what was planned",
                "put it back as it was, or stage again",
            )


def _state(batch: Batch, outcome: BatchCounts) -> str:
    """The state of a batch in words. If its process died while moving, it is interrupted."""
    state = outcome.standing.state
    if batch.is_carried():
        stopped = batch.stopped_process()
        return f"moving, but its process {stopped} is stopped" if stopped else "moving now"
    if state in CARRIED:
        return "interrupted"
    return exit_status.of_batch(outcome).text


def _done(outcome: BatchCounts) -> str:
    whole = outcome.moved + outcome.waiting + outcome.failed_files
    return f"{text.number(outcome.moved)} of {text.number(whole)}"


def _where(outcome: BatchCounts) -> str:
    return text.place(outcome.header.destination_node, outcome.header.destination)


for _command in (cancel_command, remove_command):
    batch_command.add_command(_command)
