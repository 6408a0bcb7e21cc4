"""On which disk a source is, as far as that can be known."""

from __future__ import annotations

import asyncio
import os
from pathlib import Path
from types import SimpleNamespace
from typing import Any, cast

import pytest

from yatagan.errors import StoreError
from yatagan.faults import Fault
from yatagan.planning.gone import find_disk
from yatagan.portable.disk_names import disk_of
from yatagan.portable.modules import DISKS
from yatagan.stores.interface import Store
from yatagan.stores.local import LocalStore


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
