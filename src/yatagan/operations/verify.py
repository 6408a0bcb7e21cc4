"""Verifying: a place against a checksum list, a batch against what it has put there, a dataset against its record."""

from __future__ import annotations

import functools
from collections.abc import Awaitable, Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

from yatagan.config.project import Dataset, StoredAs, Towards
from yatagan.desk.desk import Desk
from yatagan.ledger.ledger import OnRecord
from yatagan.ledger.records import RecordedPlace, RecordKind
from yatagan.operations.looking import Looking
from yatagan.operations.put_on_record import Done, patterns_on_record, put_on_record
from yatagan.operations.verify_known import place_of, verify_batch, verify_dataset
from yatagan.operations.verify_place import verify_place
from yatagan.operations.verify_request import Against, Verified, VerifyRequest
from yatagan.operations.watching import Unwatched, Watcher
from yatagan.places import Place
from yatagan.request_errors import BadVerify, WrongVerify
from yatagan.verdicts.on_record import verdicts_on_record
from yatagan.verdicts.scope import StillNotGood, named_on_record
from yatagan.verdicts.verification import Finding, Verdicts

#: What of a verdict is counted on record.
_COUNTED = (
    Finding.DIFFERENT,
    Finding.MISSING,
    Finding.MOVED,
    Finding.FACTS_DIFFER,
    Finding.UNREADABLE,
    Finding.NOT_LISTED,
)


@dataclass(frozen=True, slots=True)
class _Attempt:
    """How a request is met, which may be tried again, and what of it goes on record."""

    looking: Looking
    make: Callable[[], Awaitable[tuple[Verdicts, Place, Against]]]
    details: Mapping[str, str] = field(default_factory=dict)


async def verify(
    desk: Desk, request: VerifyRequest, watcher: Watcher | None = None, *, given: bytes | None = None
) -> Verified:
    """Verify, and put the verdict on record.

    `given`: the list, where the caller has read it himself. Raises BadVerify, BadList, BadProject, NotAccepted,
    NoSuchBatch, CannotReach, StoreError and others.
    """
    attempt = _attempt(desk, request, watcher or Unwatched(), given)
    verdicts, where, against = await attempt.looking.with_patience(attempt.make)
    details = {**patterns_on_record(request.choice), **attempt.details}
    record = _put_on_record(desk, where, against, verdicts, details)
    return Verified(where, against, verdicts, record, _still_not_good(desk, attempt.details, record))


def _attempt(desk: Desk, request: VerifyRequest, watcher: Watcher, given: bytes | None) -> _Attempt:
    if request.dataset:
        project = desk.project()
        dataset = project.dataset(request.dataset)
        side = side_of(request, dataset)
        if dataset.stored is StoredAs.BAG:
            raise BadVerify(WrongVerify.A_BAG, str(place_of(dataset, side)))
        looking = Looking(desk, request, place_of(dataset, side).node, watcher)
        make = functools.partial(verify_dataset, desk, project, dataset, side, request, looking, watcher)
        return _Attempt(looking, make, {"project": project.name, "dataset": dataset.name, "at": side.value})
    if request.batch:
        looking = Looking(desk, request, "", watcher)
        return _Attempt(looking, functools.partial(verify_batch, desk, request, looking))
    assert request.place is not None
    looking = Looking(desk, request, request.place.node, watcher)
    return _Attempt(looking, functools.partial(verify_place, desk, request, looking, watcher, given))


def side_of(request: VerifyRequest, dataset: Dataset) -> Towards:
    """At which of its ends a dataset is verified."""
    return request.side if request.side is not None else dataset.towards


def _still_not_good(desk: Desk, details: Mapping[str, str], record: OnRecord) -> list[StillNotGood]:
    if "dataset" not in details:
        return []
    found = verdicts_on_record(desk.ledger_to_read()).of_dataset(details["project"], details["dataset"])
    return [each for each in found if each.record.id != record.id]


def _put_on_record(
    desk: Desk, where: Place, against: Against, verdicts: Verdicts, details: Mapping[str, Any]
) -> OnRecord:
    counts = {finding.name.lower(): count for finding in _COUNTED if (count := verdicts.count(finding))}
    looked = {
        verdicts.origin.value: verdicts.files - verdicts.remembered if verdicts.contents else 0,
        "remembered": verdicts.remembered,
        "size and time": 0 if verdicts.contents else verdicts.files,
    }
    place = RecordedPlace(against.place.node, against.place.path)
    of_list = {"against": place.as_json(), "against_sha256": against.digest}
    return put_on_record(
        desk,
        Done(
            RecordKind.VERIFIED,
            "good" if verdicts.good else "facts differ" if verdicts.contents_good else "not good",
            origins=(RecordedPlace(where.node, against.root),),
            counts={"files": verdicts.files, **counts},
            size=verdicts.size,
            evidence=looked,
            details={
                **({"batch": against.batch} if against.batch else {} if against.dataset else of_list),
                **details,
                "not_good": named_on_record(verdicts),
            },
        ),
        lambda: ((line.path, line.digest) for line in against.listed if line.path),
    )
