"""`yatagan batch remove`: forgetting batches that have ended."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Sequence

import click

from yatagan.batches.batch_store import Batch, Batches
from yatagan.batches.journal import Journal
from yatagan.batches.states import ENDED
from yatagan.cli import shell_completion
from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.commands.batch_stop import destination_of
from yatagan.cli.context import App, as_json, no_questions, run, written
from yatagan.cli.terminal import terminal, text
from yatagan.cli.words import messages
from yatagan.cli.words.exit_status import ExitStatus
from yatagan.config.units import parse_duration
from yatagan.engine.recording import record
from yatagan.errors import BatchInUse, CannotReach, JournalError, Refused, StoreError, YataganError
from yatagan.places import Place
from yatagan.planning.takeover import count_parts, part_names


@click.command(
    "remove",
    epilog="""\b
Examples:
  yatagan batch remove k7qd
  yatagan batch remove --older-than 90d""",
)
@click.argument("ids", nargs=-1, metavar="[ID]...", shell_complete=shell_completion.batches)
@click.option(
    "--older-than",
    metavar="AGE",
    callback=written(parse_duration, 0.0),
    help="All that were made longer ago than this, such as 90d.",
)
@no_questions
@as_json
def remove_command(ids: tuple[str, ...], older_than: float, no_questions: bool, json_: bool) -> None:
    """Forget batches that are finished or cancelled: those named, or all that were made longer ago than an age.

    What they have carried stays where it is, and so does its record in the ledger. A batch that has unfinished files
    at its destination is refused.
    """
    if bool(ids) == bool(older_than):
        raise click.UsageError("name batches, or an age with --older-than", click.get_current_context())
    app = App.start(questions=not no_questions)
    batches = Batches(app.home.batches)
    chosen = [batches.find(id) for id in dict.fromkeys(ids)] if ids else _aged(batches, older_than)
    status = run(_remove(app, chosen, named=bool(ids), json_=json_))
    if status:
        raise click.exceptions.Exit(status)


def _aged(batches: Batches, age: float) -> list[Batch]:
    """Batches that have ended and were made longer ago than this, in seconds."""
    limit = time.time_ns() - int(age * 1e9)
    return [
        batch
        for batch, journal in batches.opened()
        if journal.standing().state in ENDED and journal.header().created_ns < limit
    ]


async def _remove(app: App, chosen: Sequence[Batch], *, named: bool, json_: bool) -> int:
    """Forget batches, each unless it is refused. Raises why, where the only one that is `named` is refused."""
    removed: list[str] = []
    refused: list[tuple[Batch, YataganError]] = []
    for batch in chosen:
        try:
            await _forget(app, batch)
            removed.append(batch.name)
        except (Refused, CannotReach, BatchInUse, StoreError, JournalError) as error:
            if named and len(chosen) == 1:
                raise
            refused.append((batch, error))
    if json_:
        why = [{"batch": batch.name, "reason": messages.explain(refusal).message} for batch, refusal in refused]
        say_json({"removed": removed, "refused": why})
    else:
        forgot = f"Forgot {text.count(len(removed), 'batch', 'batches')}; what was carried stays, and the ledger too."
        terminal.say(forgot if removed else "No batch was forgotten.")
        for _, refusal in refused:
            text.warn(str(messages.explain(refusal)))
    return ExitStatus.DIFFERENCES if refused else ExitStatus.GOOD


async def _forget(app: App, batch: Batch) -> None:
    """Forget a batch. Raises Refused, CannotReach, BatchInUse, StoreError, JournalError."""
    batch.lock()
    try:
        try:
            journal = batch.journal()
        except JournalError as error:
            if not error.damaged:
                raise
            batch.delete()  # what it says cannot be read by anybody
            return
        with contextlib.closing(journal):
            if (state := journal.standing().state) not in ENDED:
                resume, cancel = (text.command("batch", what, batch.name) for what in ("resume", "cancel"))
                raise Refused(f"batch {batch.name} is {state.value}", f"finish it: {resume}, or give it up: {cancel}")
            await _refuse_parts(app, batch, journal)
            record(journal, app.ledger_in(journal.header().purpose.ledger))
        batch.delete()
    finally:
        batch.unlock()


async def _refuse_parts(app: App, batch: Batch, journal: Journal) -> None:
    """Raise Refused while a batch has unfinished files at its destination."""
    if next(part_names(journal), None) is None:
        return
    store = await destination_of(app, journal)
    try:
        there = await count_parts(journal, store)
    finally:
        await store.close()
    if there:
        header = journal.header()
        remove = text.command("parts", "remove", Place(header.destination_node, header.destination))
        many = text.count(there, "unfinished file")
        raise Refused(f"batch {batch.name} has {many} at its destination", f"remove them first: {remove}")
