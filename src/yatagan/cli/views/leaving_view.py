"""What is said of a batch that was left to a worker: that it goes on, and what ends it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from yatagan.background.leaving import Outlook
from yatagan.background.logout import processes_end_at_logout
from yatagan.batches.activity import Activity
from yatagan.batches.counts import BatchCounts
from yatagan.batches.states import BatchState
from yatagan.cli.terminal import terminal, text
from yatagan.cli.words.batch_words import from_to, state_words
from yatagan.cli.words.exit_status import ExitStatus
from yatagan.config.disks import in_memory
from yatagan.desk.desk import Desk
from yatagan.nodes.outlook import LoginBy

if TYPE_CHECKING:
    pass


def tell_begun(desk: Desk, outcome: BatchCounts, now: Activity, outlook: Outlook) -> None:
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
        ("restart", _at_restart(desk)),
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


def _at_restart(desk: Desk) -> str:
    if in_memory(desk.home.state):
        return f"it is lost: what it has done is noted in {desk.home.state}, which a restart empties"
    return "it then waits for you, unless you run: yatagan service install"


def left_status(now: Activity, outcome: BatchCounts) -> ExitStatus:
    """What a command ends with that has left a batch to a worker."""
    if now.state is BatchState.NEEDS_LOGIN:
        return ExitStatus.NO_LOGIN
    if now.is_carried or now.state is BatchState.QUEUED or outcome.good:
        return ExitStatus.GOOD
    return ExitStatus.DIFFERENCES
