"""One run of a routine in earnest: a stage of its own process, whose batch is left to a worker."""

from __future__ import annotations

import asyncio
import contextlib
import os
import signal
import sys
from typing import Any

from yatagan.background.routine_runs import Ended, Planned
from yatagan.background.routines import Routine
from yatagan.batches.batch_store import Batches
from yatagan.batches.counts import outcome_of
from yatagan.batches.states import BatchState
from yatagan.config.guarded_files import parse_json
from yatagan.config.home import Home
from yatagan.errors import JournalError, NoSuchBatch
from yatagan.spelling import count as counted

#: Seconds that planning may take: a tree of millions on a slow disk.
_PLANNING = 4 * 3600.0


async def stage(routine: Routine) -> Planned:
    """Plan a run, and leave its batch to a worker. Never raises; what goes wrong is the failure of the run."""
    if not os.path.isdir(routine.directory):
        return Planned(failure=f"{routine.directory} is not there")
    command = [sys.executable, "-P", "-m", "yatagan", "stage", *routine.words]
    command += ["--background", "--no-questions", "--json", "--routine", routine.name]
    try:
        process = await asyncio.create_subprocess_exec(
            *command,
            stdin=asyncio.subprocess.DEVNULL,
            stdout=asyncio.subprocess.PIPE,
            stderr=asyncio.subprocess.PIPE,
            cwd=routine.directory,
            start_new_session=True,
        )
    except OSError as error:
        return Planned(failure=f"it cannot be started: {error.strerror}")
    try:
        async with asyncio.timeout(_PLANNING):
            out, trouble = await process.communicate()
    except TimeoutError:
        return Planned(failure=f"planning has taken more than {_PLANNING / 3600:.0f} h")
    finally:
        with contextlib.suppress(ProcessLookupError):
            os.killpg(process.pid, signal.SIGKILL)
    return _planned(out, trouble)


def _planned(out: bytes, trouble: bytes) -> Planned:
    """What a stage has answered."""
    try:
        answer: dict[str, Any] = parse_json(out)
    except ValueError:
        last = trouble.decode("utf-8", "replace").strip().rpartition("\n")[2]
        return Planned(failure=last or "it ended without an answer")
    if "error" in answer:
        return Planned(failure=str(answer["error"].get("message", "")) or "it failed")
    batch, plan = answer.get("batch"), answer.get("plan") or {}
    unsettled = len(plan.get("still_written", ()))
    missed = _missed(plan.get("gone") or {})
    if batch is not None:
        return Planned(str(batch["batch"]), unsettled=unsettled, missed=missed)
    return Planned(newer=int(plan.get("newer_there", 0)), unsettled=unsettled, missed=missed)


def _missed(gone: dict[str, Any]) -> str:
    """What is gone from the source and stays on record; "" for nothing."""
    if not gone or gone["on_record"]:
        return ""
    what = counted(int(gone["files"]), "file")
    return f"{what} staged on {str(gone['recorded_at'])[:10]} or before are gone from the source; they stay on record"


def batch_ended(home: Home, name: str) -> Ended | None:
    """What became of a run's batch; None while it goes on, or will by itself."""
    try:
        batch = Batches(home.batches).get(name)
        with contextlib.closing(batch.journal()) as journal:
            outcome = outcome_of(journal)
    except NoSuchBatch:
        return Ended(0, 0, f"batch {name} is forgotten")
    except JournalError as error:
        return Ended(0, 0, f"batch {name} cannot be read: {error.detail}")
    state = outcome.standing.state
    failure = ""
    match state:
        case BatchState.FINISHED if outcome.failed:
            failure = f"batch {name}: {outcome.failed} failed"
        case BatchState.FINISHED if outcome.newer:
            failure = f"{outcome.newer} newer there"
        case BatchState.FINISHED:
            pass
        case BatchState.HELD | BatchState.NEEDS_LOGIN | BatchState.CANCELLED | BatchState.INTERRUPTED:
            failure = f"batch {name} is {state.value}"
        case _:
            return None
    return Ended(outcome.moved, outcome.moved_size, failure)
