"""In which form a command says what it does: in words, not at all, as one JSON object, or as lines of JSON."""

from __future__ import annotations

import time
from collections.abc import Mapping
from enum import StrEnum
from typing import Any

import click

from yatagan.batches import events as ev
from yatagan.cli.answers.json_answer import JSON_FORMAT
from yatagan.cli.answers.json_fields import evidence_json, left_json
from yatagan.cli.terminal import terminal
from yatagan.cli.terminal.text import timestamp
from yatagan.cli.views.progress import Progress
from yatagan.cli.views.progress_view import Repeating
from yatagan.cli.words import fault_words, messages
from yatagan.places import name_fields


class Report(StrEnum):
    """The form of a command's answer."""

    WORDS = "words"
    QUIET = "quiet"
    JSON = "json"
    JSON_LINES = "json-lines"

    @classmethod
    def chosen(cls, *, quiet: bool, json_: bool, lines: bool) -> Report:
        """The form that options ask for. Raises UsageError for two at once."""
        if json_ and lines:
            raise click.UsageError("--json and --json-lines are two forms of one answer", click.get_current_context())
        return cls.JSON_LINES if lines else cls.JSON if json_ else cls.QUIET if quiet else cls.WORDS

    @property
    def in_words(self) -> bool:
        """Whether there is anything to read for a person."""
        return self is Report.WORDS

    @property
    def for_scripts(self) -> bool:
        """Whether standard output is JSON."""
        return self in (Report.JSON, Report.JSON_LINES)


json_lines = click.option(
    "--json-lines", "lines", is_flag=True, help="Write what happens while it moves, a JSON object a line."
)


def say_event(event: str, fields: Mapping[str, Any]) -> None:
    """Write one line of JSON to standard output."""
    line = {"format": JSON_FORMAT, "event": event, "event_at": timestamp(time.time_ns()), **fields}
    terminal.say_json(line, indent=None)


class EventLines(Repeating):
    """A view that writes a JSON line for each event, and every second how far it is; see `View`."""

    seconds = 1.0

    def __init__(self, progress: Progress) -> None:
        self._progress = progress

    def take(self, event: ev.Event) -> None:
        self._progress.take(event)
        if (line := _line(event)) is not None:
            say_event(*line)

    def say(self, line: str) -> None:
        say_event("note", {"message": line})

    def again(self) -> None:
        progress = self._progress
        left = progress.left
        fields = {
            "files": progress.files,
            "files_done": progress.files_done,
            "size_bytes": progress.size,
            "done_bytes": progress.size_done,
            "rate_bytes_per_second": round(progress.bytes_per_second),
            **left_json(left),
        }
        say_event("progress", fields)

    async def __aexit__(self, *args: object) -> None:
        """The last line is of the end."""
        await super().__aexit__(*args)
        self.again()


def _line(event: ev.Event) -> tuple[str, dict[str, Any]] | None:
    """The name and the fields of an event that is written as a line."""
    match event:
        case ev.ConnectionOpened(again):
            return "connected", {"again": again}
        case ev.RetryWaiting(seconds, fault, error):
            why = messages.explain(error).message if error is not None else fault_words.fault(fault) if fault else ""
            return "connection-lost", {"reason": fault, "message": why, "retry_seconds": round(seconds, 1)}
        case ev.Quiet(node, seconds):
            return "no-answer", {"node": node, "quiet_seconds": round(seconds, 1)}
        case ev.StepStarted(number, kind, label, size, done):
            fields = {"step": number, "kind": kind.value, "size_bytes": size, "done_bytes": done}
            return "started", {**fields, **name_fields(label)}
        case ev.StepPostponed(number, label, fault):
            return "postponed", {"step": number, "reason": fault, **name_fields(label)}
        case ev.StepSettled(number, kind, label, size, state, evidence, fault, detail):
            fields = {"step": number, "kind": kind.value, "size_bytes": size, "state": state.value}
            known = evidence_json({evidence: 1} if evidence is not None else {})
            return "settled", {**fields, "reason": fault, "detail": detail, "evidence": known, **name_fields(label)}
        case ev.Note(label, fault, detail):
            return "note", {"message": fault_words.fault(fault, detail), **name_fields(label)}
        case _:
            return None
