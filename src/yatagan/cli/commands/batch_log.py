"""`yatagan batch log`: what happened to a batch, as a story."""

from __future__ import annotations

import json
import os
import time
from collections.abc import Iterable, Iterator
from datetime import datetime
from typing import Any

import click

from yatagan.batches import log_events as log
from yatagan.batches.activity import Activity
from yatagan.batches.batch_store import Batch, Batches
from yatagan.batches.queueing import WaitsFor
from yatagan.batches.states import BatchState
from yatagan.cli import shell_completion
from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.context import App, as_json
from yatagan.cli.terminal import terminal, text
from yatagan.cli.words import fault_words
from yatagan.cli.words.batch_words import by_itself
from yatagan.engine.run_log import read_log
from yatagan.faults import Fault

#: Seconds between looks at a log that is followed.
_LOOK = 0.5


@click.command(
    "log",
    epilog="""\b
Examples:
  yatagan batch log k7qd
  yatagan batch log k7qd --follow""",
)
@click.argument("id", required=False, shell_complete=shell_completion.batches)
@click.option("--follow", is_flag=True, help="Go on telling until the batch does nothing more by itself, or Ctrl-C.")
@as_json
def log_command(id: str | None, follow: bool, json_: bool) -> None:
    """Tell what happened to a batch, without ID to the newest: oldest first, a line for each event.

    Kept are the last 3 MB.
    """
    if follow and json_:
        raise click.UsageError("--json answers once; without it, --follow goes on", click.get_current_context())
    app = App.start()
    batch = Batches(app.home.batches).find(id)
    lines = list(read_log(batch))
    if json_:
        say_json({"batch": batch.name, "log": lines})
    elif not follow:
        text.paged(list(told(lines)) or ["Nothing has happened to it yet."])
    else:
        _follow(app, batch, lines)


def _follow(app: App, batch: Batch, lines: list[dict[str, Any]]) -> None:
    """Tell what is there, then what comes."""
    story = _Story()
    for line in lines:
        _say(story, line)
    seen = len(lines)
    while True:
        now = _now(app, batch)  # before the log is read, so that its last line is shown
        lines = list(read_log(batch))
        for line in lines[seen:] if len(lines) >= seen else lines:
            _say(story, line)
        seen = len(lines)
        if not by_itself(now):
            return
        time.sleep(_LOOK)


def _say(story: _Story, line: dict[str, Any]) -> None:
    for each in story.tell(line):
        terminal.say(each)


def _now(app: App, batch: Batch) -> Activity:
    journal = batch.journal()
    try:
        return app.activities().of(batch, journal.standing().state)
    finally:
        journal.close()


def told(lines: Iterable[dict[str, Any]]) -> Iterator[str]:
    """The story of these lines."""
    story = _Story()
    for line in lines:
        yield from story.tell(line)


class _Story:
    """Tells one event after the other; a new day is named once."""

    def __init__(self) -> None:
        self._day = ""

    def tell(self, line: dict[str, Any]) -> Iterator[str]:
        """The lines for an event. What makes no sense is shown as it stands."""
        try:
            then = datetime.fromisoformat(line["time"]).astimezone()
            day, clock = then.strftime("%A, %Y-%m-%d"), then.strftime("%H:%M:%S")
        except (KeyError, ValueError, TypeError):
            day, clock = self._day, "        "
        event = log.read_event(line)
        words, tone = _words(event) if event is not None else (text.show(json.dumps(line)), None)
        if day != self._day:
            self._day = day
            yield terminal.style(day, bold=True)
        yield f"{terminal.style(clock, dim=True)}  {text.tinted(words, tone) if tone is not None else words}"


def _words(event: log.LogEvent) -> tuple[str, text.Tone | None]:
    """What happened, in a clause, and its tone."""
    match event:
        case log.LogAccepted(files, size):
            return f"accepted: {text.count(files, 'file')}, {text.size(size)}", None
        case log.LogQueued():
            return "put into the queue, to be carried in the background", None
        case log.LogBegun(process, host):
            return f"process {process} on {text.show(host)} carries it", None
        case log.LogConnected(again):
            return "the connection is back" if again else "connected", text.Tone.GOOD
        case log.LogConnectionLost(reason, said, wait):
            why = text.show(said) or _why(reason) or "the connection was lost"
            return f"{why}; trying again {f'in {text.duration(wait)}' if wait >= 0.05 else 'now'}", text.Tone.WARNING
        case log.LogNoAnswer(node):
            return f"{text.show(node) or 'the disk'} does not answer", text.Tone.WARNING
        case log.LogAnswersAgain(node):
            return f"{text.show(node) or 'the disk'} answers again", text.Tone.GOOD
        case log.LogPostponed(_, reason, path):
            return f"{text.show(path)}: {_why(reason)}; trying it again", text.Tone.WARNING
        case log.LogFailed(_, path, reason, detail):
            return f"{text.show(path)} failed: {_why(reason, detail)}", text.Tone.TROUBLE
        case log.LogNote(reason, path, detail):
            return f"{text.show(path)}: {_why(reason, detail)}", text.Tone.WARNING
        case log.LogLooked():
            return _looked(event)
        case log.LogProgress():
            return f"{_counts(event)} so far", None
        case log.LogWaits():
            return _waits(event)
        case log.LogEnded():
            return _ended(event)
        case log.LogNotice():
            return _notice(event)
        case log.LogHeld(by):
            return f"held by {text.show(by)}", text.Tone.WARNING
        case log.LogCancelled(by):
            return f"cancelled by {text.show(by)}", text.Tone.WARNING


def _why(reason: Fault | None, detail: str = "") -> str:
    return fault_words.fault(reason, detail) if reason is not None else ""


def _looked(event: log.LogLooked) -> tuple[str, text.Tone | None]:
    """What came of a last look."""
    parts = [f"{text.number(event.gone)} gone, and to be carried again"] if event.gone else []
    parts += [f"{text.number(event.changed)} changed there"] if event.changed else []
    looked = f"looked at what is there: of {text.count(event.looked_at, 'name')}"
    return f"{looked} {' and '.join(parts)}", text.Tone.WARNING


def _counts(event: log.LogProgress | log.LogEnded) -> str:
    return f"{text.count(event.settled_steps, 'step')} done, {text.size(event.sent_bytes)} sent"


def _notice(event: log.LogNotice) -> tuple[str, text.Tone | None]:
    way = f"notice by {text.show(event.way)}"
    if not event.why_not:
        return f"{way}: {text.show(event.subject)}", None
    return f"{way} could not be sent: {text.show(event.why_not)}", text.Tone.WARNING


def _waits(event: log.LogWaits) -> tuple[str, text.Tone | None]:
    match event.waits_for:
        case WaitsFor.LOGIN:
            return "waits in the queue until you log in", text.Tone.WARNING
        case WaitsFor.CONNECTION if event.retry_seconds:
            wait = text.about(event.retry_seconds)
            return f"waits in the queue, and is tried again in {wait}", text.Tone.WARNING
        case _:
            return "waits in the queue for the next worker", None


def _ended(event: log.LogEnded) -> tuple[str, text.Tone | None]:
    why = _why(event.reason, event.detail)
    detail = f" ({why})" if why else ""
    if os.path.isabs(event.detail):
        detail = f" ({text.show(event.detail)}: {why})"
    words = f"{event.state.value}{detail}; in this run {_counts(event)}"
    return words, text.Tone.GOOD if event.state is BatchState.FINISHED and not why else text.Tone.WARNING
