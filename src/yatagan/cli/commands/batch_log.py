"""`yatagan batch log`: what happened to a batch, as a story."""

from __future__ import annotations

import json
import os
import time
from collections.abc import Iterator
from datetime import datetime
from typing import Any

import click

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
from yatagan.places import name_from

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
        text.paged(list(_told(lines)) or ["Nothing has happened to it yet."])
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
    for told in story.tell(line):
        terminal.say(told)


def _now(app: App, batch: Batch) -> Activity:
    journal = batch.journal()
    try:
        return app.activities().of(batch, journal.standing().state)
    finally:
        journal.close()


def _told(lines: list[dict[str, Any]]) -> Iterator[str]:
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
            words, tone = _words(line)
        except (KeyError, ValueError, TypeError):
            day, clock, words, tone = self._day, "        ", text.show(json.dumps(line)), None
        if day != self._day:
            self._day = day
            yield terminal.style(day, bold=True)
        yield f"{terminal.style(clock, dim=True)}  {text.tinted(words, tone) if tone is not None else words}"


def _words(line: dict[str, Any]) -> tuple[str, text.Tone | None]:
    """What happened, in a clause, and its tone."""
    fault = Fault(line["fault"]) if line.get("fault") else None
    detail = str(line.get("detail", ""))
    why = fault_words.fault(fault, detail) if fault is not None else ""
    match line["event"]:
        case "accepted":
            return f"accepted: {text.count(int(line['files']), 'file')}, {text.size(int(line['size_bytes']))}", None
        case "queued":
            return "put into the queue, to be carried in the background", None
        case "begun":
            return f"process {line['process']} on {text.show(str(line['host']))} carries it", None
        case "connected":
            return "the connection is back" if line.get("again") else "connected", text.Tone.GOOD
        case "connection lost":
            said = text.show(str(line.get("said", ""))) or why or "the connection was lost"
            wait = float(line.get("retry_seconds", 0))
            return f"{said}; trying again {f'in {text.duration(wait)}' if wait >= 0.05 else 'now'}", text.Tone.WARNING
        case "no answer":
            return f"{text.show(str(line['node'])) or 'the disk'} does not answer", text.Tone.WARNING
        case "answers again":
            return f"{text.show(str(line['node'])) or 'the disk'} answers again", text.Tone.GOOD
        case "step postponed":
            return f"{text.show(name_from(line))}: {why}; trying it again", text.Tone.WARNING
        case "step failed":
            return f"{text.show(name_from(line))} failed: {why}", text.Tone.TROUBLE
        case "note":
            return f"{text.show(name_from(line))}: {why}", text.Tone.WARNING
        case "looked again":
            return _looked(line)
        case "progress":
            return f"{_counts(line)} so far", None
        case "waits":
            return _waits(line)
        case "ended":
            return _ended(line, why)
        case "notice":
            return _notice(line)
        case "held" | "cancelled":
            return f"{line['event']} by {text.show(str(line['by']))}", text.Tone.WARNING
        case other:
            return text.show(str(other)), None


def _looked(line: dict[str, Any]) -> tuple[str, text.Tone | None]:
    """What came of a last look."""
    gone, changed = int(line.get("gone", 0)), int(line.get("changed", 0))
    parts = [f"{text.number(gone)} gone, and to be carried again"] if gone else []
    parts += [f"{text.number(changed)} changed there"] if changed else []
    looked = f"looked at what is there: of {text.count(int(line['looked_at']), 'name')}"
    return f"{looked} {' and '.join(parts)}", text.Tone.WARNING


def _counts(line: dict[str, Any]) -> str:
    settled = text.count(int(line.get("settled_steps", 0)), "step")
    return f"{settled} done, {text.size(int(line.get('sent_bytes', 0)))} sent"


def _notice(line: dict[str, Any]) -> tuple[str, text.Tone | None]:
    way = f"notice by {text.show(str(line['way']))}"
    if line.get("sent"):
        return f"{way}: {text.show(str(line.get('subject', '')))}", None
    return f"{way} could not be sent: {text.show(str(line.get('why_not', '')))}", text.Tone.WARNING


def _waits(line: dict[str, Any]) -> tuple[str, text.Tone | None]:
    match line.get("waits_for"):
        case WaitsFor.LOGIN:
            return "waits in the queue until you log in", text.Tone.WARNING
        case WaitsFor.CONNECTION if "retry_seconds" in line:
            wait = text.about(float(line["retry_seconds"]))
            return f"waits in the queue, and is tried again in {wait}", text.Tone.WARNING
        case _:
            return "waits in the queue for the next worker", None


def _ended(line: dict[str, Any], why: str) -> tuple[str, text.Tone | None]:
    state = BatchState(line["state"])
    detail = f" ({why})" if why else ""
    if os.path.isabs(str(line.get("detail", ""))):
        detail = f" ({text.show(str(line['detail']))}: {why})"
    words = f"{state.value}{detail}; in this run {_counts(line)}"
    return words, text.Tone.GOOD if state is BatchState.FINISHED and not why else text.Tone.WARNING
