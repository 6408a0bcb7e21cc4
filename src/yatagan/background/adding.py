"""Adding a routine: a request that workers meet again and again."""

from __future__ import annotations

import os
import re

from yatagan.background.routines import Routine, RoutineBook
from yatagan.background.schedules import Schedule
from yatagan.background.starting import start_worker
from yatagan.batches.moments import Moment
from yatagan.config.project import Dataset, Towards
from yatagan.desk.desk import Desk
from yatagan.operations.compare_places import CompareRequest
from yatagan.operations.request_json import Request
from yatagan.operations.stage_request import DatasetStageRequest, StageRequest
from yatagan.operations.verify_request import VerifyRequest
from yatagan.places import Place
from yatagan.request_errors import BadRoutine, WrongRoutine
from yatagan.trees.patterns import split_at_pattern

_NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9_-]{0,31}")


def add_routine(
    desk: Desk,
    name: str,
    request: Request,
    schedule: Schedule,
    *,
    words: tuple[str, ...] = (),
    until: float = 0.0,
    settles: float = 0.0,
) -> Routine:
    """Have a request met again and again by workers of this machine; the first time is now.

    Relative places stay relative to the directory of the desk. `words`: what was typed for it. `until`: no longer than
    this, in seconds since the epoch; 0 for no end. `settles`: for how many seconds what has changed must have been left
    alone before a run on a change. Raises BadRoutine, BadProject, JournalError.
    """
    if not _NAME.fullmatch(name):
        raise BadRoutine(WrongRoutine.NAME, name)
    book = RoutineBook.of(desk.home)
    if any(routine.name == name for routine in book.all()):
        raise BadRoutine(WrongRoutine.TAKEN, name)
    now = Moment.now()
    routine = Routine(
        name,
        words,
        os.fsdecode(desk.directory or b"/"),
        schedule,
        until,
        now.wall,
        due=now.wall,
        sources=followed(desk, request),
        settles=settles,
        since=now,
        request=request,
    )
    book.put(routine)
    start_worker(desk.home)
    return routine


def followed(desk: Desk, request: Request) -> tuple[str, ...]:
    """What of this machine a request reads, absolute; "" for what is on a node."""
    base = os.fsdecode(desk.directory or b"/")
    # Of a pattern the directory above it is followed.
    return tuple(
        "" if each.node else os.path.normpath(os.path.join(base, os.fsdecode(split_at_pattern(each.path)[0])))
        for each in _read(desk, request)
    )


def _read(desk: Desk, request: Request) -> tuple[Place, ...]:
    match request:
        case StageRequest():
            return request.sources
        case DatasetStageRequest():
            dataset = desk.project().dataset(request.dataset)
            carried = (request.towards or dataset.towards) is Towards.THERE
            return (_end(dataset, Towards.HERE if carried else Towards.THERE),)
        case VerifyRequest() if request.dataset:
            dataset = desk.project().dataset(request.dataset)
            return (_end(dataset, request.side or dataset.towards),)
        case VerifyRequest():
            return (request.place,) if request.place is not None else ()
        case CompareRequest():
            return request.first, request.second
        case _:
            return (request.place,)


def _end(dataset: Dataset, side: Towards) -> Place:
    return Place("", dataset.here) if side is Towards.HERE else dataset.there
