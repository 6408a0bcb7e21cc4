"""`yatagan batch cancel` and `remove`: giving an unfinished batch up, and forgetting those that have ended."""

from __future__ import annotations

import asyncio
import contextlib
import os
import signal
import time
from collections.abc import Sequence

import click

from yatagan.batches.batch_store import Batch, Batches
from yatagan.batches.counts import outcome_of
from yatagan.batches.journal import Journal
from yatagan.batches.states import ENDED, BatchState
from yatagan.cli import messages, run_batch, shell_completion, text
from yatagan.cli.context import App, as_json, no_questions, run, say_json, written
from yatagan.cli.exit_status import ExitStatus
from yatagan.cli.json_fields import batch_json
from yatagan.config.units import parse_duration
from yatagan.engine.recording import record
from yatagan.errors import BatchInUse, CannotReach, JournalError, Refused, StoreError, YataganError
from yatagan.places import Place
from yatagan.planning.takeover import count_parts, part_names, remove_parts
from yatagan.stores.interface import Store

#: Seconds that a batch may take to stop: what has arrived is made safe first.
_STOPPING = 60.0


@click.command("cancel", short_help="Stop a batch and give it up.", epilog="Example: yatagan batch cancel k7qd")
@click.argument("id", shell_complete=shell_completion.batches)
@no_questions
@as_json
def cancel_command(id: str, no_questions: bool, json_: bool) -> None:
    """Stop a batch and give it up. What is in place stays; its unfinished files at the destination are removed.

    The record of it stays, until yatagan batch remove.
    """
    app = App.start(questions=not no_questions)
    batch = Batches(app.home.batches).find(id)
    run(_cancel(app, batch, json_=json_))


async def _cancel(app: App, batch: Batch, *, json_: bool) -> None:
    if batch.is_carried():
        await _stop(app, batch)
    batch.lock()
    journal = batch.journal()
    try:
        outcome = outcome_of(journal)
        run_batch.refuse_cancelled(outcome)
        if outcome.standing.state is BatchState.FINISHED:
            remove = text.command("remove", Place(outcome.header.destination_node, outcome.header.destination))
            raise Refused(f"batch {batch.name} is finished", f"to remove what it has put there: {remove}/…")
        store = await _destination(app, journal)
        try:
            journal.cancel("")
            removed = await remove_parts(journal, store)
        finally:
            await store.close()
        journal.clear_spool()
        if json_:
            say_json({**batch_json(outcome_of(journal)), "removed_parts": removed})
        else:
            click.echo(
                f"Batch {batch.name} is cancelled: {text.count(outcome.moved, 'file')} in place, "
                f"{text.count(removed, 'unfinished file')} removed."
            )
    finally:
        journal.close()
        batch.unlock()


async def _stop(app: App, batch: Batch) -> None:
    """Stop the process that carries a batch, cleanly. Raises BatchInUse where that is not ours to do."""
    for node in app.nodes():
        keeper = app.keeper(node.name)
        if keeper is not None and batch.name in (await keeper.status()).batches:
            await keeper.stop(batch.name)
            break
    else:
        process = batch.process()
        if process is None:
            raise BatchInUse(batch.name, batch.holder())
        with contextlib.suppress(ProcessLookupError):
            os.kill(process, signal.SIGTERM)
    until = time.monotonic() + _STOPPING
    while batch.is_carried():
        if time.monotonic() > until:
            raise BatchInUse(batch.name, batch.holder())
        await asyncio.sleep(0.1)


async def _destination(app: App, journal: Journal) -> Store:
    """The store that a batch was carried to."""
    header = journal.header()
    place = Place(header.destination_node, header.destination)
    return await app.open(app.source(place, pinned=journal.standing().pins.get(place.node), commands=False))


@click.command(
    "remove",
    short_help="Forget batches that have ended.",
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
        click.echo(forgot if removed else "No batch was forgotten.")
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
            record(journal, app.ledger())
        batch.delete()
    finally:
        batch.unlock()


async def _refuse_parts(app: App, batch: Batch, journal: Journal) -> None:
    """Raise Refused while a batch has unfinished files at its destination."""
    if next(part_names(journal), None) is None:
        return
    store = await _destination(app, journal)
    try:
        there = await count_parts(journal, store)
    finally:
        await store.close()
    if there:
        header = journal.header()
        remove = text.command("parts", "remove", Place(header.destination_node, header.destination))
        many = text.count(there, "unfinished file")
        raise Refused(f"batch {batch.name} has {many} at its destination", f"remove them first: {remove}")
