"""Leaving a batch to a worker: what that needs before, what is said when it has begun, and what ends it."""

from __future__ import annotations

import asyncio
import contextlib
import time
from collections.abc import Iterable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from yatagan.background.carrying import queue_limits
from yatagan.background.logout import processes_end_at_logout
from yatagan.background.routines import RoutineBook
from yatagan.background.starting import start_worker
from yatagan.batches.activity import Activity
from yatagan.batches.batch_store import Batch
from yatagan.batches.counts import BatchCounts, outcome_of
from yatagan.batches.journal import Journal
from yatagan.batches.queueing import WaitsFor
from yatagan.batches.states import ENDED, BatchState
from yatagan.cli.context import App
from yatagan.cli.terminal import terminal, text
from yatagan.cli.words.batch_words import from_to, state_words
from yatagan.cli.words.exit_status import ExitStatus
from yatagan.config.disks import in_memory
from yatagan.engine.run_log import RunLog, read_log
from yatagan.nodes.outlook import LoginBy, LoginOutlook, look_ahead
from yatagan.stores.local_calls import own_umask

if TYPE_CHECKING:
    from yatagan.keeper.client import KeeperStatus

#: Seconds to wait for a batch to begin, and between looks.
_BEGINNING, _LOOK = 30.0, 0.1
#: How long a node is opened for whose login needs a person, in seconds. What is being carried then is not ended by it.
_OPEN = 8 * 3600.0


@dataclass(frozen=True, slots=True)
class Outlook:
    """How a batch's logins go unattended: by a key, or over an open node."""

    logins: tuple[LoginOutlook, ...]
    opened: tuple[KeeperStatus, ...]


async def prepare_logins(app: App, nodes: Iterable[str]) -> Outlook:
    """See to it that a worker can reach these nodes; one whose login needs a person is opened, by that person.

    Raises CannotReach, also where a person is needed and there is no terminal.
    """
    logins, opened = [], []
    for name in dict.fromkeys(node for node in nodes if node):
        keeper = app.keeper(name)
        if keeper is not None:
            opened.append(await keeper.status())
            continue
        node = app.nodes().get(name)
        outlook = await look_ahead(node, app.home, app.connection())
        if outlook.by is LoginBy.PERSON:
            from yatagan.keeper.spawn import open_node

            opened.append(await open_node(app.home, node, time.time() + _OPEN, app.questions, app.trusts))
        else:
            logins.append(outlook)
    return Outlook(tuple(logins), tuple(opened))


def leave_to_worker(app: App, batch: Batch, journal: Journal, routine: str = "") -> None:
    """Put a batch whose lock we hold into the queue, let go of it, and start a worker. Raises JournalError.

    `routine`: the routine that made it, or "".
    """
    header = journal.header()
    umask = own_umask()
    if journal.standing().state is not BatchState.QUEUED:
        journal.settle(BatchState.QUEUED)
    RunLog(batch).write("queued")
    app.queue().add(
        batch.name, [node for node in (header.source_node, header.destination_node) if node], umask, routine
    )
    batch.unlock()
    start_worker(app.home)


async def begun(app: App, batch: Batch, *, wait: bool = True) -> tuple[BatchCounts, Activity]:
    """Wait until a batch moves, or waits for something else than a worker; no longer than a while."""
    until, lines, waits = time.monotonic() + _BEGINNING, sum(1 for _ in read_log(batch)), 0
    while True:
        with contextlib.closing(batch.journal()) as journal:
            standing = journal.standing()
            now = app.activities().of(batch, standing.state)
            waits = waits + 1 if _waits(app, now) else 0
            # Seen to wait once, it may just have been taken.
            if _has_begun(batch, now, lines) or waits > 1 or not wait or time.monotonic() > until:
                return outcome_of(journal), now
        await asyncio.sleep(_LOOK)


def _has_begun(batch: Batch, now: Activity, lines: int) -> bool:
    """Whether a batch moves, or has ended. Its log had so many `lines` when it was queued."""
    if now.is_carried:
        return any(line["event"] == "connected" for line in list(read_log(batch))[lines:])
    return now.state in ENDED or now.entry is None


def _waits(app: App, now: Activity) -> bool:
    """Whether a batch waits for something else than a worker."""
    if now.is_carried or now.entry is None:
        return False
    return now.entry.waits_for is not WaitsFor.ITS_TURN or not app.queue().has_more(queue_limits(app.home))


def attend(app: App) -> bool:
    """Start a worker where something is to be carried or run by itself, and none is alive. Returns whether it did."""
    if app.queue().is_attended():
        return False
    waiting = app.queue().has_more(queue_limits(app.home))
    if waiting or any(not routine.held for routine in RoutineBook.of(app.home).all()):
        start_worker(app.home)
        return True
    return False


def tell_begun(app: App, outcome: BatchCounts, now: Activity, outlook: Outlook) -> None:
    """Say that a batch goes on in the background, how to look, and what ends it."""
    header, name = outcome.header, outcome.header.id
    files, size = outcome.moved + outcome.waiting, outcome.moved_size + outcome.waiting_size
    terminal.say(
        terminal.style(f"Batch {name} goes on in the background: ", bold=True)
        + f"{from_to(header)}, {text.count(files, 'file')}, {text.size(size)}"
    )
    rows = [
        ("now", state_words(outcome, now)),
        *((what, text.command("batch", what, name)) for what in ("watch", "hold", "cancel")),
        *_login_rows(outlook),
        ("sleep", "it stops while this machine sleeps, and goes on when that wakes"),
        ("log out", _at_logout(outlook)),
        ("restart", _at_restart(app)),
    ]
    text.facts(rows)


def _login_rows(outlook: Outlook) -> list[tuple[str, str]]:
    rows = []
    for login in outlook.logins:
        words = f"{login.node} lets this account in by a key on this disk"
        if login.by is LoginBy.SESSION:
            words = f"{login.node} is reached by your SSH agent or a ticket, and not without it"
        if login.expires is not None:
            words += f"; a certificate expires {text.day_time(login.expires)}"
        rows.append(("login", words))
    rows += [("login", f"over the open login to {each.node}, as long as that lasts") for each in outlook.opened]
    return rows


def _at_logout(outlook: Outlook) -> str:
    if processes_end_at_logout():
        return "this system ends what you leave running; it then waits for you, unless you run: yatagan service install"
    if any(login.by is LoginBy.SESSION for login in outlook.logins):
        return "it goes on until its connection is lost; with your agent gone, it then waits for you"
    if outlook.opened:
        return "it goes on until its connection is lost; it then waits for you to log in"
    return "it goes on"


def _at_restart(app: App) -> str:
    if in_memory(app.home.state):
        return f"it is lost: what it has done is noted in {app.home.state}, which a restart empties"
    return "it then waits for you, unless you run: yatagan service install"


def left_status(now: Activity, outcome: BatchCounts) -> ExitStatus:
    """What a command ends with that has left a batch to a worker."""
    if now.state is BatchState.NEEDS_LOGIN:
        return ExitStatus.NO_LOGIN
    if now.is_carried or now.state is BatchState.QUEUED or outcome.good:
        return ExitStatus.GOOD
    return ExitStatus.DIFFERENCES
