"""What is no longer at the source: what counts as that, why a person is asked, and on which disk the source is."""

from __future__ import annotations

import asyncio
import os
from pathlib import Path
from types import SimpleNamespace
from typing import Any, cast

import pytest

from yatagan.errors import StoreError
from yatagan.faults import Fault
from yatagan.planning.gone import NoLongerThere, OnRecordBefore, WhyAsk, find_disk, find_gone
from yatagan.planning.plan import Plan
from yatagan.portable.disk_names import disk_of
from yatagan.portable.modules import DISKS
from yatagan.stores.interface import Facts, Kind, Store
from yatagan.stores.local import LocalStore
from yatagan.trees.checksum_record import Expected
from yatagan.trees.entries import Entries
from yatagan.trees.scan import Tree


class Helped:
    """A machine that knows its disks, or has a fault instead."""

    def __init__(self, fault: Fault | None = None) -> None:
        self.fault = fault

    async def run(self, modules: Any, what: str, data: bytes, request: dict[str, Any]) -> dict[str, Any]:
        assert (modules, what, request) == (DISKS, "disk", {"root": "/fen"})
        if self.fault is not None:
            raise StoreError(self.fault)
        return {"disk": "scratch"}


def disk(machine: Helped | None) -> str:
    store = SimpleNamespace(traits=SimpleNamespace(here=False), machine=machine, name="heron")
    return asyncio.run(find_disk(cast(Store, store), b"/fen"))


def test_the_disk_of_a_node_is_what_its_helper_says(tmp_path: Path) -> None:
    assert disk(Helped()) == "scratch"
    assert disk(None) == disk(Helped(Fault.DENIED)) == "", "unknown is never another"
    with pytest.raises(StoreError):
        disk(Helped(Fault.CONNECTION_LOST))
    here = os.fsencode(tmp_path)
    assert asyncio.run(find_disk(LocalStore(b"/"), here)) == disk_of(here) != ""


def found(
    before: list[bytes],
    there: list[bytes],
    *,
    unread: bool = False,
    sources: int = 1,
    later: bytes = b"",
    disk: str = "",
) -> NoLongerThere | None:
    """What is gone of files on record; each has ten bytes, and what ends in a slash is a directory."""

    def facts(path: bytes) -> Facts:
        return Facts(Kind.DIRECTORY if path.endswith(b"/") else Kind.FILE, 10, 0, 0o644)

    tree = Tree(b"/fen", Entries({b"": facts(b"/"), **{path.rstrip(b"/"): facts(path) for path in there}}))
    if unread:
        tree.unread[b"closed"] = Fault.DENIED
    record = {path.rstrip(b"/"): Expected(facts(path), None) for path in before}
    plan = SimpleNamespace(arrivals=[SimpleNamespace(name=b"fen", tree=tree)] * sources, unsettled=[later])
    return find_gone(OnRecordBefore({b"": None, **record}, "2026-12-01", "scratch"), cast(Plan, plan), disk)


def numbered(*numbers: int) -> list[bytes]:
    return [b"%03d" % number for number in range(*numbers)]


def test_what_is_gone_is_named_and_counted() -> None:
    gone = found([b"a", b"b", b"old/", b"old/c"], [b"a", b"new"])
    assert gone is not None
    assert (gone.labels, gone.paths) == ((b"fen/b", b"fen/old", b"fen/old/c"), (b"b", b"old/c"))
    assert (gone.files, gone.size, gone.recorded_at, gone.why) == (2, 20, "2026-12-01", None)
    only_a_directory = found([b"a", b"old/"], [b"a"])
    assert only_a_directory is not None and (only_a_directory.files, only_a_directory.paths) == (0, (b"old",))
    assert found([b"a"], [b"a", b"new"]) is None


def test_absence_that_was_not_seen_is_none() -> None:
    assert found([b"a", b"b"], [b"a"], unread=True) is None, "it may be in what could not be read"
    assert found([b"a", b"b"], [b"a"], sources=2) is None, "one record is of one tree"
    assert found([b"a", b"b"], [b"a"], later=b"fen/b") is None, "it has not settled"


@pytest.mark.parametrize(
    ("before", "there", "disk", "why"),
    [
        (numbered(2), [], "", WhyAsk.EMPTY),
        (numbered(19), numbered(9), "", None),
        (numbered(20), numbered(18), "", None),
        (numbered(20), numbered(17), "", WhyAsk.MANY),
        (numbered(2000), numbered(1900), "", None),
        (numbered(2000), numbered(1899), "", WhyAsk.MANY),
        (numbered(2), numbered(1), "scratch", None),
        (numbered(2), numbered(1), "campaign", WhyAsk.OTHER_DISK),
        ([b"a", b"old/"], [b"a"], "campaign", None),
        ([b"a", *(b"%03d/" % number for number in range(30))], [b"a"], "", None),
    ],
)
def test_why_a_person_is_asked(before: list[bytes], there: list[bytes], disk: str, why: WhyAsk | None) -> None:
    gone = found(before, there, disk=disk)
    assert gone is not None and gone.why is why
