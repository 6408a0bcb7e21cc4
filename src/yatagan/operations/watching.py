"""Who sees how far an operation is: a view at a terminal, a notebook, or nobody."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Sequence
from contextlib import AbstractAsyncContextManager, AbstractContextManager
from enum import StrEnum
from typing import Protocol

from yatagan.errors import StoreError
from yatagan.faults import Fault
from yatagan.places import Place
from yatagan.stores.interface import Readable
from yatagan.trees.hashing_watcher import HashingWatcher, NoHashingWatcher
from yatagan.trees.patterns import Choice
from yatagan.trees.scan import Tree, scan, unheard


class Doing(StrEnum):
    """For what contents are read."""

    COMPARING = "comparing contents"
    VERIFYING = "verifying"
    LISTING = "hashing"
    LOOKING = "looking"
    BUNDLING = "bundling"
    BAGGING = "bagging"
    UNPACKING = "unpacking"
    CHECKING = "checking"


class Watcher(Protocol):
    """Sees how far an operation is."""

    def reading(self, places: Sequence[Place]) -> AbstractContextManager[Callable[[int], None]]:
        """While entries of these places are read; what it gives is called with how many more, and may raise."""

    def hashing(self, doing: Doing) -> AbstractAsyncContextManager[HashingWatcher]:
        """While contents are read; what it gives is called with how far that is."""


class Unwatched:
    """Nobody sees how far an operation is; see `Watcher`."""

    def reading(self, places: Sequence[Place]) -> AbstractContextManager[Callable[[int], None]]:
        return contextlib.nullcontext(unheard)

    def hashing(self, doing: Doing) -> AbstractAsyncContextManager[HashingWatcher]:
        return contextlib.nullcontext(NoHashingWatcher())


async def scan_place(store: Readable, where: Place, choice: Choice, watcher: Watcher) -> Tree:
    """Scan what is in a place. Raises StoreError, MISSING where there is nothing."""
    root = await store.resolve(where.path, follow=True)
    with watcher.reading([where]) as heard:
        tree = await scan(store, root, choice=choice, heard=heard)
    if not tree.entries:
        raise StoreError(Fault.MISSING, root, store=where.node)
    return tree
