"""The directories under `.yatagan-kept/BATCH/` that hold what was replaced.

They repeat the paths of what they hold, and permit no more than the directories that it comes from: not to their owner,
to their group, or to others.
"""

from __future__ import annotations

import contextlib
import posixpath
from collections.abc import Awaitable, Callable, Collection

from yatagan.errors import FileTrouble, StoreError
from yatagan.faults import Fault
from yatagan.places import KEPT_DIRECTORY
from yatagan.portable.unpack_directories import kept_mode
from yatagan.stores.interface import Kind, Store


async def _unchecked(path: bytes) -> None:
    """The default check: none."""


class KeptDirectories:
    """Directories for what one batch replaces below `top`, made when they are needed.

    `check` is called before a directory is made, and may raise.
    """

    def __init__(
        self, store: Store, top: bytes, batch: bytes, check: Callable[[bytes], Awaitable[None]] = _unchecked
    ) -> None:
        self._store = store
        self._top = top
        self._base = posixpath.join(top, KEPT_DIRECTORY, batch)
        self._check = check
        self._made: set[bytes] = set()

    async def path_for(self, relative: bytes) -> bytes:
        """The path under which something of `top` is kept. Makes the directories for it. Raises StoreError."""
        above = posixpath.dirname(relative)
        await self._make(posixpath.dirname(self._base), self._top)
        await self._make(self._base, self._top)
        names = above.split(b"/") if above else []
        for depth in range(1, len(names) + 1):
            below = b"/".join(names[:depth])
            await self._make(posixpath.join(self._base, below), posixpath.join(self._top, below))
        return self.path_of(relative)

    def path_of(self, relative: bytes) -> bytes:
        """The path under which something of `top` is kept."""
        return posixpath.join(self._base, relative)

    async def remove_empty(self, directories: Collection[bytes]) -> None:
        """Remove these directories, and those above them, as far as they are empty."""
        for directory in directories:
            with contextlib.suppress(StoreError):
                while directory != self._top:
                    await self._store.remove_directory(directory)
                    self._made.discard(directory)
                    directory = posixpath.dirname(directory)

    async def _make(self, path: bytes, origin: bytes) -> None:
        """Make a directory for what comes out of `origin`."""
        if path in self._made:
            return
        await self._check(path)
        try:
            await self._store.make_directory(path, 0o700)
        except StoreError as error:
            if error.fault is not Fault.EXISTS:
                raise
            await self._refuse_other(path)
        else:
            await self._open_as(path, origin)
        # A power cut that takes this directory away would take with it what is kept in it.
        await self._store.sync_directory(posixpath.dirname(path))
        self._made.add(path)

    async def _refuse_other(self, path: bytes) -> None:
        """Raise StoreError, about this very path, where something else has the name: a planted link, say."""
        found = await self._store.look(path)
        if found is not None and found.kind is not Kind.DIRECTORY:
            fault = Fault.IS_LINK if found.kind is Kind.LINK else Fault.NOT_A_DIRECTORY
            raise StoreError(fault, path, store=self._store.name)

    async def _open_as(self, path: bytes, origin: bytes) -> None:
        """Give a new directory the permissions of its origin, as far as that admits no one who is not admitted there.

        Where that fails it stays closed to all but its owner, which is no reason not to keep anything.
        """
        try:
            made, model = await self._store.look(path), await self._store.look(origin)
            if made is None or model is None:
                return
            group = await self._store.group(path)
            same = group is not None and group == await self._store.group(origin)
            await self._store.set_facts(path, mode=kept_mode(made.mode, model.mode, same_group=same), mtime_ns=None)
        except FileTrouble:
            pass
