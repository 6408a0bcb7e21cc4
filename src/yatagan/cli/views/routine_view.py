"""Routines and their runs, drawn."""

from __future__ import annotations

import sys
import time

from yatagan.background.following import why_not_followed
from yatagan.background.routine_decisions import due_at
from yatagan.background.routines import Routine, Run, RunOutcome
from yatagan.background.schedules import OnChange
from yatagan.batches.moments import Moment
from yatagan.cli.answers.json_fields import seconds_at
from yatagan.cli.terminal import terminal, text
from yatagan.cli.views.strip_view import is_plain
from yatagan.config.units import spell_duration
from yatagan.operations.request_json import command_of, spelled

#: Runs that are drawn, and those that are listed one by one.
DRAWN, LISTED = 30, 10


#: How the runs look: shape, the same in ASCII, colour.
_LOOKS = {
    RunOutcome.MOVED: ("█", "#", text.Tone.GOOD),
    RunOutcome.NOTHING_NEW: ("·", ".", None),
    RunOutcome.GOOD: ("█", "#", text.Tone.GOOD),
    RunOutcome.NOT_GOOD: ("×", "x", text.Tone.TROUBLE),
    RunOutcome.FAILED: ("×", "x", text.Tone.TROUBLE),
    RunOutcome.BROKEN_OFF: ("‡", "!", text.Tone.WARNING),
    RunOutcome.RUNNING: ("▒", "=", None),
}


_LEFT_OUT = ("–", "-", text.Tone.WARNING)


def follows(routine: Routine) -> str:
    """What is to be said of a routine that runs on a change, where changes cannot be followed."""
    if not isinstance(routine.schedule, OnChange):
        return ""
    why = why_not_followed(routine.sources)
    return f"{why}, so there is a look every {spell_duration(routine.schedule.looks)}" if why else ""


def state_of(routine: Routine) -> str:
    """How it stands."""
    if routine.held:
        return "held"
    if routine.until and time.time() > routine.until:
        return "over"
    return "trouble" if routine.trouble else "active"


def due_next(routine: Routine) -> float:
    """When a routine is due next, as the clocks are now."""
    return due_at(routine.standing, Moment.now())


def asked_for(routine: Routine) -> str:
    """What it asks for, as it was typed, or would be."""
    if routine.request is None:
        return text.typed(("stage", *routine.words))
    return text.typed((command_of(routine.request), *(routine.words or spelled(routine.request))))


def last_run(runs: list[Run]) -> str:
    """When it ran last, and what that came to."""
    if not runs:
        return "never"
    return f"{text.ago(seconds_at(runs[-1].began) or '')}, {runs[-1].outcome.value}"


def what_came(run: Run) -> str:
    """What a run came to, besides its outcome."""
    parts = []
    if run.files:
        parts.append(f"{text.count(run.files, 'file')}, {text.size(run.size)}")
    if run.detail:
        parts.append(text.show(run.detail))
    if run.left_out:
        parts.append(f"{text.count(run.left_out, 'run')} left out meanwhile")
    if run.batch:
        parts.append(f"batch {run.batch}")
    return "; ".join(parts)


def drawn_runs(runs: list[Run]) -> str:
    """The runs as a line, oldest first, with those that were left out."""
    plain = is_plain(sys.stdout)
    cells = []
    for run in runs:
        cells += [_LOOKS[run.outcome], *[_LEFT_OUT] * min(run.left_out, 3)]
    drawn = (
        terminal.style(ascii_ if plain else shape, fg=int(tone) if tone else None) for shape, ascii_, tone in cells
    )
    return "".join(list(drawn)[-DRAWN:])


def runs_legend(runs: list[Run]) -> str:
    """What the signs of its runs mean."""
    plain = is_plain(sys.stdout)
    found = [(look, outcome.value) for outcome, look in _LOOKS.items() if any(run.outcome is outcome for run in runs)]
    if any(run.left_out for run in runs):
        found.append((_LEFT_OUT, "left out"))
    return "  ".join(f"{look[1] if plain else look[0]} {name}" for look, name in found)
