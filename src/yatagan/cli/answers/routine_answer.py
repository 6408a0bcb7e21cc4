"""Routines and their runs, for scripts."""

from __future__ import annotations

from yatagan.background.routine_decisions import due_at
from yatagan.background.routines import Routine, Run
from yatagan.batches.moments import Moment
from yatagan.cli.answers.json_fields import seconds_at
from yatagan.operations.request_json import command_of


def run_json(run: Run) -> dict[str, object]:
    """A run of a routine."""
    return {
        "began_at": seconds_at(run.began),
        "ended_at": seconds_at(run.ended) if run.ended else None,
        "outcome": run.outcome.value,
        "batch": run.batch or None,
        "files": run.files,
        "size_bytes": run.size,
        "detail": run.detail,
        "left_out": run.left_out,
    }


def routine_json(routine: Routine, runs: list[Run]) -> dict[str, object]:
    """A routine, with some of its runs."""
    return {
        "routine": routine.name,
        "command": command_of(routine.request) if routine.request is not None else "stage",
        "words": list(routine.words),
        "directory": routine.directory,
        "schedule": str(routine.schedule),
        "until_at": seconds_at(routine.until) if routine.until else None,
        "held": routine.held,
        "due_at": seconds_at(due_at(routine.standing, Moment.now())),
        "trouble": routine.trouble or None,
        "runs": [run_json(run) for run in runs],
    }
