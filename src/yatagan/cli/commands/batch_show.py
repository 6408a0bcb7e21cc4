"""`yatagan batch show`: what is done, waiting and failed of one batch."""

from __future__ import annotations

import contextlib
import sys

import click

from yatagan.batches.activity import Activity
from yatagan.batches.batch_store import Batch, Batches
from yatagan.batches.counts import BatchCounts, outcome_of
from yatagan.batches.journal import Journal
from yatagan.batches.log_events import LogBegun, LogConnectionLost, LogNotice
from yatagan.batches.states import BatchState, StepState
from yatagan.batches.steps import Step, StepKind
from yatagan.cli import shell_completion
from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.answers.json_fields import batch_json, step_json
from yatagan.cli.answers.ledger_answer import record_json
from yatagan.cli.context import App, as_json
from yatagan.cli.terminal import terminal, text
from yatagan.cli.views import batch_summary
from yatagan.cli.views.rate_view import rate_lines
from yatagan.cli.views.strip_view import is_plain
from yatagan.cli.words import fault_words
from yatagan.cli.words.batch_words import by_itself, from_to, goes_on, state_words
from yatagan.cli.words.record_words import record_row
from yatagan.engine.run_log import read_events
from yatagan.operations.put_on_record import record_of_batch
from yatagan.transfer.extents import Extents

#: States of a step between its beginning and its end, and how many such steps are named.
_UNDER_WAY = (StepState.MOVING, StepState.ARRIVED, StepState.PROVEN)
_STEPS_SHOWN = 8
#: Cells of its strip.
_CELLS = 40


@click.command(
    "show",
    epilog="""\b
Examples:
  yatagan batch show k7qd
  yatagan batch show k7qd --failed
  yatagan batch show k7qd --rate-over-time""",
)
@click.argument("id", required=False, shell_complete=shell_completion.batches)
@click.option("--failed", is_flag=True, help="Every step that failed, each with why and what you can do.")
@click.option("--steps", "all_steps", is_flag=True, help="Every step with its state.")
@click.option("--rate-over-time", "rate", is_flag=True, help="Draw how fast it went, second by second.")
@as_json
def show_command(id: str | None, failed: bool, all_steps: bool, rate: bool, json_: bool) -> None:
    """Show a batch, without ID the newest: what is done, what is waiting, what failed and why.

    ID is any part of a batch's name that no other has, such as its last four characters.
    """
    if failed + all_steps + rate > 1:
        why = "--failed, --steps and --rate-over-time are three answers; ask for one"
        raise click.UsageError(why, click.get_current_context())
    app = App.start()
    batch = Batches(app.home.batches).find(id)
    with contextlib.closing(batch.journal()) as journal:
        outcome = outcome_of(journal)
        now = app.activities().of(batch, outcome.standing.state)
        if rate:
            _show_rate(batch, journal, json_=json_)
        elif json_:
            _say(app, journal, outcome, now, failed=failed, all_steps=all_steps)
        elif failed:
            text.paged(list(batch_summary.failure_lines(journal)) or ["No step has failed."])
        elif all_steps:
            text.paged(_step_lines(journal, now))
        else:
            _show(app, batch, journal, outcome, now)


def _say(app: App, journal: Journal, outcome: BatchCounts, now: Activity, *, failed: bool, all_steps: bool) -> None:
    """A batch as JSON; of its steps those that failed, all, or else those that are not in place."""
    wanted = (StepState.FAILED,) if failed else ()
    steps = journal.steps(*wanted)
    shown = [
        step_json(step, _step_state(step, now))
        for step in steps
        if failed or all_steps or step.state is not StepState.IN_PLACE
    ]
    record = record_json(record_of_batch(app, outcome))
    say_json({**record, **batch_json(outcome, now), "steps": shown})


def _show_rate(batch: Batch, journal: Journal, *, json_: bool) -> None:
    """How fast it went over time."""
    rows = journal.pace()
    lost = [at for at, event in read_events(batch) if isinstance(event, LogConnectionLost)]
    if json_:
        pace = [
            {
                "from_at": text.timestamp(row.at * 1_000_000_000),
                "span_seconds": row.seconds,
                "sent_bytes": row.sent,
                "placed_bytes": row.placed,
                "files": row.files,
            }
            for row in rows
        ]
        say_json({"batch": batch.name, "pace": pace, "lost": [{"lost_at": when} for when in lost]})
        return
    sent = sum(row.sent for row in rows)
    terminal.say(terminal.style(f"Batch {batch.name}: ", bold=True) + f"{text.size(sent)} over the connection")
    for line in rate_lines(rows, lost, text.width(), plain=is_plain(sys.stdout)) or [
        "  Nothing of its rate is on record."
    ]:
        terminal.say(line)


def _show(app: App, batch: Batch, journal: Journal, outcome: BatchCounts, now: Activity) -> None:
    header = outcome.header
    terminal.say(
        terminal.style(f"Batch {batch.name}: ", bold=True) + batch_summary.tinted(outcome, state_words(outcome, now))
    )
    batch_summary.show_strip(journal, _CELLS)
    size = outcome.moved_size + outcome.waiting_size
    share = f" of {text.size(size)}, {text.percent(outcome.moved_size, size)}" if outcome.waiting and size else ""
    text.facts(
        [
            ("carries", from_to(header)),
            ("command", text.typed(header.command)),
            ("made", text.moment(header.created_ns)),
            ("into", text.place(header.destination_node, header.destination)),
            (
                batch_summary.place_label(outcome),
                f"{text.count(outcome.moved, 'file')}, {text.size(outcome.moved_size)}{share}",
            ),
            ("stored", batch_summary.stored(outcome)),
            ("parts", batch_summary.parts(outcome)),
            (
                "left as is",
                f"{text.count(outcome.left, 'file')}, {text.size(outcome.left_size)}" if outcome.left else "",
            ),
            *batch_summary.rest(outcome),
            ("proof", batch_summary.proof(outcome)),
            ("took", batch_summary.took(outcome)),
            record_row(record_of_batch(app, outcome)),
            ("taken over", _successor(outcome)),
            *_notices(batch),
            ("carried by", f"{now.holder} in the background" if now.holder and now.entry else str(now.holder or "")),
            *_under_way(journal, now),
        ]
    )
    more = text.command("batch", "show", batch.name, "--failed")
    for line in batch_summary.failure_lines(journal, batch_summary.FAILURES_SHOWN, more):
        terminal.say(line)
    if now.is_carried:
        terminal.say(f"  Watch it with: yatagan batch watch {batch.name}")
    elif goes_on(now):
        for line in batch_summary.next_lines(outcome, None, by_itself=by_itself(now), queued=now.entry is not None):
            terminal.say(line)


def _notices(batch: Batch) -> list[tuple[str, str]]:
    """What became of the notices about its last run."""
    found: dict[str, str] = {}
    for _, event in read_events(batch):
        if isinstance(event, LogBegun):
            found.clear()
        elif isinstance(event, LogNotice):
            from yatagan.background.notices import Delivery  # which few batches need
            from yatagan.cli.commands.notice import delivery_words

            found[event.way] = delivery_words(Delivery(event.way, event.to, event.why_not))
    return [("notice", words) for words in found.values()]


def _successor(outcome: BatchCounts) -> str:
    standing = outcome.standing
    return f"by batch {standing.detail}" if standing.state is BatchState.CANCELLED and standing.detail else ""


def _under_way(journal: Journal, now: Activity) -> list[tuple[str, str]]:
    if not (now.is_carried or goes_on(now)):
        return []
    rows = []
    for step in journal.steps(*_UNDER_WAY, limit=_STEPS_SHOWN):
        safe = Extents.decode(step.durable).total
        part = f", {text.size(safe)} of {text.size(step.facts.size)} safe on disk" if safe else ""
        name = text.show(step.label)
        if step.kind is StepKind.BUNDLE:
            name = f"small files together, from {name} on"
        rows.append((_step_state(step, now), f"{name}{part}"))
    return rows


def _step_lines(journal: Journal, now: Activity) -> list[str]:
    """Every step, a line each."""
    rows = []
    for step in journal.steps():
        why = fault_words.fault(step.fault, step.detail) if step.fault is not None else step.evidence or ""
        size = text.size(step.facts.size) if step.kind is StepKind.FILE else step.kind.value
        rows.append((_step_state(step, now), size, text.show(step.label), why))
    return list(text.table_lines(("state", "size", "step", "known by, or why not"), rows, right=(1,)))


def _step_state(step: Step, now: Activity) -> str:
    """The state of a step in words; without a process nothing is moving."""
    return "waiting" if step.state is StepState.MOVING and not now.is_carried else step.state.value
