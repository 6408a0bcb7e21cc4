"""Removing many files at once."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from itertools import islice

from yatagan.errors import FileTrouble
from yatagan.faults import Fault
from yatagan.stores.coalescing import gather_few
from yatagan.stores.interface import Store

#: Requests at once, and files that are held in memory meanwhile.
_AT_ONCE, _HANDFUL = 64, 5000

#: Hears of a file that could not be removed, and why.
Failed = Callable[[bytes, Fault, str], None]


def _unheard(path: bytes, fault: Fault, detail: str) -> None:
    """The default listener: does nothing."""


async def remove_files(store: Store, paths: Iterable[bytes], failed: Failed = _unheard) -> list[bytes]:
    """Remove files by their absolute paths. Returns those that are gone, in the order of asking.

    What cannot be removed stays, and `failed` hears of it. Raises StoreError when the connection is lost.
    """
    gone = set[bytes]()

    async def remove(path: bytes) -> None:
        try:
            await store.remove(path)
            gone.add(path)
        except FileTrouble as error:
            failed(path, error.fault, error.detail)

    asked, waiting = list[bytes](), iter(paths)
    while some := list(islice(waiting, _HANDFUL)):
        await gather_few(_AT_ONCE, map(remove, some))
        asked += some
    return [path for path in asked if path in gone]
