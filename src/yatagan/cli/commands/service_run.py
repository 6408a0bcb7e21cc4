"""`yatagan service run`: a worker, which carries batches in the background."""

from __future__ import annotations

import asyncio
import contextlib
import signal
import threading
import time
from functools import partial
from typing import Any

import click

from yatagan.background.carrying import UnattendedRuns
from yatagan.background.following import Follower
from yatagan.background.notices import Notice, send
from yatagan.background.routine_runs import RoutineRunner
from yatagan.background.routine_work import batch_ended, meet
from yatagan.background.routines import Routine, RoutineBook
from yatagan.background.starting import is_replaced, start_worker
from yatagan.background.worker import Worker
from yatagan.batches.batch_store import Batch
from yatagan.batches.counts import outcome_of
from yatagan.batches.journal import Journal
from yatagan.batches.log_events import LogNotice
from yatagan.batches.states import BatchState
from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.answers.json_fields import batch_json
from yatagan.cli.commands.notice import delivery_words
from yatagan.cli.commands.routine_add import convert
from yatagan.cli.commands.service_install import note_run
from yatagan.cli.context import App, as_json, run
from yatagan.cli.terminal import terminal, text
from yatagan.cli.views import notice_words
from yatagan.cli.words import messages
from yatagan.cli.words.conclusions import conclude_batch
from yatagan.config.notice_settings import NoticeSettings
from yatagan.desk.desk import Desk
from yatagan.desk.questions import NoQuestions
from yatagan.engine.run_log import RunLog
from yatagan.errors import JournalError, Trouble, YataganError

#: Seconds that a worker waits at its end for notices that are being sent.
_LAST_NOTICES = 150.0


@click.command("run", epilog="Example: yatagan service run")
@click.option("--from-timer", is_flag=True, help="Note the time of this run, for yatagan service show.")
@as_json
def run_command(from_timer: bool, json_: bool) -> None:
    """Carry what is in the queue, and end when nothing is left to do.

    What is left to the background starts this by itself; by hand it shows what it does.
    """
    from yatagan.background.imports import import_all

    import_all()
    app = App.start(questions=False)
    if from_timer:
        note_run(app)
    convert(app)
    run(_work(app, listener := _Listener(app, quiet=json_)))
    if json_:
        say_json({"batches": listener.answers})


async def _work(app: App, listener: _Listener) -> None:
    loop = asyncio.get_running_loop()
    follower = Follower()

    meets, ended = partial(meet, app.home), partial(batch_ended, app.home)
    runner = RoutineRunner(RoutineBook.of(app.home), meets, ended, listener, changed=follower.changed)
    carrying = UnattendedRuns(Desk(app.home, None, NoQuestions(), app.agent))
    worker = Worker(app.queue(), carrying, listener, lambda: start_worker(app.home), runner, is_replaced)
    for number in (signal.SIGTERM, signal.SIGINT):
        loop.add_signal_handler(number, worker.shut_down)
    loop.add_signal_handler(signal.SIGUSR1, worker.stop_batch)
    # The terminal that it was started at may go: that ends nothing.
    signal.signal(signal.SIGHUP, signal.SIG_IGN)
    try:
        await worker.run()
    finally:
        await follower.close()
        listener.finish()


class _Listener:
    """Says what a worker does, a line each unless it is to be `quiet`, and sends the notices that are wanted.

    `answers`: the batches that it has carried.
    """

    def __init__(self, app: App, *, quiet: bool) -> None:
        self.answers: list[dict[str, Any]] = []
        self._app = app
        self._quiet = quiet
        self._sending: list[threading.Thread] = []

    def begins(self, batch: Batch) -> None:
        self._say(f"batch {batch.name}: begins")

    def ended(self, batch: Batch, journal: Journal, problem: Trouble | None, routine: str, *, queued: bool) -> None:
        outcome = outcome_of(journal)
        self.answers.append(batch_json(outcome))
        why = f" ({messages.explain(problem).message})" if problem is not None else ""
        self._say(f"batch {batch.name}: {conclude_batch(outcome, problem).text}{why}")
        if not routine and not queued and outcome.standing.state in (BatchState.FINISHED, BatchState.HELD):
            self._tell(batch, notice_words.of_batch_end(self._app, journal, outcome, problem))

    def failed(self, batch: Batch, error: YataganError) -> None:
        self._say(f"batch {batch.name}: {messages.explain(error)}")

    def unread(self, batch: Batch, error: JournalError) -> None:
        self.failed(batch, error)
        self._tell(batch, notice_words.of_unread(batch.name, error))

    def own_trouble(self, error: YataganError) -> None:
        self._say(str(messages.explain(error)))

    def node_trouble(self, batch: Batch, node: str, waiting: int, problem: Trouble | None, *, login: bool) -> None:
        self._tell(batch, notice_words.of_node_trouble(node, waiting, problem, login=login))

    def node_well(self, batch: Batch, node: str) -> None:
        self._tell(batch, notice_words.of_node_well(node))

    def routine_trouble(self, routine: Routine, why: str) -> None:
        self._tell(None, notice_words.of_routine_trouble(routine, why))

    def routine_well(self, routine: Routine) -> None:
        self._tell(None, notice_words.of_routine_well(routine))

    def _tell(self, batch: Batch | None, notice: Notice) -> None:
        """Send a notice, if one is wanted. Another thread does it: a mail server may take its time."""
        settings = self._app.settings().notice
        # Whoever got the notice of the trouble gets the one of its end too.
        wanted = settings.wants(trouble=notice.trouble) or (notice.of_node and settings.wants(trouble=True))
        if settings.any_way and wanted:
            thread = threading.Thread(target=self._send, args=(batch, notice, settings), daemon=True)
            self._sending.append(thread)
            thread.start()

    def _send(self, batch: Batch | None, notice: Notice, settings: NoticeSettings) -> None:
        for told in send(notice, settings):
            self._say(f"notice by {delivery_words(told)}: {notice.subject}")
            if batch is None:
                continue
            with contextlib.suppress(JournalError):  # a full disk has its own place to say so
                RunLog(batch).write(LogNotice(told.way, told.to, notice.subject, told.why))

    def finish(self) -> None:
        """Wait for notices that are being sent, within limits."""
        until = time.monotonic() + _LAST_NOTICES
        for thread in self._sending:
            thread.join(max(0.0, until - time.monotonic()))

    def _say(self, words: str) -> None:
        if not self._quiet:
            terminal.say(f"{time.strftime('%Y-%m-%d %H:%M:%S')}  {text.show(words)}")
