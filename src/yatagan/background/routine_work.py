"""One run of a routine: a request that is met in a process of its own, given in a file and answered in another.

So a slow or broken plan takes no worker along.
"""

from __future__ import annotations

import asyncio
import contextlib
import dataclasses
import json
import os
import signal
import sys
from pathlib import Path
from typing import Any

from yatagan.background.leaving import leave_to_worker, prepare_logins
from yatagan.background.routine_runs import Ended, Planned
from yatagan.background.routines import Routine
from yatagan.batches.batch_store import Batches
from yatagan.batches.counts import outcome_of
from yatagan.batches.states import BatchState
from yatagan.config.guarded_files import parse_json, read_small
from yatagan.config.home import Home
from yatagan.config.own_files import make_private, replace_file
from yatagan.desk.desk import Desk
from yatagan.errors import JournalError, NoSuchBatch, YataganError
from yatagan.operations.bagging import BagChecked, bag_asked_for, verify_bag
from yatagan.operations.checksums import make_list
from yatagan.operations.compare_places import CompareRequest, compare
from yatagan.operations.datasets import stage_of_dataset
from yatagan.operations.request_json import Request, command_of, read_request, write_request
from yatagan.operations.stage import PlannedStage, plan_stage
from yatagan.operations.stage_request import DatasetStageRequest, StageRequest
from yatagan.operations.verify import verify
from yatagan.operations.verify_request import Verified, VerifyRequest
from yatagan.spelling import count as counted
from yatagan.verdicts.verification import Finding

#: Seconds that planning may take: a tree of millions on a slow disk.
_PLANNING = 4 * 3600.0
#: What is wrong, as it is counted in a verdict.
_WRONG = (Finding.DIFFERENT, Finding.MISSING, Finding.MOVED, Finding.UNREADABLE, Finding.FACTS_DIFFER)


# -- in a worker -----------------------------------------------------------------------------------------


async def meet(home: Home, routine: Routine) -> Planned:
    """Meet a routine's request in another process. Never raises; what goes wrong is the failure of the run."""
    if not os.path.isdir(routine.directory):
        return Planned(failure=f"{routine.directory} is not there")
    if routine.request is None:
        return Planned(failure="an earlier version has added it: remove it and add it again")
    asked, answer = (home.routine_runs / f"{routine.name}.{each}" for each in ("asked", "answer"))
    typed = (command_of(routine.request), *routine.words) if routine.words else ()
    work = {"routine": routine.name, "words": typed, "request": write_request(routine.request)}
    try:
        make_private(home.routine_runs)
        replace_file(asked, json.dumps(work).encode(), durable=False)
        answer.unlink(missing_ok=True)
        trouble = await _run([str(asked), str(answer)], routine.directory)
        return _read_answer(answer, trouble)
    except TimeoutError:
        return Planned(failure=f"planning has taken more than {_PLANNING / 3600:.0f} h")
    except OSError as error:
        return Planned(failure=f"it cannot be started: {error.strerror}")
    finally:
        for each in (asked, answer):
            with contextlib.suppress(OSError):
                each.unlink()


async def _run(files: list[str], directory: str) -> bytes:
    """Run such a process. Returns what it has complained of. Raises OSError, TimeoutError."""
    process = await asyncio.create_subprocess_exec(
        *(sys.executable, "-P", "-m", "yatagan.cli.routine_process", *files),
        stdin=asyncio.subprocess.DEVNULL,
        stdout=asyncio.subprocess.DEVNULL,
        stderr=asyncio.subprocess.PIPE,
        cwd=directory,
        start_new_session=True,
    )
    try:
        async with asyncio.timeout(_PLANNING):
            _, trouble = await process.communicate()
    finally:
        with contextlib.suppress(ProcessLookupError):
            os.killpg(process.pid, signal.SIGKILL)
    return trouble


def _read_answer(file: Path, trouble: bytes) -> Planned:
    try:
        answer: dict[str, Any] = parse_json(read_small(file, ours=True))
        verdict = answer.pop("verdict")
        return Planned(**answer, verdict=Ended(**verdict) if verdict is not None else None)
    except (OSError, ValueError, TypeError, YataganError):
        last = trouble.decode("utf-8", "replace").strip().rpartition("\n")[2]
        return Planned(failure=last or "it ended without an answer")


# -- in that process -------------------------------------------------------------------------------------


@dataclasses.dataclass(frozen=True, slots=True)
class Work:
    """What a run is to do: for which routine, what was typed for that, and the request."""

    routine: str
    words: tuple[str, ...]
    request: Request


def read_work(file: Path) -> Work:
    """What such a process is given. Raises OSError, ValueError."""
    given = parse_json(read_small(file, ours=True))
    return Work(str(given["routine"]), tuple(map(str, given["words"])), read_request(given["request"]))


def write_answer(file: Path, answer: Planned) -> None:
    """What it answers. Raises OSError."""
    replace_file(file, json.dumps(dataclasses.asdict(answer)).encode(), durable=False)


async def work_off(desk: Desk, work: Work) -> Planned:
    """Meet a request; what is to be carried is left to a worker. Raises what the operation does."""
    match work.request:
        case StageRequest() as request:
            return await _stage(desk, work.routine, request)
        case DatasetStageRequest() as request:
            return await _stage(desk, work.routine, stage_of_dataset(desk, desk.project(), request))
        case VerifyRequest() as request:
            bag = bag_asked_for(desk, request)
            if bag is not None:
                return Planned(verdict=_bag_verdict(await verify_bag(desk, bag)))
            return Planned(verdict=_verdict(await verify(desk, request)))
        case CompareRequest() as request:
            found = (await compare(desk, request)).comparison
            wrong = "" if found.same else f"{counted(len(found.entries), 'entry', 'entries')} not the same"
            return Planned(verdict=Ended(0, 0, wrong))
        case request:
            made = await make_list(desk, request)
            return Planned(verdict=Ended(made.files, made.size, "" if made.outcome == "good" else made.outcome))


def _verdict(found: Verified) -> Ended:
    counts = [(found.verdicts.count(each), each.value) for each in _WRONG]
    wrong = ", ".join(f"{count} {what}" for count, what in counts if count)
    return Ended(found.verdicts.files, found.verdicts.size, "" if found.good else wrong or "not good")


def _bag_verdict(found: BagChecked) -> Ended:
    verdict = found.verdict
    wrong = "" if verdict.valid else f"no valid bag, {counted(len(verdict.problems), 'problem')}"
    return Ended(verdict.files, verdict.size, wrong)


async def _stage(desk: Desk, routine: str, request: StageRequest) -> Planned:
    await prepare_logins(desk, (request.source_node, request.destination.node))
    async with plan_stage(desk, request, noted=False, by_itself=True) as planned:
        unsettled, missed = len(planned.plan.unsettled), _missed(planned)
        if not planned.anything:
            planned.record_gone()
            return Planned(newer=planned.plan.summary.newer, unsettled=unsettled, missed=missed)
        accepted = await planned.accept()
    async with accepted:
        leave_to_worker(desk, accepted.batch, accepted.journal, routine)
    return Planned(accepted.name, unsettled=unsettled, missed=missed)


def _missed(planned: PlannedStage) -> str:
    """What is gone from the source and stays on record; "" for nothing."""
    gone = planned.gone
    if gone is None or planned.gone_accepted:
        return ""
    what = counted(gone.files, "file")
    return f"{what} staged on {gone.recorded_at[:10]} or before are gone from the source; they stay on record"


# -- afterwards ------------------------------------------------------------------------------------------


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
