"""Yatagan stages datasets between a workstation and cluster transfer nodes.

What a notebook or a program needs is here; each name is imported when it is first used.
"""

from __future__ import annotations

import importlib
from typing import TYPE_CHECKING

from yatagan.version import __version__ as __version__

if TYPE_CHECKING:
    from yatagan.background.adding import add_routine
    from yatagan.background.schedules import DailyAt, Every, OnChange
    from yatagan.batches.counts import BatchCounts
    from yatagan.batches.states import BatchState
    from yatagan.batches.steps import Modes, Prove, Times
    from yatagan.config.project import By, StoredAs, Towards
    from yatagan.desk.desk import Desk
    from yatagan.desk.opening import open_desk
    from yatagan.desk.questions import Questions
    from yatagan.errors import YataganError
    from yatagan.operations.accepted_batch import AcceptedBatch
    from yatagan.operations.checksums import ListMade, ListRequest, make_list
    from yatagan.operations.compare_places import CompareRequest, SideBySide, compare
    from yatagan.operations.restore import RestoreRequest, find_lost, wanted_trees
    from yatagan.operations.resume import ResumeRequest, resume
    from yatagan.operations.stage import PlannedStage, plan_stage
    from yatagan.operations.stage_request import IfNewer, Pack, StageRequest
    from yatagan.operations.verify import verify
    from yatagan.operations.verify_request import Verified, VerifyRequest
    from yatagan.operations.watching import Watcher
    from yatagan.places import Place
    from yatagan.trees.patterns import Choice

__all__ = [
    "AcceptedBatch",
    "BatchCounts",
    "BatchState",
    "By",
    "Choice",
    "CompareRequest",
    "DailyAt",
    "Desk",
    "Every",
    "IfNewer",
    "ListMade",
    "ListRequest",
    "Modes",
    "OnChange",
    "Pack",
    "Place",
    "PlannedStage",
    "Prove",
    "Questions",
    "RestoreRequest",
    "ResumeRequest",
    "SideBySide",
    "StageRequest",
    "StoredAs",
    "Times",
    "Towards",
    "Verified",
    "VerifyRequest",
    "Watcher",
    "YataganError",
    "add_routine",
    "compare",
    "find_lost",
    "make_list",
    "open_desk",
    "plan_stage",
    "resume",
    "verify",
    "wanted_trees",
]

_ROOMS = {
    "background.adding": ("add_routine",),
    "background.schedules": (
        "DailyAt",
        "Every",
        "OnChange",
    ),
    "batches.counts": ("BatchCounts",),
    "batches.states": ("BatchState",),
    "batches.steps": (
        "Modes",
        "Prove",
        "Times",
    ),
    "config.project": ("By", "StoredAs", "Towards"),
    "desk.desk": ("Desk",),
    "desk.opening": ("open_desk",),
    "desk.questions": ("Questions",),
    "errors": ("YataganError",),
    "operations.accepted_batch": ("AcceptedBatch",),
    "operations.checksums": (
        "ListMade",
        "ListRequest",
        "make_list",
    ),
    "operations.compare_places": (
        "CompareRequest",
        "SideBySide",
        "compare",
    ),
    "operations.restore": (
        "RestoreRequest",
        "find_lost",
        "wanted_trees",
    ),
    "operations.resume": ("ResumeRequest", "resume"),
    "operations.stage": (
        "PlannedStage",
        "plan_stage",
    ),
    "operations.stage_request": (
        "By",
        "IfNewer",
        "Pack",
        "StageRequest",
        "StoredAs",
    ),
    "operations.verify": ("verify",),
    "operations.verify_request": (
        "Verified",
        "VerifyRequest",
    ),
    "operations.watching": ("Watcher",),
    "places": ("Place",),
    "trees.patterns": ("Choice",),
}
_WHERE = {name: f"yatagan.{room}" for room, names in _ROOMS.items() for name in names}


def __getattr__(name: str) -> object:
    if name not in _WHERE:
        raise AttributeError(f"module 'yatagan' has no attribute {name!r}")
    globals()[name] = found = getattr(importlib.import_module(_WHERE[name]), name)
    return found
