"""`yatagan batch hold` and `cancel`: stopping a batch, whatever carries it, for now or for good."""

from __future__ import annotations

import asyncio
import contextlib
import os
import time
from collections.abc import Iterator

import click

from yatagan.batches.batch_store import Batch, Batches
from yatagan.batches.counts import outcome_of
from yatagan.batches.journal import Journal
from yatagan.batches.locks import Holder
from yatagan.batches.log_events import LogCancelled, LogHeld
from yatagan.batches.said import Said, say
from yatagan.batches.states import ENDED, BatchState
from yatagan.cli import shell_completion
from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.answers.json_fields import batch_json
from yatagan.cli.context import App, as_json, no_questions, run
from yatagan.cli.terminal import terminal, text
from yatagan.cli.terminal.stop_signals import STOP_BATCH
from yatagan.engine.run_log import RunLog
from yatagan.errors import BatchInUse, Refused
from yatagan.operations.resume import refuse_cancelled
from yatagan.places import Place
from yatagan.planning.takeover import remove_parts
from yatagan.stores.interface import Store

#: Seconds that a batch may take to stop: what has arrived is made safe first; and how many of them without a word.
_STOPPING, _WORDLESS = 60.0, 2.0


@click.command("hold", epilog="Example: yatagan batch hold k7qd")
@click.argument("id", shell_complete=shell_completion.batches)
@as_json
def hold_command(id: str, json_: bool) -> None:
    """Stop a batch for now, also one that another process carries or that is queued.

    What has arrived is made safe first. It goes on when you say so: yatagan batch resume.
    """
    app = App.start(questions=False)
    batch = Batches(app.home.batches).find(id)
    run(_hold(app, batch, json_=json_))


async def _hold(app: App, batch: Batch, *, json_: bool) -> None:
    with contextlib.closing(batch.journal()) as journal:
        _refuse_ended(journal, batch)
    with await stopped(app, batch, Said.HOLD) as journal:
        _refuse_ended(journal, batch)  # it may have come to its end meanwhile
        if journal.standing().state is not BatchState.HELD:  # a worker may have done so
            journal.settle(BatchState.HELD)
            RunLog(batch).write(LogHeld("a person"))
        outcome = outcome_of(journal)
    if json_:
        say_json(batch_json(outcome))
    else:
        done = f"{text.number(outcome.moved)} of {text.count(outcome.moved + outcome.waiting, 'file')}"
        terminal.say(f"Batch {batch.name} is held: {done} are in place. Go on with: yatagan batch resume {batch.name}")


def _refuse_ended(journal: Journal, batch: Batch) -> None:
    state = journal.standing().state
    if state in ENDED:
        raise Refused(f"batch {batch.name} is {state.value} already")


@click.command("cancel", epilog="Example: yatagan batch cancel k7qd")
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
    with await stopped(app, batch, Said.CANCEL) as journal:
        outcome = outcome_of(journal)
        refuse_cancelled(batch, outcome.standing)
        if outcome.standing.state is BatchState.FINISHED:
            remove = text.command("remove", Place(outcome.header.destination_node, outcome.header.destination))
            raise Refused(f"batch {batch.name} is finished", f"to remove what it has put there: {remove}/…")
        store = await destination_of(app, journal)
        try:
            journal.cancel("")
            removed = await remove_parts(journal, store)
        finally:
            await store.close()
        journal.clear_spool()
        RunLog(batch).write(LogCancelled("a person", removed))
        if json_:
            say_json({**batch_json(outcome_of(journal)), "removed_parts": removed})
        else:
            terminal.say(
                f"Batch {batch.name} is cancelled: {text.count(outcome.moved, 'file')} in place, "
                f"{text.count(removed, 'unfinished file')} removed."
            )


async def stopped(app: App, batch: Batch, word: Said) -> contextlib.AbstractContextManager[Journal]:
    """The journal of a batch that nothing carries any more and nothing will, and whose lock we hold.

    What is said stands beside its journal first, and it leaves the queue: so no worker takes it any more, on whichever
    machine. One that carries it now is asked to stop it; one of another machine sees what is said. Raises Refused
    where nothing does so in time; what is said still holds.
    """
    say(batch, word)
    app.queue().remove(batch.name)
    began = time.monotonic()
    asked, said_so = None, False
    while True:
        try:
            batch.lock()
            return _held(batch)
        except BatchInUse as error:
            waited = time.monotonic() - began
            if waited > _STOPPING:
                look = text.command("batch", "show", batch.name)
                raise Refused(
                    f"batch {batch.name} is still carried by {error.holder}",
                    f"what you said stands, and it stops when that sees it: {look}",
                ) from error
            if not said_so and (error.elsewhere or waited > _WORDLESS):
                text.warn(f"{text.show(error.holder)} has the batch; waiting for it to stop")
                said_so = True
        holder = batch.carrier()
        if holder is not None and holder.is_known and holder.is_of(batch.directory) and holder != asked:
            await _ask_to_stop(app, batch, holder)
            asked = holder
        await asyncio.sleep(0.1)


@contextlib.contextmanager
def _held(batch: Batch) -> Iterator[Journal]:
    try:
        with contextlib.closing(batch.journal()) as journal:
            yield journal
    finally:
        batch.unlock()


async def _ask_to_stop(app: App, batch: Batch, holder: Holder) -> None:
    """Ask the process that carries a batch to stop it, cleanly; one that has ended meanwhile needs no asking."""
    for node in app.nodes():
        keeper = app.keeper(node.name)
        if keeper is not None and batch.name in (await keeper.status()).batches:
            await keeper.stop(batch.name)
            return
    if holder.is_alive:
        with contextlib.suppress(ProcessLookupError):
            # To a worker this means the batch; that it should end itself is another signal.
            os.kill(holder.pid, STOP_BATCH)


async def destination_of(app: App, journal: Journal) -> Store:
    """The store that a batch was carried to."""
    header = journal.header()
    place = Place(header.destination_node, header.destination)
    return await app.open(app.source(place, pinned=journal.standing().pins.get(place.node), commands=False))
