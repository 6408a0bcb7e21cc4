"""`yatagan service`: what carries batches in the background."""

from __future__ import annotations

import asyncio
import os
import signal
import time
from typing import Any

import click

from yatagan.background.starting import start_worker
from yatagan.background.worker import Next, Worker
from yatagan.batches.batch_store import Batch
from yatagan.batches.counts import outcome_of
from yatagan.batches.journal import Journal
from yatagan.cli import messages, text
from yatagan.cli.command_group import CommandGroup
from yatagan.cli.conclusions import conclude_batch
from yatagan.cli.context import App, as_json, run, say_json
from yatagan.cli.json_fields import batch_json
from yatagan.errors import CannotReach, YataganError


@click.group("service", cls=CommandGroup)
def service_command() -> None:
    """What carries batches in the background, and goes on with them after a restart."""


@service_command.command("run", epilog="Example: yatagan service run")
@as_json
def run_command(json_: bool) -> None:
    """Carry what is in the queue, and end when nothing is left to do.

    What is left to the background starts this by itself; by hand it shows what it does.
    """
    from yatagan.background.imports import import_all

    import_all()
    app = App.start(questions=False)
    run(_work(app, listener := _Listener(quiet=json_)))
    if json_:
        say_json({"batches": listener.answers})


async def _work(app: App, listener: _Listener) -> None:
    loop = asyncio.get_running_loop()
    worker = Worker(app.home, os.environ.get("SSH_AUTH_SOCK", ""), listener, lambda: start_worker(app.home))
    for number in (signal.SIGTERM, signal.SIGINT):
        loop.add_signal_handler(number, worker.shut_down)
    loop.add_signal_handler(signal.SIGUSR1, worker.stop_batch)
    # The terminal that it was started at may go: that ends nothing.
    signal.signal(signal.SIGHUP, signal.SIG_IGN)
    await worker.run()


class _Listener:
    """Says what a worker does, a line each unless it is to be `quiet`; `answers`: the batches that it has carried."""

    def __init__(self, *, quiet: bool) -> None:
        self.answers: list[dict[str, Any]] = []
        self._quiet = quiet

    def begins(self, batch: Batch) -> None:
        """See `WorkerListener`."""
        self._say(f"batch {batch.name}: begins")

    def ended(self, batch: Batch, journal: Journal, problem: CannotReach | None, next_: Next) -> None:
        """See `WorkerListener`."""
        outcome = outcome_of(journal)
        self.answers.append(batch_json(outcome))
        why = f" ({messages.explain(problem).message})" if problem is not None else ""
        self._say(f"batch {batch.name}: {conclude_batch(outcome, problem).text}{why}")

    def failed(self, batch: Batch, error: YataganError) -> None:
        """See `WorkerListener`."""
        self._say(f"batch {batch.name}: {messages.explain(error)}")

    def _say(self, words: str) -> None:
        if not self._quiet:
            click.echo(f"{time.strftime('%Y-%m-%d %H:%M:%S')}  {text.show(words)}")
